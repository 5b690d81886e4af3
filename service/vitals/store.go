package vitals

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
)

// store is every question that this column asks of the database.
type store struct {
	pool    *pgxpool.Pool
	layouts *layouts
}

// row is what is kept of one report for the history, until it is compressed with others.
type row struct {
	device uuid.UUID
	at     time.Time
	vitals *device.Vitals
}

var rowColumns = []string{"device_id", "at", "layout", "samples"}

// mark is how far the reports of a device's spool are stored.
type mark struct {
	epoch string
	seq   uint64
}

// latest is a device's newest reading, with how far its clock is ahead.
type latest struct {
	row  row
	skew time.Duration
	mark mark

	people   []string // of the newest report that tells of some
	peopleAt *time.Time
}

// accept stores what take chooses of the waiting reports, once the marks of their devices are
// known and held, and moves the marks, all or nothing.
func (s store) accept(ctx context.Context, devices []uuid.UUID, take func(map[uuid.UUID]mark) ([]row, []latest)) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, report_epoch, report_seq FROM devices WHERE id = ANY($1) ORDER BY id FOR NO KEY UPDATE",
			devices)
		if err != nil {
			return err
		}
		marks := map[uuid.UUID]mark{}
		var id uuid.UUID
		var m mark
		if _, err := pgx.ForEachRow(rows, []any{&id, &m.epoch, &m.seq}, func() error { marks[id] = m; return nil }); err != nil {
			return err
		}
		history, newest := take(marks)
		if err := s.copyRows(ctx, tx, history); err != nil {
			return err
		}
		return setLatest(ctx, tx, newest)
	})
}

func (s store) copyRows(ctx context.Context, tx pgx.Tx, rows []row) error {
	values := make([][]any, len(rows))
	for i, r := range rows {
		layout, samples, err := s.layouts.encode(ctx, s.pool, r.device, r.vitals)
		if err != nil {
			return err
		}
		values[i] = []any{r.device, r.at, layout, samples}
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"readings"}, rowColumns, pgx.CopyFromRows(values))
	return err
}

func setLatest(ctx context.Context, tx pgx.Tx, newest []latest) error {
	n := len(newest)
	ids, epochs, seqs, skews := make([]uuid.UUID, n), make([]string, n), make([]int64, n), make([]time.Duration, n)
	texts, people, lasts, lastsAt := make([]string, n), make([]string, n), make([]string, n), make([]*time.Time, n)
	cpu, memory, disk := make([]float64, n), make([]float64, n), make([]*float64, n)
	for i, l := range newest {
		v := l.row.vitals
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		list, err := json.Marshal(namesOf(v.People))
		if err != nil {
			return err
		}
		before, err := json.Marshal(l.people)
		if err != nil {
			return err
		}
		ids[i], epochs[i], seqs[i], skews[i] = l.row.device, l.mark.epoch, int64(l.mark.seq), l.skew
		texts[i], people[i], cpu[i], memory[i] = string(text), string(list), v.CPU, v.Memory
		lasts[i], lastsAt[i] = string(before), l.peopleAt
		if d, ok := v.FullestDisk(); ok {
			p := d.Percent()
			disk[i] = &p
		}
	}
	_, err := tx.Exec(ctx, `UPDATE devices d SET last_heard = now(), report_epoch = n.epoch, report_seq = n.seq, skew = n.skew,
		vitals = n.vitals::jsonb, cpu = n.cpu, memory = n.memory, disk = n.disk,
		people = ARRAY(SELECT jsonb_array_elements_text(n.people::jsonb)), last_people_at = coalesce(n.last_at, d.last_people_at),
		last_people = CASE WHEN n.last_at IS NULL THEN d.last_people ELSE ARRAY(SELECT jsonb_array_elements_text(n.last::jsonb)) END
		FROM unnest($1::uuid[], $2::text[], $3::bigint[], $4::interval[], $5::text[], $6::text[], $7::real[], $8::real[], $9::real[],
			$10::text[], $11::timestamptz[])
			n (id, epoch, seq, skew, vitals, people, cpu, memory, disk, last, last_at) WHERE d.id = n.id`,
		ids, epochs, seqs, skews, texts, people, cpu, memory, disk, lasts, lastsAt)
	return err
}

