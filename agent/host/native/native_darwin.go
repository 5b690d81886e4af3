// Package native chooses the host of the system that the agent is built for.
package native

import (
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/darwin"
	"moorwatch.example/agent/host/darwin/quartz"
	"moorwatch.example/agent/host/helper"
)

// New returns what this computer offers.
func New() host.Host { return darwin.New() }

// Helper is the command that makes the agent's program a helper in a person's session, and Help what
// it does then.
const Helper = helper.Argument

// Help serves the desktop of this session to the agent that started it.
func Help([]string) error { return darwin.Help(quartz.Desk{}) }
