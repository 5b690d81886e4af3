// Package host is what an operating system offers to the agent: one small interface a capability,
// with an implementation for each system in a folder below, and a simulated one for the sample
// fleet. No other package of the agent calls an operating system.
package host

import (
	"context"
	"io"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
)

// Host is what one computer offers. A capability that it lacks is nil, and the agent does not
// list it in the device's facts.
type Host struct {
	Informer  Informer  // never nil
	Meter     Meter     // capability "vitals"
	Runner    Runner    // capability "commands"
	Terminals Terminals // capability "shell"
	Lister    Lister    // capability "inventory"
	Prober    Prober    // capability "probes"
	Asker     Asker     // capability "questions"
}

// Capabilities lists what the host offers, as facts name it.
func (h Host) Capabilities() []string {
	list := []string{}
	if h.Meter != nil {
		list = append(list, device.CapabilityVitals)
	}
	if h.Runner != nil {
		list = append(list, device.CapabilityCommands)
	}
	if h.Terminals != nil {
		list = append(list, device.CapabilityShell)
	}
	if h.Lister != nil {
		list = append(list, device.CapabilityInventory)
	}
	if h.Prober != nil {
		list = append(list, device.CapabilityProbes)
	}
	if h.Asker != nil {
		list = append(list, device.CapabilityQuestions)
	}
	return list
}

// Informer tells what the computer is.
type Informer interface {
	// Facts is called at each connection. What cannot be found out is left empty; an error means
	// that nothing could. The agent fills in its own version and capabilities.
	Facts(ctx context.Context) (device.Facts, error)
}

// Meter reads the computer's vital signs.
type Meter interface {
	// Vitals returns the readings of now. Rates and CPU are means since the reading before, or
	// over a moment at the first. It is not called twice at once; each reader has a Meter of its
	// own through Another.
	Vitals(ctx context.Context) (device.Vitals, error)
	// Another returns a Meter whose rates do not depend on this one's readings.
	Another() Meter
}

// Lister lists what the computer consists of.
type Lister interface {
	// Items returns the items of every section of core/inventory that can be read; what cannot is
	// left out. What changes by itself, such as counters, is no part of it. It is not called twice
	// at once.
	Items(ctx context.Context) ([]inventory.Item, error)
}

// Prober looks at what policies ask to be watched.
type Prober interface {
	// Probe looks once. What goes wrong is told in the result, with Kind, Target and Pattern as in
	// the probe. Probes of the same target are not made at once; others may be.
	Probe(ctx context.Context, p device.Probe) device.ProbeResult
}

// Asker answers questions that are put to many devices at once: those about processes, services,
// ports, files and the registry. The agent answers the others.
type Asker interface {
	// Ask answers within a second or two, or when ctx ends with its error. A question that the
	// system has no answer to, such as one about a registry, is an error that says so.
	Ask(ctx context.Context, q link.Question) (link.Answer, error)
}

// Runner runs programs unseen by the computer's user.
type Runner interface {
	// Run starts a program and returns once it and what it started have ended, with its exit
	// status (128 + the signal's number when a signal ended it). Output is written to stdout and
	// stderr as it comes, each from one goroutine; an error of theirs ends the program. When ctx
	// ends, the program and all that it started are killed, and Run returns context.Cause(ctx).
	// Any other error means that it could not be started.
	Run(ctx context.Context, c link.Command, stdout, stderr io.Writer) (exit int, err error)
}

// Terminals opens terminals with a shell in them.
type Terminals interface {
	// Open starts a shell in a new terminal. When ctx ends the shell is hung up.
	Open(ctx context.Context, size link.TerminalSize) (Terminal, error)
}

// Terminal is one open terminal. Read and Write may be called at once; Read returns io.EOF when
// the shell has ended and all it printed was read.
type Terminal interface {
	io.ReadWriteCloser
	Resize(size link.TerminalSize) error
	// Wait returns the shell's exit status once it has ended.
	Wait() (exit int)
}