// setLastPeople notes who was signed in at a device last, unless somebody was later.
func (s store) setLastPeople(ctx context.Context, id uuid.UUID, names []string, at time.Time) error {
	_, err := s.pool.Exec(ctx, "UPDATE devices SET last_people = $2, last_people_at = $3 "+
		"WHERE id = $1 AND coalesce(last_people_at < $3, true)", id, names, at)
	return err
}

func namesOf(people []device.SignedIn) []string {
	names := make([]string, len(people))
	for i, p := range people {
		names[i] = p.Name
	}
	return names
}

// ripe returns up to limit devices that have rows from before a time.
func (s store) ripe(ctx context.Context, before time.Time, limit int) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT id FROM devices d WHERE EXISTS (SELECT FROM readings r WHERE r.device_id = d.id AND r.at < "+
		"$1) LIMIT $2", before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// take removes the rows of devices from before a time, and returns them as tables.
func (s store) take(ctx context.Context, tx pgx.Tx, devices []uuid.UUID, before time.Time) (map[uuid.UUID]*series.Table, error) {
	rows, err := tx.Query(ctx, "DELETE FROM readings WHERE device_id = ANY($1) AND at < $2 RETURNING device_id, at, layout, samples",
		devices, before)
	if err != nil {
		return nil, err
	}
	return s.tables(ctx, tx, rows)
}

func (s store) tables(ctx context.Context, q querier, rows pgx.Rows) (map[uuid.UUID]*series.Table, error) {
	type raw struct {
		device  uuid.UUID
		at      time.Time
		layout  int
		samples []byte
	}
	// All are read before the layouts are, which may need the transaction themselves.
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (r raw, err error) {
		return r, row.Scan(&r.device, &r.at, &r.layout, &r.samples)
	})
	if err != nil {
		return nil, err
	}
	tables := map[uuid.UUID]*series.Table{}
	for _, r := range all {
		t := tables[r.device]
		if t == nil {
			t = &series.Table{}
			tables[r.device] = t
		}
		if err := s.layouts.decode(ctx, q, r.layout, r.samples, r.at, t); err != nil {
			return nil, err
		}
	}
	for _, t := range tables {
		t.Sort()
	}
	return tables, nil
}

// place is where a chunk belongs.
type place struct {
	device uuid.UUID
	tier   series.Tier
	start  time.Time
}

func unzip(places []place) (devices []uuid.UUID, tiers []int16, starts []time.Time) {
	for _, p := range places {
		devices, tiers, starts = append(devices, p.device), append(tiers, int16(p.tier)), append(starts, p.start)
	}
	return devices, tiers, starts
}

// chunks reads those of the named chunks that there are, and holds them.
func chunks(ctx context.Context, tx pgx.Tx, places []place) (map[place]*series.Table, error) {
	devices, tiers, starts := unzip(places)
	rows, err := tx.Query(ctx, `SELECT c.device_id, c.tier, c.start, c.data FROM chunks c
		JOIN unnest($1::uuid[], $2::smallint[], $3::timestamptz[]) p (device_id, tier, start) USING (device_id, tier, start)
		ORDER BY c.device_id, c.tier, c.start FOR UPDATE OF c`, devices, tiers, starts)
	if err != nil {
		return nil, err
	}
	found := map[place]*series.Table{}
	var p place
	var tier int16
	var data []byte
	_, err = pgx.ForEachRow(rows, []any{&p.device, &tier, &p.start, &data}, func() error {
		t, err := series.Decode(data, nil)
		if err != nil {
			return err
		}
		p.tier, p.start = series.Tier(tier), p.start.UTC()
		found[p] = t
		return nil
	})
	return found, err
}

func putChunks(ctx context.Context, tx pgx.Tx, places []place, data [][]byte) error {
	devices, tiers, starts := unzip(places)
	_, err := tx.Exec(ctx, `INSERT INTO chunks (device_id, tier, start, data)
		SELECT * FROM unnest($1::uuid[], $2::smallint[], $3::timestamptz[], $4::bytea[])
		ON CONFLICT (device_id, tier, start) DO UPDATE SET data = excluded.data`, devices, tiers, starts, data)
	return err
}

