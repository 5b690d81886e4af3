// Package health is the column of judgement: it judges devices after something about them changed,
// by the checks that policies set for them; keeps their findings and alerts; shows what needs a
// person; and tells those whom rules name. Its rules are in core/health and core/calendar.
package health

import (
	"context"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/core/series"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/part"
	"moorwatch.example/service/post"
)

// Fleet is what this column asks and tells of devices.
type Fleet interface {
	front.Visibility
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
	Devices(ctx context.Context, ids []uuid.UUID) ([]api.Device, error)
	// Scopes returns the devices that a scope covers.
	Scopes(ctx context.Context, s health.Scope) ([]api.Device, error)
	// KnownScope refuses a scope that is not there.
	KnownScope(ctx context.Context, s health.Scope) error
	// Place is where a device stands among the scopes of policies.
	Place(ctx context.Context, id uuid.UUID) (health.Place, error)
	// Software tells which software a device has; nil where that is not known.
	Software(id uuid.UUID) health.Software
	// Changed is told of devices whose row in the list may look different now.
	Changed(devices []uuid.UUID)
	// Publish sends an event to all who listen to the console's stream.
	Publish(name string, data any)
}

// History reads what devices reported in the past.
type History interface {
	// Past calls each with a stretch of a device's readings, oldest first, and the longest time
	// between two rows that is no gap.
	Past(ctx context.Context, device uuid.UUID, from, to time.Time, want func(column string) bool,
		each func(t *series.Table, gap time.Duration)) error
}

// Times of the reviewer: how long changes gather, how many devices are judged in one transaction,
// how long it waits for an absent database, and how often it looks for what is due.
const (
	gather    = 50 * time.Millisecond
	together  = 500
	retry     = time.Second
	judgeOnce = 15 * time.Second
	dueEvery  = 2 * time.Second
)

// Service serves the health part of the contract.
type Service struct {
	store   store
	audit   front.Recorder
	fleet   Fleet
	history History
	suspect Suspects
	post    post.Post
	url     string // of the console, for messages
	rules   *Rules
	jobs    Jobs
	bus     *bus.Bus
	removal fleet.RemovalCode

	mu      sync.Mutex
	pending map[uuid.UUID]struct{}
	wake    chan struct{}
	mail    chan struct{} // a delivery waits
	acts    chan struct{} // a response has a step to do
	opened  chan opened   // alerts whose beginning is looked for in the history
}

// New makes the column. ring seals the secrets of webhooks, and url is where people reach the console, for messages.
func New(base part.Base, rules *Rules, devices Fleet, history History, suspects Suspects, jobs Jobs, poster post.Post, ring *secret.Ring,
	url string, removal fleet.RemovalCode) *Service {
	h := &Service{store: store{base.Pool, ring}, audit: base.Audit, bus: base.Bus, rules: rules, fleet: devices, history: history,
		suspect: suspects, jobs: jobs, post: poster, url: url, removal: removal, pending: map[uuid.UUID]struct{}{},
		wake: make(chan struct{}, 1), mail: make(chan struct{}, 1), acts: make(chan struct{}, 1), opened: make(chan opened, 1024)}
	h.bus.DevicesChanged.Subscribe(func(_ context.Context, devices []uuid.UUID) { h.judgeSoon(devices) })
	h.bus.RunEnded.Subscribe(func(_ context.Context, e bus.RunEnded) { h.runEnded(e) })
	h.bus.DeviceRetiring.Subscribe(deviceRetiring)
	h.bus.DeviceMoving.Subscribe(deviceMoving)
	h.bus.ScopeUser.Subscribe(h.scopeInUse)
	return h
}

// Part is what the service hands out.
func (h *Service) Part() part.Part {
	return part.Part{Name: "health", Links: map[string]http.HandlerFunc{"GET /settings": h.serveSettings},
		Begin: h.rules.read, Refresh: h.rules.read, Run: []func(context.Context){h.run}, Expire: h.expire, Reseal: h.store.reseal,
		Periodic: []part.Periodic{{Name: "suspects", Every: time.Minute, Do: h.findSuspects}}}
}

