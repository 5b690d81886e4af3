package reporting

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/calls"
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

// Settings are what the service asks of this agent, remembered through restarts, and what came of the probes that it
// asks for.
type Settings struct {
	mu       sync.Mutex
	path     string
	settings link.Settings
	latest   map[device.Probe]device.ProbeResult // by probe with Every 0
	next     map[device.Probe]time.Time
}

func openSettings(path string) *Settings {
	w := &Settings{path: path, latest: map[device.Probe]device.ProbeResult{}, next: map[device.Probe]time.Time{}}
	if text, err := os.ReadFile(path); err == nil {
		json.Unmarshal(text, &w.settings) // damaged settings are read anew from the service
	}
	return w
}

func bare(p device.Probe) device.Probe { p.Every = 0; return p }

// set takes new settings, and keeps them.
func (w *Settings) set(s link.Settings) error {
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
func (w *Settings) results() (all []device.ProbeResult) {
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
func (w *Settings) run(ctx context.Context, h host.Host) {
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
func (w *Settings) due(now time.Time) (due []device.Probe) {
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

func (w *Settings) probe(ctx context.Context, h host.Host, p device.Probe) {
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

func (w *Settings) digest() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.settings.Digest
}

// settle reads the settings from the service when they are not those of a digest. anew has the agent connect anew.
func (r *Reporter) settle(ctx context.Context, service calls.Service, digest string, anew func()) {
	if digest == "" || digest == r.settings.digest() {
		return
	}
	var s link.Settings
	err := service.Call(ctx, http.MethodGet, "/settings", nil, &s)
	before := r.settings.Agent()
	if err == nil {
		err = r.settings.set(s)
	}
	if err != nil {
		r.log.Warn("the settings cannot be taken; trying again with the next report", "error", err)
		return
	}
	if !slices.Equal(before.Withhold, s.Agent.Withhold) {
		r.log.Info("what this agent offers has changed: connecting anew", "withheld", s.Agent.Withhold)
		anew()
	}
}

// Agent is how the service asks this agent to behave.
func (w *Settings) Agent() health.Agent {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.settings.Agent
}
