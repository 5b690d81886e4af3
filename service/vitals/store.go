package vitals

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/device"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

// Row is what is kept of one report for the history.
type Row struct {
	Device uuid.UUID
	At     time.Time
	Vitals *device.Vitals
}

var historyColumns = []string{"device_id", "at", "cpu", "memory", "disk", "load1", "receive", "transmit", "temperature"}

func (r Row) values() []any {
	var disk, temperature *float64
	if d, ok := r.Vitals.FullestDisk(); ok {
		p := d.Percent()
		disk = &p
	}
	if t, ok := r.Vitals.Hottest(); ok {
		temperature = &t.Celsius
	}
	v := r.Vitals
	return []any{r.Device, r.At, v.CPU, v.Memory, disk, v.Load1, v.Receive, v.Transmit, temperature}
}

// mark is how far the reports of a device's spool are stored.
type mark struct {
	epoch string
	seq   uint64
}

// latest is a device's newest reading, with how far its clock is ahead.
type latest struct {
	row  Row
	skew time.Duration
	mark mark
}

// accept stores what take chooses of the waiting reports, once the marks of their devices are
// known and held, and moves the marks, all or nothing.
func (s store) accept(ctx context.Context, devices []uuid.UUID, take func(map[uuid.UUID]mark) ([]Row, []latest, error)) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, report_epoch, report_seq FROM devices WHERE id = ANY($1) ORDER BY id FOR NO KEY UPDATE", devices)
		if err != nil {
			return err
		}
		marks := map[uuid.UUID]mark{}
		var id uuid.UUID
		var m mark
		if _, err := pgx.ForEachRow(rows, []any{&id, &m.epoch, &m.seq}, func() error { marks[id] = m; return nil }); err != nil {
			return err
		}
		history, newest, err := take(marks)
		if err != nil {
			return err
		}
		if err := copyRows(ctx, tx, history); err != nil {
			return err
		}
		return setLatest(ctx, tx, newest)
	})
}

func copyRows(ctx context.Context, tx pgx.Tx, rows []Row) error {
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"vitals"}, historyColumns,
		pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) { return rows[i].values(), nil }))
	return err
}

func setLatest(ctx context.Context, tx pgx.Tx, newest []latest) error {
	n := len(newest)
	ids, at, epochs, seqs, skews := make([]uuid.UUID, n), make([]time.Time, n), make([]string, n), make([]int64, n), make([]time.Duration, n)
	texts, people := make([]string, n), make([]string, n)
	cpu, memory, disk := make([]float64, n), make([]float64, n), make([]*float64, n)
	for i, l := range newest {
		v := l.row.Vitals
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		names := []string{}
		for _, p := range v.People {
			names = append(names, p.Name)
		}
		list, err := json.Marshal(names)
		if err != nil {
			return err
		}
		ids[i], at[i], epochs[i], seqs[i], skews[i] = l.row.Device, l.row.At, l.mark.epoch, int64(l.mark.seq), l.skew
		texts[i], people[i], cpu[i], memory[i] = string(text), string(list), v.CPU, v.Memory
		if d, ok := v.FullestDisk(); ok {
			p := d.Percent()
			disk[i] = &p
		}
	}
	_, err := tx.Exec(ctx, `UPDATE devices d SET last_heard = now(), report_epoch = n.epoch, report_seq = n.seq, skew = n.skew,
		vitals = n.vitals::jsonb, people = ARRAY(SELECT jsonb_array_elements_text(n.people::jsonb)), cpu = n.cpu, memory = n.memory, disk = n.disk
		FROM unnest($1::uuid[], $2::text[], $3::bigint[], $4::interval[], $5::text[], $6::text[], $7::real[], $8::real[], $9::real[])
			n (id, epoch, seq, skew, vitals, people, cpu, memory, disk) WHERE d.id = n.id`,
		ids, epochs, seqs, skews, texts, people, cpu, memory, disk)
	return err
}

// importRows stores rows of the past without reports, for the demo's history.
func (s store) importRows(ctx context.Context, rows pgx.CopyFromSource) error {
	_, err := s.pool.CopyFrom(ctx, pgx.Identifier{"vitals"}, historyColumns, rows)
	return err
}

// history calls add for each stored reading of a device between two times, in order.
func (s store) history(ctx context.Context, id uuid.UUID, from, to time.Time, add func(at time.Time, values [7]*float64)) error {
	rows, err := s.pool.Query(ctx, `SELECT at, cpu, memory, disk, load1, receive, transmit, temperature FROM vitals
		WHERE device_id = $1 AND at >= $2 AND at <= $3 ORDER BY at`, id, from, to)
	if err != nil {
		return err
	}
	var at time.Time
	var v [7]*float64
	_, err = pgx.ForEachRow(rows, []any{&at, &v[0], &v[1], &v[2], &v[3], &v[4], &v[5], &v[6]}, func() error { add(at, v); return nil })
	return err
}

func (s store) expire(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM vitals WHERE at < $1", before)
	return err
}
