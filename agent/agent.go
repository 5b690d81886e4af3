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
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"moorwatch.example/agent/console"
	"moorwatch.example/agent/files"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/identity"
	"moorwatch.example/agent/renewal"
	"moorwatch.example/agent/screen"
	"moorwatch.example/agent/setup"
	"moorwatch.example/agent/spool"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/release"
	"moorwatch.example/uplink"
)

// Paces of an agent.
const (
	ReportEvery = 30 * time.Second
	LiveEvery   = 2 * time.Second
	readWithin  = 10 * time.Second // a reading of the device
	sendWithin  = 30 * time.Second // a call of the service
	// livesWell is how long a connection must hold for the next to be made without a longer pause:
	// some networks cut every few seconds.
	livesWell = 2 * time.Second
)

// Agent is one device's agent.
type Agent struct {
	Dir  string
	Host host.Host
	Log  *slog.Logger
	// Every is how often it reports; ReportEvery when 0.
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
	spool    *spool.Spool
	orders   *orders
	fresh    chan struct{} // a report waits to be sent
	stale    chan struct{} // the inventory is another than the service has
	patched  chan struct{} // the updates may be
	asked    time.Time     // when the sources of updates were asked
	keeper   keeper
	watch    watch
	files    *files.Files
	shells   shells
	lanes    lanes
	screens  *screen.Server
	runs     *runs
	service  current
	drop     context.CancelFunc // ends the connection of now
	life     context.Context    // of the agent, which shells share
	proved   time.Time          // when the connection of now was proved
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
			if !sleep(ctx, time.Minute) {
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
	var err error
	a.life = ctx
	var working sync.WaitGroup
	defer working.Wait() // nothing is written to the folder any more
	defer end()
	defer func(own host.Updates) { a.Host.Updates = own }(a.Host.Updates)
	if a.identity, err = identity.Load(a.Dir); err != nil {
		return err
	}
	if a.spool, err = spool.Open(a.Dir); err != nil {
		return fmt.Errorf("opening the spool: %w", err)
	}
	if a.orders, err = openOrders(a.Dir); err != nil {
		return fmt.Errorf("reading the orders carried out: %w", err)
	}
	if a.Every == 0 {
		a.Every = ReportEvery
	}
	a.started, a.first = time.Now(), make(chan struct{})
	if err := (setup.Life{Version: release.Version, PID: os.Getpid(), Started: a.started}).Tell(a.Dir); err != nil {
		a.Log.Warn("how the agent fares cannot be written", "error", err)
	}
	if a.Again != nil {
		a.Host.Updates = &renewal.Renewal{Updates: a.Host.Updates, Service: releases{&a.service}, Place: a.Place, Version: release.Version,
			Keys: release.Keys(release.Built), Log: a.Log, Again: a.Again, Connected: a.first}
	}
	a.fresh, a.stale, a.patched = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{}, 1)
	a.keeper.path = filepath.Join(a.Dir, "inventory.json")
	a.watch.open(filepath.Join(a.Dir, "settings.json"))
	if a.Host.Disk != nil {
		a.files = files.New(a.Host.Disk, a.Dir)
		a.files.Tidy(time.Now())
	}
	if a.Host.Screens != nil {
		a.screens = &screen.Server{Screens: a.Host.Screens, Log: a.Log, Dir: a.Dir}
		if a.Program != "" {
			a.screens.Consoles = console.Apart(a.Program)
		}
		a.screens.Begin()
	}
	if a.Host.Runner != nil {
		var err error
		if a.runs, err = a.openRuns(ctx); err != nil {
			return err
		}
		defer func() { end(); a.runs.working.Wait() }()
	}
	if a.Host.Prober != nil {
		working.Go(func() { a.watch.run(ctx, a.Host) })
	}
	if a.Host.Meter != nil {
		working.Go(func() { a.measure(ctx) })
	}
	if a.computer, err = a.Host.Informer.Facts(ctx); err != nil {
		a.Log.Warn("what this computer is cannot be read", "error", err)
	}
	for failures := 0; ; {
		a.proved = time.Time{}
		err := a.connect(ctx)
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
func (a *Agent) connect(ctx context.Context) error {
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
	transport := uplink.Transport(func(ctx context.Context, _ string) (net.Conn, error) { return l.Open(ctx) })
	// half a minute lies between two calls; a stream kept open would cost the service more than a new one
	transport.DisableKeepAlives = true
	service := caller{&http.Client{Transport: transport}, l}
	a.service.set(service, ctx.Done())
	a.drop = cancel
	offered := a.Host.Without(a.watch.agent().Withhold)
	var sending sync.WaitGroup
	sending.Go(func() { a.report(ctx, service, offered) })
	if a.Host.Lister != nil {
		sending.Go(func() { a.keepInventory(ctx, service) })
	}
	if offered.Updates != nil {
		sending.Go(func() { a.keepUpdates(ctx, service) })
	}
	if a.runs != nil {
		sending.Go(func() { a.runs.tell(ctx, service) })
	}
	err = a.server(ctx, a.handler(service, offered)).Serve(l.Listener())
	cancel()
	sending.Wait()
	return fmt.Errorf("the connection ended: %w", err)
}

// server serves what the service calls over one link, until ctx ends.
func (a *Agent) server(ctx context.Context, handler http.Handler) *http.Server {
	return &http.Server{Handler: handler, ReadHeaderTimeout: 30 * time.Second, IdleTimeout: 15 * time.Second, MaxHeaderBytes: 8 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(a.Log.Handler(), slog.LevelDebug)}
}

// measure reads the device at each pace and keeps the report, connected or not.
func (a *Agent) measure(ctx context.Context) {
	// Devices that start together do not report together.
	timer := time.NewTimer(rand.N(min(a.Every, time.Second)))
	defer timer.Stop()
	for complained := false; ; {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		timer.Reset(a.pace())
		v, err := a.read(ctx, a.Host.Meter)
		if noter, ok := a.Host.Processes.(host.Noter); ok {
			noter.Note(ctx)
		}
		if err == nil {
			v.Probes, v.SpoolReports = a.watch.results(), a.spool.Len()
			err = a.spool.Add(v)
		}
		if err != nil && !complained {
			a.Log.Error("a report was not kept as it should be", "error", err)
		}
		complained = err != nil
		select {
		case a.fresh <- struct{}{}:
		default:
		}
	}
}

func (a *Agent) read(ctx context.Context, m host.Meter) (device.Vitals, error) {
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	return m.Vitals(ctx)
}

// report sends facts once and reports as they come, until ctx ends.
func (a *Agent) report(ctx context.Context, service caller, offered host.Host) {
	for a.sendFacts(ctx, service, offered) != nil {
		if !sleep(ctx, time.Second+rand.N(2*time.Second)) {
			return
		}
	}
	for {
		if err := a.sendReports(ctx, service); err != nil {
			a.Log.Warn("reports are kept and sent later", "error", err)
			if !sleep(ctx, 2*time.Second+rand.N(3*time.Second)) {
				return
			}
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-a.fresh:
		}
	}
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (a *Agent) sendFacts(ctx context.Context, service caller, offered host.Host) error {
	f, err := a.Host.Informer.Facts(ctx)
	if err != nil {
		a.Log.Error("this device's facts cannot be read", "error", err)
		return err
	}
	f.AgentVersion, f.Capabilities = release.Version, offered.Capabilities()
	if err := service.post(ctx, "/facts", f, nil); err != nil {
		a.Log.Warn("facts cannot be sent", "error", err)
		return err
	}
	return nil
}

// sendReports sends all that is kept.
func (a *Agent) sendReports(ctx context.Context, service caller) error {
	for {
		epoch, reports, err := a.spool.Next()
		if err != nil {
			return fmt.Errorf("reading the spool: %w", err)
		}
		if len(reports) == 0 {
			return nil
		}
		var receipt link.Receipt
		if err := service.tell(ctx, "/reports", link.Batch{Epoch: epoch, Sent: time.Now(), Reports: reports}, &receipt); err != nil {
			return err
		}
		for _, r := range receipt.Refused {
			a.Log.Error("the service refused a report", "number", r.Seq, "reason", r.Reason)
		}
		if receipt.Through < reports[len(reports)-1].Seq {
			return fmt.Errorf("the service stored reports up to %d of %d", receipt.Through, reports[len(reports)-1].Seq)
		}
		if err := a.spool.Forget(epoch, receipt.Through); err != nil {
			a.Log.Error("the spool cannot be written; what is left of it is kept in memory", "error", err)
		}
		a.settle(ctx, service, receipt.Settings)
	}
}
