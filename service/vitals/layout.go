package vitals

import (
	"context"
	"crypto/sha256"
	"strings"
	"sync"
	"time"

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
}

type layout struct {
	names  []string
	quanta []series.Quantum
}

func newLayouts() *layouts { return &layouts{byName: map[string]int{}, byID: map[int]*layout{}} }

// encode writes the readings of v as a row.
func (l *layouts) encode(ctx context.Context, pool *pgxpool.Pool, v *device.Vitals) (id int, samples []byte, err error) {
	var names strings.Builder
	samples = make([]byte, 0, 64)
	v.Readings(func(name string, value float64) {
		if names.Len() > 0 {
			names.WriteByte('\n')
		}
		names.WriteString(name)
		samples = series.AppendRow(samples, device.QuantumOf(name), value)
	})
	key := names.String()
	l.mu.Lock()
	id, ok := l.byName[key]
	l.mu.Unlock()
	if ok {
		return id, samples, nil
	}
	// Not in the report's own transaction: a layout stays when that fails.
	digest := sha256.Sum256([]byte(key))
	err = pool.QueryRow(ctx, `WITH new AS (INSERT INTO layouts (digest, names) VALUES ($1, $2) ON CONFLICT (digest) DO NOTHING RETURNING id)
		SELECT id FROM new UNION ALL SELECT id FROM layouts WHERE digest = $1 LIMIT 1`, digest[:], strings.Split(key, "\n")).Scan(&id)
	if err == pgx.ErrNoRows { // another has just added it
		err = pool.QueryRow(ctx, "SELECT id FROM layouts WHERE digest = $1", digest[:]).Scan(&id)
	}
	if err == nil {
		l.mu.Lock()
		l.byName[key] = id
		l.mu.Unlock()
	}
	return id, samples, err
}

// decode adds a row to a table.
func (l *layouts) decode(ctx context.Context, pool *pgxpool.Pool, id int, samples []byte, at time.Time, t *series.Table) error {
	known, err := l.layout(ctx, pool, id)
	if err != nil {
		return err
	}
	t.Append(at, func(yield func(string, float64)) {
		err = series.Row(samples, len(known.names), func(i int) series.Quantum { return known.quanta[i] },
			func(i int, v float64) { yield(known.names[i], v) })
	})
	return err
}

func (l *layouts) layout(ctx context.Context, pool *pgxpool.Pool, id int) (*layout, error) {
	l.mu.Lock()
	known := l.byID[id]
	l.mu.Unlock()
	if known != nil {
		return known, nil
	}
	known = &layout{}
	if err := pool.QueryRow(ctx, "SELECT names FROM layouts WHERE id = $1", id).Scan(&known.names); err != nil {
		return nil, err
	}
	for _, name := range known.names {
		known.quanta = append(known.quanta, device.QuantumOf(name))
	}
	l.mu.Lock()
	l.byID[id] = known
	l.mu.Unlock()
	return known, nil
}
