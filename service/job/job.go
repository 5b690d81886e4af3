// Package job is the column of work that is done everywhere it is needed: the libraries of scripts and
// packages with the store of their files, jobs that have one of them done on many devices, and what came
// of each run. Its rules are in core/script, core/pack, core/work and core/job; a device's part, by
// which no run is done twice, is in agent/journal and agent/steps.
package job

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/part"
)

// Fleet is what this column asks and tells of devices.
type Fleet interface {
	front.Visibility
	// Targets returns the devices of a group, those for which an expression holds, or all, by name; of
	// them those at which the caller holds a permission.
	Targets(caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]fleet.Target, error)
	// Trusted refuses a selection that rests on what devices say of themselves, for what.
	Trusted(ctx context.Context, what string, where *string, group *uuid.UUID) error
	// Known is one device.
	Known(id uuid.UUID) (fleet.Target, bool)
	// Publish sends an event to all who listen to the console's stream.
	Publish(name string, data any)
}

// Windows tells of the maintenance windows of devices.
type Windows interface {
	// WindowUntil is when the windows end that a place lies in now; zero outside any.
	WindowUntil(p *health.Place, zone string, now time.Time) time.Time
	// WindowNext is when the next window of a place opens; zero where none ever does.
	WindowNext(p *health.Place, zone string, now time.Time) time.Time
}

// People tells what those may do who began jobs that stand.
type People interface {
	// RightsOf are those of somebody now; none where they are no longer here.
	RightsOf(ctx context.Context, person uuid.UUID) (access.Rights, error)
}

// Service serves the job part of the contract.
type Service struct {
	store    store
	fleet    Fleet
	windows  Windows
	people   People
	audit    front.Recorder
	hub      *hub.Hub
	box      *secret.Ring
	files    *secret.Ring // that the keys of packages' files are sealed under
	contents contents
	wake     chan struct{} // something is to be done; has room for one
	came     chan outcome
	events   chan event
	bus      *bus.Bus

	mu       sync.Mutex
	schedule *job.Schedule
	open     map[uuid.UUID]*open         // jobs that are not over
	owners   map[uuid.UUID]access.Rights // what the owners of jobs may do
}

// New makes the column. box keeps the secrets of jobs, and dir the files of packages.
func New(base part.Base, fleet Fleet, windows Windows, people People, h *hub.Hub, box, files *secret.Ring, dir string) *Service {
	c := &Service{store: store{base.Pool}, bus: base.Bus, files: files, fleet: fleet, windows: windows, people: people, audit: base.Audit,
		box: box, hub: h, contents: contents{dir: dir, sending: map[string]bool{}},
		wake: make(chan struct{}, 1), came: make(chan outcome, 1024), events: make(chan event, 4096),
		open: map[uuid.UUID]*open{}, owners: map[uuid.UUID]access.Rights{}}
	c.schedule = job.NewSchedule(world{c}, time.Now())
	c.bus.RightsChanged.Subscribe(c.rightsChanged)
	c.bus.DeviceEnrolled.Subscribe(func(_ context.Context, device uuid.UUID) { c.happened(job.Enrolled, device, "") })
	c.bus.AlertOpened.Subscribe(func(_ context.Context, e bus.AlertOpened) { c.happened(job.Checked, e.Device, e.Check) })
	return c
}

// Part is what the service hands out.
func (c *Service) Part() part.Part {
	return part.Part{Name: "job", Links: map[string]http.HandlerFunc{"POST /journal": c.serveJournal, "POST /results": c.serveResults,
		"GET " + link.Contents: c.serveContent},
		Begin: c.takeUp, Run: []func(context.Context){c.run}, Expire: c.expire, Reseal: c.reseal}
}

func (c *Service) poke() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Times of the column.
const (
	pollEvery   = 250 * time.Millisecond // at what is to be begun
	ownersEvery = 15 * time.Second       // at what the owners of jobs may do, which another node may have changed
	standEvery  = time.Second            // at jobs that stand
	sendWithin  = 30 * time.Second       // an order may take
	gather      = 20 * time.Millisecond  // of results, before they are written together
	together    = 500                    // results at most
	writeWithin = 20 * time.Second
	sendsAtOnce = 96
)

// expire forgets jobs that ended long ago, and files that nothing brings.
func (c *Service) expire(ctx context.Context) error {
	if err := c.store.expire(ctx); err != nil {
		return err
	}
	return c.tidyContents(ctx)
}
