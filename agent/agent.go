// Package agent is the program on a device: it holds the link to the service, reports what the
// device is and how it fares, and carries out what the service calls for over the link. What an
// operating system must do for it stands behind package host.
package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"sync"
	"time"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/identity"
	"moorwatch.example/agent/renewal"
	"moorwatch.example/agent/reporting"
	"moorwatch.example/agent/running"
	"moorwatch.example/agent/serving"
	"moorwatch.example/agent/setup"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/release"
)

// livesWell is how long a connection must hold for the next to be made without a longer pause:
// some networks cut every few seconds.
const livesWell = 2 * time.Second

// Agent is one device's agent.
type Agent struct {
	Dir  string
	Host host.Host
	Log  *slog.Logger
	// Every is how often it reports; reporting.Every when 0.
	Every time.Duration
	// Connected, when set, is called after each connection is proved.
	Connected func()
	// Place is where the program stands that is renewed, and Again has the new one run in place of it;
	// without Again the agent does not renew itself.
	Place setup.Place
	// Program is the agent's own, which opens consoles in a process with fewer rights; consoles are opened in this
	// process where it is "".
	Program string
	Again   func()

	identity identity.Identity
	reporter *reporting.Reporter
	runs     *running.Runs // nil where the host runs nothing
	server   *serving.Server
	service  calls.Current
	proved   time.Time // when the connection of now was proved
	started  time.Time
	first    chan struct{} // closed at the first connection
	computer device.Facts  // that it runs on, as its name and hardware are shown with its key
}

// Run holds the link and reports until ctx ends. It fails only when the agent's folder cannot be
// used.
func (a *Agent) Run(ctx context.Context) error {
	for {
		err := a.live(ctx)
		var another *link.Refusal
		if !errors.As(err, &another) {
			return err
		}
		if err := a.become(ctx, another); err != nil {
			a.Log.Error("the agent cannot become what the service says that it is", "error", err)
			if !calls.Sleep(ctx, time.Minute) {
				return nil
			}
		}
	}
}

// become takes the identity that a refusal gives, with which the agent begins anew.
func (a *Agent) become(ctx context.Context, r *link.Refusal) error {
	if r.Device != "" {
		a.Log.Info("going on as another device, whose hardware this is", "device", r.Device)
		return identity.Rename(a.Dir, r.Device)
	}
	i, err := identity.Anew(ctx, a.Dir, r.Anew, a.computer)
	if err == nil {
		a.Log.Info("this is a copy, and is a device of its own now", "device", i.Device)
	}
	return err
}

// live is one life under one identity. A *link.Refusal is what ends it when the service gives another.
func (a *Agent) live(ctx context.Context) error {
	ctx, end := context.WithCancel(ctx)
	var working sync.WaitGroup
	defer working.Wait() // nothing is written to the folder any more
	defer func() {
		if a.runs != nil {
			a.runs.Close()
		}
	}()
	defer end()
	h, err := a.open(ctx)
	if err != nil {
		return err
	}
	working.Go(func() { a.reporter.Run(ctx) })
	if a.computer, err = a.Host.Informer.Facts(ctx); err != nil {
		a.Log.Warn("what this computer is cannot be read", "error", err)
	}
	for failures := 0; ; {
		a.proved = time.Time{}
		err := a.connect(ctx, h)
		if ctx.Err() != nil {
			return nil
		}
		var refusal *link.Refusal
		if errors.As(err, &refusal) && refusal.Status == http.StatusMisdirectedRequest && (refusal.Device != "" || refusal.Anew != "") {
			return refusal
		}
		if !a.proved.IsZero() && time.Since(a.proved) > livesWell {
			failures = 0
		}
		wait := pause(failures, err)
		failures++
		a.Log.Warn("not connected", "service", a.identity.Service, "error", err, "again_in", wait.Round(time.Millisecond))
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
	}
}

