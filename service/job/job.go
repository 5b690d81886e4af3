// Package job is the column of work that is done everywhere it is needed: the library of scripts, jobs
// that run one of them on many devices, and what came of each run. Its rules are in core/script and
// core/job; a device's part, by which no run is done twice, is in agent/journal.
package job

import (
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/access"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// Fleet is what this column asks and tells of devices.
type Fleet interface {
	front.Sight
	// Meant returns the devices of a group, those for which an expression holds, or all, by name; of
	// them those at which the caller holds a permission.
	Meant(caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]fleet.Meant, error)
	// Publish sends an event to all who listen to the console's stream.
	Publish(name string, data any)
}

// Column serves the job part of the contract.
type Column struct {
	store store
	fleet Fleet
	audit front.Recorder
	hub   *hub.Hub
	box   *secret.Box
	wake  chan struct{} // something is to be done; has room for one
	came  chan outcome

	mu       sync.Mutex
	since    time.Time
	open     map[uuid.UUID]*open              // jobs that are not over
	journals map[uuid.UUID]string             // of the devices that are connected here
	runs     map[uuid.UUID]*run               // those that are not over, by id
	at       map[uuid.UUID]map[uuid.UUID]*run // and by device
}

// New makes the column. box keeps the secrets of jobs.
func New(pool *pgxpool.Pool, fleet Fleet, audit front.Recorder, box *secret.Box) *Column {
	return &Column{store: store{pool}, fleet: fleet, audit: audit, box: box, since: time.Now(), wake: make(chan struct{}, 1), came: make(chan outcome, 1024),
		open: map[uuid.UUID]*open{}, journals: map[uuid.UUID]string{}, runs: map[uuid.UUID]*run{}, at: map[uuid.UUID]map[uuid.UUID]*run{}}
}

// Join gives the column the hub over which it reaches devices.
func (c *Column) Join(h *hub.Hub) { c.hub = h }

func (c *Column) poke() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Times of the column.
const (
	lookEvery   = 250 * time.Millisecond // at what is to be begun
	sendWithin  = 30 * time.Second       // an order may take
	gather      = 20 * time.Millisecond  // of results, before they are written together
	together    = 500                    // results at most
	writeWithin = 20 * time.Second
	sendsAtOnce = 96
	// lostAfter is how long after a job's deadline a run is awaited of a device that was told and went
	// away.
	// grace is how long after a deadline a device may still connect, and returns how long all have after
	// the service began.
	grace      = 3 * time.Second
	returns    = 90 * time.Second
	retryAfter = time.Second
	lostAfter  = 7 * 24 * time.Hour
)
