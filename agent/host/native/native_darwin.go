// Package native chooses the host of the system that the agent is built for.
package native

import (
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/darwin"
)

// New returns what this computer offers.
func New() host.Host { return darwin.New() }

// Helper is the command that makes the agent's program a helper in a person's session: this system
// needs none.
const Helper = ""

// Help is not called here.
func Help([]string) error { return nil }