// open makes the rooms of a life from what is kept in the agent's folder, and returns the host that they share.
func (a *Agent) open(ctx context.Context) (h host.Host, err error) {
	h = a.Host
	if a.identity, err = identity.Load(a.Dir); err != nil {
		return h, err
	}
	every := a.Every
	if every == 0 {
		every = reporting.Every
	}
	a.started, a.first = time.Now(), make(chan struct{})
	if err := (setup.Life{Version: release.Version, PID: os.Getpid(), Started: a.started}).Tell(a.Dir); err != nil {
		a.Log.Warn("how the agent fares cannot be written", "error", err)
	}
	if a.Again != nil {
		h.Updates = &renewal.Renewal{Updates: h.Updates, Service: calls.Releases{Service: &a.service}, Place: a.Place,
			Version: release.Version, Keys: release.Keys(release.Built), Log: a.Log, Again: a.Again, Connected: a.first}
	}
	if a.reporter, err = reporting.Open(a.Dir, h, a.Log, every); err != nil {
		return h, err
	}
	a.runs = nil
	if h.Runner != nil {
		if a.runs, err = running.Open(ctx, running.Config{Dir: a.Dir, Host: h, Log: a.Log, Seed: a.identity.Seed, Service: &a.service,
			Settings: a.reporter.Settings().Agent, Patched: a.reporter.UpdatesChanged,
			Installed: a.reporter.InventoryChanged}); err != nil {
			return h, err
		}
	}
	a.server, err = serving.Open(ctx, serving.Config{Dir: a.Dir, Host: h, Log: a.Log, Runs: a.runs, Report: a.reporter,
		Dialer: a.identity.Dialer, Program: a.Program})
	return h, err
}

// pause is how long to wait after so many failures in a row: up to 1 s at first, doubling to at
// most 20 s, anywhere between nothing and that, so that a fleet does not return as one. A device
// that is refused for what it is waits longer.
func pause(failures int, err error) time.Duration {
	most := min(time.Second<<min(failures, 10), 20*time.Second)
	var refusal *link.Refusal
	if errors.As(err, &refusal) {
		switch refusal.Status {
		case http.StatusConflict:
			return 5*time.Minute + rand.N(time.Minute)
		case http.StatusTooEarly: // a person is asked
			return 20*time.Second + rand.N(20*time.Second)
		case http.StatusUnauthorized:
			return 10*time.Minute + rand.N(time.Minute)
		}
	}
	return rand.N(most) + 50*time.Millisecond
}

// connect makes one connection and holds it until it ends.
func (a *Agent) connect(ctx context.Context, h host.Host) error {
	dialer := a.identity.Dialer()
	if a.computer.HostName == "" { // a device that tells less of itself than before is taken for a copy
		if facts, err := a.Host.Informer.Facts(ctx); err == nil {
			a.computer = facts
		}
	}
	dialer.HostName, dialer.Hardware = a.computer.HostName, a.computer.Hardware
	dialer.Mark, dialer.Keep = identity.Mark(a.Dir), func(mark string) error { return identity.KeepMark(a.Dir, mark) }
	l, err := dialer.Dial(ctx)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer l.Close()
	go func() {
		select {
		case <-ctx.Done():
		case <-l.Done():
			cancel()
		}
		l.Close()
	}()
	a.proved = time.Now()
	a.Log.Info("connected", "service", a.identity.Service)
	select {
	case <-a.first:
	default:
		close(a.first)
	}
	if err := (setup.Life{Version: release.Version, PID: os.Getpid(), Started: a.started, Connected: a.proved}).Tell(a.Dir); err != nil {
		a.Log.Warn("how the agent fares cannot be written", "error", err)
	}
	if a.Connected != nil {
		a.Connected()
	}
	service := calls.Over(l)
	a.service.Set(service, ctx.Done())
	offered := h.Without(a.reporter.Settings().Agent().Withhold)
	var sending sync.WaitGroup
	sending.Go(func() { a.reporter.Send(ctx, service, offered, cancel) })
	if a.runs != nil {
		sending.Go(func() { a.runs.Tell(ctx, service) })
	}
	err = serving.HTTP(ctx, a.server.Handler(service, offered), a.Log).Serve(l.Listener())
	cancel()
	sending.Wait()
	return fmt.Errorf("the connection ended: %w", err)
}
