// Package patch is the column of updates: what devices miss and what they risk by it, the rules that approve
// it, and the rollouts that bring it to devices ring by ring. Its rules are in core/patch; runs at devices
// are those of jobs, which this column has begun for it.
package patch

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/update"
	"moorwatch.example/service/db"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/part"
	"moorwatch.example/service/post"
)

// Fleet is what this column asks and tells of devices.
type Fleet interface {
	front.Visibility
	// Targets returns the devices of a group, those for which an expression holds, or all, by name; of
	// them those at which the caller holds a permission.
	Targets(caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]fleet.Target, error)
	// Known is one device.
	Known(id uuid.UUID) (fleet.Target, bool)
	// KnownScope refuses a scope that is not there.
	KnownScope(ctx context.Context, scope health.Scope) error
	// Publish sends an event to all who listen to the console's stream.
	Publish(name string, data any)
}

// Jobs has steps done at devices, each once.
type Jobs interface {
	// Carry begins a job of an identity; one that was begun before is not begun again.
	Carry(ctx context.Context, id uuid.UUID, name string, owner uuid.UUID, by string, parts []pack.Part, devices []uuid.UUID, windows bool,
		limits job.Limits) error
	// Offers are the packages of the library that are told by software that a device has.
	Offers(ctx context.Context) ([]pack.Package, error)
	// Upgrade is what brings devices that have the software of a package to its version.
	Upgrade(ctx context.Context, name, version string) ([]pack.Part, error)
	// Progress is how its runs stand: away are those that wait for the device or its window.
	Progress(ctx context.Context, id uuid.UUID) (all, over, away int, err error)
	// End cancels what has not begun.
	End(ctx context.Context, id uuid.UUID) error
	// Adopt makes somebody the owner of a job that is not over.
	Adopt(ctx context.Context, id, owner uuid.UUID, by string) error
}

// People tells what those may do who began rollouts and schedules.
type People interface {
	// RightsOf are those of somebody now; none where they are no longer here.
	RightsOf(ctx context.Context, person uuid.UUID) (access.Rights, error)
}

// Windows tells of the maintenance windows of devices.
type Windows interface {
	// WindowUntil is when the windows end that a place lies in now; zero outside any.
	WindowUntil(p *health.Place, zone string, now time.Time) time.Time
	// WindowNext is when the next window of a place opens; zero where none ever does.
	WindowNext(p *health.Place, zone string, now time.Time) time.Time
}

// Service serves the patch part of the contract.
type Service struct {
	store   store
	fleet   Fleet
	jobs    Jobs
	windows Windows
	people  People
	audit   front.Recorder
	post    post.Post
	mirror  string // a folder that mirrors feeds of advisories; "" for none
	power   Power
	wake    chan struct{}

	moving sync.Mutex // of the rollouts: an action and a step of one do not cross

	began    time.Time
	shutting sync.Map // what is tried to shut devices down that were woken: attempt by awake

	compares chan struct{} // something is to be compared with advisories
	changed  changed
}

// changed are the devices whose software changed.
type changed struct {
	sync.Mutex
	devices map[uuid.UUID]bool
}

func (c *changed) take() []uuid.UUID {
	c.Lock()
	defer c.Unlock()
	all := slices.Collect(maps.Keys(c.devices))
	clear(c.devices)
	return all
}

func (c *changed) add(all ...uuid.UUID) {
	c.Lock()
	defer c.Unlock()
	for _, id := range all {
		c.devices[id] = true
	}
}

// New makes the column.
func New(base part.Base, fleet Fleet, jobs Jobs, windows Windows, people People, power Power, poster post.Post, mirror string) *Service {
	c := &Service{store: store{base.Pool}, fleet: fleet, jobs: jobs, windows: windows, people: people, power: power, audit: base.Audit,
		post: poster, mirror: mirror,
		began: time.Now(), wake: make(chan struct{}, 1), compares: make(chan struct{}, 1), changed: changed{devices: map[uuid.UUID]bool{}}}
	base.Bus.InventoryChanged.Subscribe(func(_ context.Context, device uuid.UUID) { c.compareSoon(device) })
	return c
}

// Part is what the service hands out.
func (c *Service) Part() part.Part {
	p := part.Part{Name: "patch", Links: map[string]http.HandlerFunc{"POST /updates": c.serveUpdates},
		Run: []func(context.Context){c.run, c.keepCompared}, Expire: c.store.expire,
		Periodic: []part.Periodic{
			{Name: "record", Every: time.Hour, Do: func(ctx context.Context) error { return c.Record(ctx, time.Now()) }},
			{Name: "reports", Every: time.Minute, Do: c.SendReports}}}
	if c.mirror != "" {
		p.Run = append(p.Run, c.keepMirror)
	}
	return p
}

var see, act, administer = access.Of("updates", access.See), access.Of("updates", access.Act), access.Of("updates", access.Administer)

// pollEvery is how often it is looked at rollouts that are under way.
const pollEvery = 2 * time.Second

// run has rollouts go on until ctx ends.
func (c *Service) run(ctx context.Context) {
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-c.wake:
		}
		if err := c.advance(ctx, time.Now()); err != nil && ctx.Err() == nil {
			slog.Warn("rollouts cannot go on; trying again", "error", err)
		}
	}
}

// Expire forgets updates that nobody misses any more.

func (c *Service) poke() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// serveUpdates takes what a device is offered: POST /updates. It answers 409 where the digest names another
// list than it has; then the device sends all of it.
func (c *Service) serveUpdates(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 30*time.Second)
	defer cancel()
	var in link.Updates
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, link.MaxUpdatesReport)).Decode(&in); err != nil || len(in.Digest) != 64 {
		hub.Refuse(w, err)
		return
	}
	id := hub.Device(r)
	in.Failed = device.CleanLong(in.Failed, 500)
	var known bool
	var err error
	if in.Whole {
		known, err = true, hub.Work(r, len(in.All), func() error {
			return c.store.setMissing(ctx, id, in.Digest, in.Failed, update.Clean(in.All))
		})
		c.compareSoon()
	} else {
		known, err = c.store.told(ctx, id, in.Digest)
	}
	switch {
	case db.Missing(err):
		http.Error(w, "the device is not known any more", http.StatusGone)
	case err != nil:
		slog.Warn("missing updates cannot be stored", "device", id, "error", err)
		http.Error(w, "the updates cannot be stored now; send them later", http.StatusServiceUnavailable)
	case !known:
		http.Error(w, "another list is known: send all of it", http.StatusConflict)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

// done finishes a change: err answers the caller, or the change is noted in the audit log. It tells whether
// all went well.
func (c *Service) done(g *gin.Context, action, detail string, err error) bool {
	return front.Changed(g, c.audit, front.Change{Action: action, Detail: detail}, err)
}
