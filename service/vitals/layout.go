package vitals

import (
	"context"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
)

// layouts remembers which readings stand in which place of a row. There are about as many as there
// are makes of device.
type layouts struct {
	mu     sync.Mutex
	byName map[string]int // names joined by line feeds, which no name contains
	byID   map[int]*layout
	made   map[uuid.UUID]int // by device, since when counted
	since  time.Time
}

// A device makes a new layout when a disk or sensor comes or goes. One that makes more than so many
// within a day has only those of its readings kept that every device has.
const (
	layoutsADay = 200
	layoutsSpan = 24 * time.Hour
)

type layout struct {
	names  []string
	quanta []series.Quantum
}

func newLayouts() *layouts {
	return &layouts{byName: map[string]int{}, byID: map[int]*layout{}, made: map[uuid.UUID]int{}}
}

// encode writes the readings of v as a row.
func (l *layouts) encode(ctx context.Context, pool *pgxpool.Pool, from uuid.UUID, v *device.Vitals) (id int, samples []byte, err error) {
	key, samples := rowOf(v, false)
	l.mu.Lock()
	id, ok := l.byName[key]
	if !ok && !l.mayMake(from) {
		key, samples = rowOf(v, true)
		id, ok = l.byName[key]
	}
	l.mu.Unlock()
	if ok {
		return id, samples, nil
	}
	// Not in the report's own transaction: a layout stays when that fails.
	id, err = addLayout(ctx, pool, key)
	if err == nil {
		l.mu.Lock()
		l.byName[key] = id
		l.mu.Unlock()
	}
	return id, samples, err
}

// mayMake counts a layout that a device makes; l.mu is held.
func (l *layouts) mayMake(from uuid.UUID) bool {
	if now := time.Now(); now.Sub(l.since) > layoutsSpan {
		l.since = now
		clear(l.made)
	}
	l.made[from]++
	return l.made[from] <= layoutsADay
}

// rowOf writes the readings of v beside each other, and their names joined by line feeds; plain
// leaves out those of single disks, sensors and probes.
func rowOf(v *device.Vitals, plain bool) (key string, samples []byte) {
	var names strings.Builder
	samples = make([]byte, 0, 64)
	v.Readings(func(name string, value float64) {
		if _, subject := device.SplitReading(name); plain && subject != "" {
			return
		}
		if names.Len() > 0 {
			names.WriteByte('\n')
		}
		names.WriteString(name)
		samples = series.AppendRow(samples, device.QuantumOf(name), value)
	})
	return names.String(), samples
}

// querier is the transaction that rows were read in: who holds a connection must not wait for
// another.
type querier interface {
	QueryRow(ctx context.Context, query string, args ...any) pgx.Row
}

// decode adds a row to a table.
func (l *layouts) decode(ctx context.Context, q querier, id int, samples []byte, at time.Time, t *series.Table) error {
	known, err := l.layout(ctx, q, id)
	if err != nil {
		return err
	}
	t.Append(at, func(yield func(string, float64)) {
		err = series.Row(samples, len(known.names), func(i int) series.Quantum { return known.quanta[i] },
			func(i int, v float64) { yield(known.names[i], v) })
	})
	return err
}

func (l *layouts) layout(ctx context.Context, q querier, id int) (*layout, error) {
	l.mu.Lock()
	known := l.byID[id]
	l.mu.Unlock()
	if known != nil {
		return known, nil
	}
	names, err := layoutNames(ctx, q, id)
	if err != nil {
		return nil, err
	}
	known = &layout{names: names}
	for _, name := range known.names {
		known.quanta = append(known.quanta, device.QuantumOf(name))
	}
	l.mu.Lock()
	l.byID[id] = known
	l.mu.Unlock()
	return known, nil
}
