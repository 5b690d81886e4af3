// Package reporting is what a device tells of itself without being asked: its facts, its vital signs, the probes that
// policies ask for, what it consists of, and which updates it is offered. What cannot be sent is kept.
package reporting

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"time"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/spool"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/release"
)

// Every is how often a device reports, unless a policy says otherwise.
const Every = 30 * time.Second

// readWithin is how long a reading of the device may take.
const readWithin = 10 * time.Second

// Reporter reports for one device.
type Reporter struct {
	host      host.Host
	log       *slog.Logger
	every     time.Duration
	settings  *Settings
	spool     *spool.Spool
	inventory keeper
	fresh     chan struct{} // a report waits to be sent
	stale     chan struct{} // the inventory is another than the service has
	patched   chan struct{} // the updates may be
	asked     time.Time     // when the sources of updates were asked
}

// Open takes up what is kept in a folder. every is how often it reports.
func Open(dir string, h host.Host, log *slog.Logger, every time.Duration) (*Reporter, error) {
	kept, err := spool.Open(dir)
	if err != nil {
		return nil, fmt.Errorf("opening the spool: %w", err)
	}
	return &Reporter{host: h, log: log, every: every, settings: openSettings(filepath.Join(dir, "settings.json")), spool: kept,
		inventory: keeper{path: filepath.Join(dir, "inventory.json")}, fresh: make(chan struct{}, 1), stale: make(chan struct{}, 1),
		patched: make(chan struct{}, 1)}, nil
}

// Settings are what the service asks of this agent.
func (r *Reporter) Settings() *Settings { return r.settings }

// Run reads the device and probes what is to be probed, connected or not, until ctx ends.
func (r *Reporter) Run(ctx context.Context) {
	var working sync.WaitGroup
	defer working.Wait()
	if r.host.Prober != nil {
		working.Go(func() { r.settings.run(ctx, r.host) })
	}
	if r.host.Meter != nil {
		working.Go(func() { r.measure(ctx) })
	}
}

// Send reports over a connection until ctx ends. offered is what the device offers; anew is called where that is
// another from now on, and the agent is to connect anew.
func (r *Reporter) Send(ctx context.Context, service calls.Service, offered host.Host, anew func()) {
	var sending sync.WaitGroup
	defer sending.Wait()
	sending.Go(func() { r.report(ctx, service, offered, anew) })
	if r.host.Lister != nil {
		sending.Go(func() { r.keepInventory(ctx, service) })
	}
	if offered.Updates != nil {
		sending.Go(func() { r.keepUpdates(ctx, service) })
	}
}

func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// measure reads the device at each pace and keeps the report, connected or not.
func (r *Reporter) measure(ctx context.Context) {
	// Devices that start together do not report together.
	timer := time.NewTimer(rand.N(min(r.every, time.Second)))
	defer timer.Stop()
	for complained := false; ; {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		timer.Reset(r.pace())
		v, err := Read(ctx, r.host.Meter)
		if noter, ok := r.host.Processes.(host.Noter); ok {
			noter.Note(ctx)
		}
		if err == nil {
			v.Probes, v.SpoolReports = r.settings.results(), r.spool.Len()
			err = r.spool.Add(v)
		}
		if err != nil && !complained {
			r.log.Error("a report was not kept as it should be", "error", err)
		}
		complained = err != nil
		poke(r.fresh)
	}
}

// Read reads the device within 10 s.
func Read(ctx context.Context, m host.Meter) (device.Vitals, error) {
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	return m.Vitals(ctx)
}

// report sends facts once and reports as they come, until ctx ends.
func (r *Reporter) report(ctx context.Context, service calls.Service, offered host.Host, anew func()) {
	for r.sendFacts(ctx, service, offered) != nil {
		if !calls.Sleep(ctx, time.Second+rand.N(2*time.Second)) {
			return
		}
	}
	for {
		if err := r.sendReports(ctx, service, anew); err != nil {
			r.log.Warn("reports are kept and sent later", "error", err)
			if !calls.Sleep(ctx, 2*time.Second+rand.N(3*time.Second)) {
				return
			}
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-r.fresh:
		}
	}
}

func (r *Reporter) sendFacts(ctx context.Context, service calls.Service, offered host.Host) error {
	f, err := r.host.Informer.Facts(ctx)
	if err != nil {
		r.log.Error("this device's facts cannot be read", "error", err)
		return err
	}
	f.AgentVersion, f.Capabilities = release.Version, offered.Capabilities()
	if err := service.Post(ctx, "/facts", f, nil); err != nil {
		r.log.Warn("facts cannot be sent", "error", err)
		return err
	}
	return nil
}

// sendReports sends all that is kept.
func (r *Reporter) sendReports(ctx context.Context, service calls.Service, anew func()) error {
	for {
		epoch, reports, err := r.spool.Next()
		if err != nil {
			return fmt.Errorf("reading the spool: %w", err)
		}
		if len(reports) == 0 {
			return nil
		}
		var receipt link.Receipt
		if err := service.Tell(ctx, "/reports", link.Batch{Epoch: epoch, Sent: time.Now(), Reports: reports}, &receipt); err != nil {
			return err
		}
		for _, no := range receipt.Refused {
			r.log.Error("the service refused a report", "number", no.Seq, "reason", no.Reason)
		}
		if receipt.Through < reports[len(reports)-1].Seq {
			return fmt.Errorf("the service stored reports up to %d of %d", receipt.Through, reports[len(reports)-1].Seq)
		}
		if err := r.spool.Forget(epoch, receipt.Through); err != nil {
			r.log.Error("the spool cannot be written; what is left of it is kept in memory", "error", err)
		}
		r.settle(ctx, service, receipt.Settings, anew)
	}
}

// pace is how often this agent reports.
func (r *Reporter) pace() time.Duration {
	if s := r.settings.Agent().ReportSeconds; s > 0 {
		return time.Duration(s) * time.Second
	}
	return r.every
}
