package agent

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/steps"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// Times of probes.
const (
	probeWithin = 10 * time.Second
	probeTick   = time.Second
	probeAtOnce = 8
)

// watch looks at what the service asks for, connected or not, and remembers it through restarts.
type watch struct {
	mu       sync.Mutex
	path     string
	settings link.Settings
	latest   map[device.Probe]device.ProbeResult // by probe with Every 0
	next     map[device.Probe]time.Time
}

func (w *watch) open(path string) {
	w.path, w.latest, w.next = path, map[device.Probe]device.ProbeResult{}, map[device.Probe]time.Time{}
	if text, err := os.ReadFile(path); err == nil {
		json.Unmarshal(text, &w.settings) // damaged settings are read anew from the service
	}
}

func bare(p device.Probe) device.Probe { p.Every = 0; return p }

// set takes new settings, and keeps them.
func (w *watch) set(s link.Settings) error {
	s.Probes = s.Probes[:min(len(s.Probes), device.MaxProbes)]
	w.mu.Lock()
	defer w.mu.Unlock()
	w.settings = s
	for p := range w.latest {
		if !slices.ContainsFunc(s.Probes, func(q device.Probe) bool { return bare(q) == p }) {
			delete(w.latest, p)
			delete(w.next, p)
		}
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return atomicfile.Write(w.path, text, atomicfile.Soon)
}

// results are the latest of every probe that was made.
func (w *watch) results() (all []device.ProbeResult) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.settings.Probes {
		if r, ok := w.latest[bare(p)]; ok {
			all = append(all, r)
		}
	}
	return all
}

// run makes probes as they fall due, until ctx ends.
func (w *watch) run(ctx context.Context, h host.Host) {
	tick := time.NewTicker(probeTick)
	defer tick.Stop()
	slots := make(chan struct{}, probeAtOnce)
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			for _, p := range w.due(now) {
				select {
				case slots <- struct{}{}:
				case <-ctx.Done():
					return
				}
				go func() {
					defer func() { <-slots }()
					w.probe(ctx, h, p)
				}()
			}
		}
	}
}

// due takes the probes whose time has come, and sets their next time.
func (w *watch) due(now time.Time) (due []device.Probe) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.settings.Probes {
		id := bare(p)
		if now.Before(w.next[id]) {
			continue
		}
		w.next[id] = now.Add(max(time.Duration(p.Every)*time.Second, device.MinProbe*time.Second, probeWithin))
		due = append(due, p)
	}
	return due
}

func (w *watch) probe(ctx context.Context, h host.Host, p device.Probe) {
	within, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	var r device.ProbeResult
	if p.Kind == device.ProbeSetting {
		r = steps.Probe(within, h, p.Target)
	} else {
		r = h.Prober.Probe(within, p)
	}
	if ctx.Err() != nil {
		return
	}
	r.Kind, r.Target, r.Pattern, r.At = p.Kind, p.Target, p.Pattern, time.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.latest[bare(p)] = r
}

func (w *watch) digest() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.settings.Digest
}

// settle reads the settings from the service when they are not those of a digest.
func (a *Agent) settle(ctx context.Context, service caller, digest string) {
	if digest == "" || digest == a.watch.digest() {
		return
	}
	var s link.Settings
	err := service.call(ctx, http.MethodGet, "/settings", nil, &s)
	before := a.watch.agent()
	if err == nil {
		err = a.watch.set(s)
	}
	if err != nil {
		a.Log.Warn("the settings cannot be taken; trying again with the next report", "error", err)
		return
	}
	if !slices.Equal(before.Withhold, s.Agent.Withhold) {
		a.Log.Info("what this agent offers has changed: connecting anew", "withheld", s.Agent.Withhold)
		a.drop()
	}
}

// agent is how the service asks this agent to behave.
func (w *watch) agent() health.Agent {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.settings.Agent
}

// pace is how often this agent reports.
func (a *Agent) pace() time.Duration {
	if s := a.watch.agent().ReportSeconds; s > 0 {
		return time.Duration(s) * time.Second
	}
	return a.Every
}
