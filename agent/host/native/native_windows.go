// Package native chooses the host of the system that the agent is built for.
package native

import (
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/helper"
	"moorwatch.example/agent/host/windows"
)

// New returns what this computer offers.
func New() host.Host { return windows.New() }

// Helper is the command that makes the agent's program a helper in a person's session, and Help what
// it does then.
const Helper = helper.Argument

// Help serves the desktop of this session to the agent that started it.
func Help(args []string) error { return windows.Help(args) }
