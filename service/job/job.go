// Package job is the column of work that is done everywhere it is needed: the libraries of scripts and
// packages with the store of their files, jobs that have one of them done on many devices, and what came
// of each run. Its rules are in core/script, core/pack, core/work and core/job; a device's part, by
// which no run is done twice, is in agent/journal and agent/steps.
package job

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
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
	ended    func(job uuid.UUID, device uuid.UUID, succeeded bool, reason string) // told of runs that policies began

	mu       sync.Mutex
	since    time.Time
	open     map[uuid.UUID]*open              // jobs that are not over
	journals map[uuid.UUID]string             // of the devices that are connected here
	runs     map[uuid.UUID]*run               // those that are not over, by id
	at       map[uuid.UUID]map[uuid.UUID]*run // and by device
	owners   map[uuid.UUID]access.Rights      // what the owners of jobs may do
}

// New makes the column. box keeps the secrets of jobs, and dir the files of packages.
func New(pool *pgxpool.Pool, fleet Fleet, windows Windows, people People, audit front.Recorder, box, files *secret.Ring,
	dir string) *Service {
	return &Service{store: store{pool}, files: files, fleet: fleet, windows: windows, people: people, audit: audit, box: box,
		contents: contents{dir: dir, sending: map[string]bool{}},
		since:    time.Now(), wake: make(chan struct{}, 1), came: make(chan outcome, 1024), events: make(chan event, 4096),
		open: map[uuid.UUID]*open{}, journals: map[uuid.UUID]string{}, runs: map[uuid.UUID]*run{}, at: map[uuid.UUID]map[uuid.UUID]*run{},
		owners: map[uuid.UUID]access.Rights{}}
}

// Join gives the column the hub over which it reaches devices, and whom it tells of the ends of runs
// that policies began.
func (c *Service) Join(h *hub.Hub, ended func(job, device uuid.UUID, succeeded bool, reason string)) {
	c.hub, c.ended = h, ended
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
	followEvery = 5 * time.Second        // at which devices they are meant for
	sendWithin  = 30 * time.Second       // an order may take
	gather      = 20 * time.Millisecond  // of results, before they are written together
	together    = 500                    // results at most
	writeWithin = 20 * time.Second
	sendsAtOnce = 96
	// grace is how long after a deadline a device may still connect, and returns how long all have after
	// the service began.
	grace      = 3 * time.Second
	returns    = 90 * time.Second
	retryAfter = time.Second
	// lostAfter is how long after a job's deadline a run is awaited of a device that was told and went
	// away.
	lostAfter = 7 * 24 * time.Hour
)

// Expire forgets jobs that ended long ago, and files that nothing brings.
func (c *Service) Expire(ctx context.Context) error {
	if err := c.store.expire(ctx); err != nil {
		return err
	}
	return c.tidyContents(ctx)
}
