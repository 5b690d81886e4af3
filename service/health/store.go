package health

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

// judged is a device with what it was judged by, and how.
type judged struct {
	device    uuid.UUID
	state     health.State
	before    []health.Finding
	condition health.Condition
	findings  []health.Finding
}

// review hands devices to judge, which fills in their condition and findings, and stores both.
func (s store) review(ctx context.Context, ids []uuid.UUID, judge func(*judged)) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		all, err := load(ctx, tx, ids)
		if err != nil {
			return err
		}
		n := len(all)
		kept, conditions := make([]uuid.UUID, 0, n), make([]string, 0, n)
		var rows [][]any
		for _, j := range all {
			judge(j)
			kept, conditions = append(kept, j.device), append(conditions, string(j.condition))
			for _, f := range j.findings {
				rows = append(rows, []any{j.device, f.Check, f.Subject, f.Level, f.Message, f.Since})
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE devices d SET condition = n.condition FROM unnest($1::uuid[], $2::text[]) n (id, condition) WHERE d.id = n.id AND d.condition <> n.condition", kept, conditions); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM findings WHERE device_id = ANY($1)", kept); err != nil {
			return err
		}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"findings"}, []string{"device_id", "check_name", "subject", "level", "message", "since"}, pgx.CopyFromRows(rows))
		return err
	})
}

func load(ctx context.Context, tx pgx.Tx, ids []uuid.UUID) (map[uuid.UUID]*judged, error) {
	rows, err := tx.Query(ctx, `SELECT id, online, presence_since, vitals, skew, coalesce(conflict_at, '0001-01-01 UTC')
		FROM devices WHERE id = ANY($1) AND retired_at IS NULL ORDER BY id FOR NO KEY UPDATE`, ids)
	if err != nil {
		return nil, err
	}
	all := map[uuid.UUID]*judged{}
	var j judged
	var vitals []byte
	_, err = pgx.ForEachRow(rows, []any{&j.device, &j.state.Online, &j.state.Since, &vitals, &j.state.Skew, &j.state.Conflict}, func() error {
		one := j
		if vitals != nil {
			one.state.Vitals = new(device.Vitals)
			if err := json.Unmarshal(vitals, one.state.Vitals); err != nil {
				return err
			}
		}
		if one.state.Conflict.Year() == 1 {
			one.state.Conflict = time.Time{}
		}
		all[j.device] = &one
		return nil
	})
	if err != nil {
		return nil, err
	}
	if rows, err = tx.Query(ctx, "SELECT device_id, check_name, subject, level, message, since FROM findings WHERE device_id = ANY($1)", ids); err != nil {
		return nil, err
	}
	var id uuid.UUID
	var f health.Finding
	_, err = pgx.ForEachRow(rows, []any{&id, &f.Check, &f.Subject, &f.Level, &f.Message, &f.Since}, func() error {
		if one := all[id]; one != nil {
			one.before = append(one.before, f)
		}
		return nil
	})
	return all, err
}

// overview is a page of findings with the devices they are on, how many findings there are, and
// how many devices are in each condition, all as of one moment.
type overview struct {
	devices  []uuid.UUID
	findings []health.Finding
	total    int
	tally    api.Tally
}

func (s store) overview(ctx context.Context, offset, limit int) (o overview, err error) {
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		var err error
		if o.devices, o.findings, err = attention(ctx, tx, offset, limit); err != nil {
			return err
		}
		o.tally, o.total, err = tally(ctx, tx)
		return err
	})
	return o, err
}

// attention returns a page of all findings, in order of harm: first by level, then the latest.
func attention(ctx context.Context, tx pgx.Tx, offset, limit int) ([]uuid.UUID, []health.Finding, error) {
	rows, err := tx.Query(ctx, `SELECT device_id, check_name, subject, level, message, since FROM findings
		ORDER BY CASE level WHEN 'critical' THEN 0 WHEN 'warning' THEN 1 ELSE 2 END, since DESC, device_id, check_name, subject OFFSET $1 LIMIT $2`, offset, limit)
	if err != nil {
		return nil, nil, err
	}
	var ids []uuid.UUID
	var all []health.Finding
	var id uuid.UUID
	var f health.Finding
	_, err = pgx.ForEachRow(rows, []any{&id, &f.Check, &f.Subject, &f.Level, &f.Message, &f.Since}, func() error {
		ids, all = append(ids, id), append(all, f)
		return nil
	})
	return ids, all, err
}

// tally counts the devices in each condition, and all findings.
func tally(ctx context.Context, tx pgx.Tx) (t api.Tally, findings int, err error) {
	err = tx.QueryRow(ctx, `SELECT count(*) FILTER (WHERE condition = 'healthy'), count(*) FILTER (WHERE condition = 'degraded'),
		count(*) FILTER (WHERE condition = 'failing'), count(*) FILTER (WHERE condition = 'silent'), (SELECT count(*) FROM findings)
		FROM devices WHERE retired_at IS NULL`).Scan(&t.Healthy, &t.Degraded, &t.Failing, &t.Silent, &findings)
	return t, findings, err
}

// conflicted returns the devices with a finding of a check, so that one that ends by itself is
// judged again.
func (s store) conflicted(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT device_id FROM findings WHERE check_name = $1", health.CheckIdentity)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}