// history calls add for each stretch of a device's stored history between two times, oldest first:
// the chunks of a tier, then what is not compressed yet. want chooses the columns; nil is all.
func (s store) history(ctx context.Context, id uuid.UUID, tier series.Tier, from, to time.Time, want func(column string) bool,
	add func(*series.Table)) error {
	return pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT data FROM chunks WHERE device_id = $1 AND tier = $2 AND start >= $3 AND start <= $4 "+
			"ORDER BY start", id, tier, tier.Start(from), to)
		if err != nil {
			return err
		}
		var data []byte
		if _, err = pgx.ForEachRow(rows, []any{&data}, func() error {
			t, err := series.Decode(data, want)
			if err == nil {
				add(t)
			}
			return err
		}); err != nil {
			return err
		}
		if rows, err = tx.Query(ctx, "SELECT device_id, at, layout, samples FROM readings WHERE device_id = $1 AND at >= $2 AND at <= $3",
			id, from, to); err != nil {
			return err
		}
		tables, err := s.tables(ctx, tx, rows)
		if t := tables[id]; t != nil {
			add(t)
		}
		return err
	})
}

func (s store) expire(ctx context.Context, tier series.Tier, before time.Time) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM chunks WHERE tier = $1 AND start < $2", tier, before)
	return err
}

// reporting returns the devices that there are readings of.
func (s store) reporting(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT id FROM devices d WHERE retired_at IS NULL AND EXISTS (SELECT FROM chunks c WHERE "+
		"c.device_id = d.id)")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// latest calls each with the latest vitals of devices.
func (s store) latest(ctx context.Context, ids []uuid.UUID, each func(id uuid.UUID, v *device.Vitals) error) error {
	rows, err := s.pool.Query(ctx, "SELECT id, vitals FROM devices WHERE retired_at IS NULL AND vitals IS NOT NULL AND id = ANY($1)", ids)
	if err != nil {
		return err
	}
	var id uuid.UUID
	var text []byte
	_, err = pgx.ForEachRow(rows, []any{&id, &text}, func() error {
		var v device.Vitals
		if err := json.Unmarshal(text, &v); err != nil {
			return err
		}
		return each(id, &v)
	})
	return err
}

// facts reads one fact of devices, those that have it, as text. Lists are passed over.
func (s store) facts(ctx context.Context, ids []uuid.UUID, name string) (map[uuid.UUID]string, error) {
	rows, err := s.pool.Query(ctx, `SELECT id, facts->>$2 FROM devices WHERE id = ANY($1) AND jsonb_typeof(facts->$2) IN ('string',
		'number', 'boolean')`, ids, name)
	if err != nil {
		return nil, err
	}
	found := map[uuid.UUID]string{}
	var id uuid.UUID
	var value string
	_, err = pgx.ForEachRow(rows, []any{&id, &value}, func() error { found[id] = value; return nil })
	return found, err
}

func (s store) setTrends(ctx context.Context, id uuid.UUID, trends map[string]series.Trend) error {
	text, err := json.Marshal(trends)
	if err != nil {
		return err
	}
	_, err = s.pool.Exec(ctx, "UPDATE devices SET trends = $2 WHERE id = $1", id, text)
	return err
}

// addLayout returns the number of a layout, and adds it where it is new.
func addLayout(ctx context.Context, q querier, key string) (id int, err error) {
	digest := sha256.Sum256([]byte(key))
	err = q.QueryRow(ctx, `WITH new AS (INSERT INTO layouts (digest, names) VALUES ($1, $2) ON CONFLICT (digest) DO NOTHING RETURNING id)
		SELECT id FROM new UNION ALL SELECT id FROM layouts WHERE digest = $1 LIMIT 1`, digest[:], strings.Split(key, "\n")).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) { // another has just added it
		err = q.QueryRow(ctx, "SELECT id FROM layouts WHERE digest = $1", digest[:]).Scan(&id)
	}
	return id, err
}

// layoutNames are the names of a layout's readings, in order.
func layoutNames(ctx context.Context, q querier, id int) (names []string, err error) {
	return names, q.QueryRow(ctx, "SELECT names FROM layouts WHERE id = $1", id).Scan(&names)
}