// judgeSoon judges devices anew, soon. It never waits.
func (h *Service) judgeSoon(devices []uuid.UUID) {
	h.mu.Lock()
	for _, id := range devices {
		h.pending[id] = struct{}{}
	}
	h.mu.Unlock()
	poke(h.wake)
}

func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// run judges what changes, and tells what is to be told, until ctx ends.
func (h *Service) run(ctx context.Context) {
	var running sync.WaitGroup
	running.Go(func() { h.due(ctx) })
	running.Go(func() { h.deliver(ctx) })
	running.Go(func() { h.backdate(ctx) })
	running.Go(func() { h.act(ctx) })
	defer running.Wait()
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.wake:
		}
		wait := gather
		for ids := h.take(); len(ids) > 0 && ctx.Err() == nil; ids = h.take() {
			if err := h.judge(ctx, ids); err != nil {
				slog.Warn("devices cannot be judged; trying again", "devices", len(ids), "error", err)
				h.judgeSoon(ids)
				wait = retry
				break
			}
			h.fleet.Changed(ids)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// due has those devices judged again whose findings or alerts change by the passing of time alone,
// and escalates what nobody has acknowledged.
func (h *Service) due(ctx context.Context) {
	tick := time.NewTicker(dueEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		ids, err := h.store.due(ctx)
		if err == nil {
			if len(ids) > 0 {
				h.judgeSoon(ids)
			}
			err = h.escalate(ctx)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("what is due cannot be looked for; trying again", "error", err)
		}
	}
}

// take removes up to so many devices from those that wait.
func (h *Service) take() []uuid.UUID {
	h.mu.Lock()
	defer h.mu.Unlock()
	var ids []uuid.UUID
	for id := range h.pending {
		if len(ids) == together {
			break
		}
		ids = append(ids, id)
		delete(h.pending, id)
	}
	return ids
}

// judge judges devices, brings their alerts up to date, and notes who is to be told.
func (h *Service) judge(ctx context.Context, ids []uuid.UUID) error {
	ctx, cancel := context.WithTimeout(ctx, judgeOnce)
	defer cancel()
	places := make(map[uuid.UUID]*health.Place, len(ids))
	for _, id := range ids {
		p, err := h.fleet.Place(ctx, id)
		if err != nil {
			return err
		}
		places[id] = &p
	}
	now := time.Now()
	r := &review{now: now, places: places, rules: h.rules, software: h.fleet.Software}
	if err := h.store.review(ctx, ids, r); err != nil {
		return err
	}
	for _, e := range r.events {
		if e.kind == health.Opened && e.alert.device != uuid.Nil {
			select {
			case h.opened <- opened{e.alert.device, e.alert.Check, e.alert.Subject}:
			default: // too many at once: they are since now
			}
		}
		if (e.kind == health.Opened || e.kind == health.Reopened) && e.alert.device != uuid.Nil {
			h.bus.AlertOpened.Publish(ctx, bus.AlertOpened{Device: e.alert.device, Check: e.alert.Check})
		}
	}
	if r.acted {
		poke(h.acts)
	}
	if len(r.moved) > 0 {
		h.fleet.Publish("responses", r.moved)
	}
	if len(r.changed) > 0 {
		h.fleet.Publish("alerts", r.changed)
	}
	if r.told {
		poke(h.mail)
	}
	return nil
}

// escalate tells of alerts that nobody has acknowledged in time.
func (h *Service) escalate(ctx context.Context) error {
	if !h.rules.escalates() {
		return nil
	}
	told, err := h.store.escalate(ctx, h.rules, time.Now(), h.fleet.Place)
	if told {
		poke(h.mail)
	}
	return err
}
