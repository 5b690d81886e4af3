// Package native chooses the host of the system that the agent is built for.
package native

import (
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/linux"
)

// New returns what this computer offers.
func New() host.Host { return linux.New() }
