package patch

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/patch"
)

// ringOf is the ring of the last rollout of each device that was in any.
func (s store) ringOf(ctx context.Context) (map[uuid.UUID]string, error) {
	rows, err := s.pool.Query(ctx, "SELECT DISTINCT ON (d.device_id) d.device_id, coalesce(r.spec->'rings'->d.ring->>'name', '') FROM "+
		"rollout_devices d JOIN rollouts r ON r.id = d.rollout_id ORDER BY d.device_id, r.begun_at DESC")
	if err != nil {
		return nil, err
	}
	all := map[uuid.UUID]string{}
	var id uuid.UUID
	var ring string
	_, err = pgx.ForEachRow(rows, []any{&id, &ring}, func() error { all[id] = ring; return nil })
	return all, err
}

// ringed is the devices of an organisation that were in one ring last.
type ringed struct{ organisation, ring string }

// setCompliance keeps how current devices were on a day; a later count of the same day takes its place.
func (s store) setCompliance(ctx context.Context, day time.Time, all map[ringed]patch.Tally) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "DELETE FROM compliance WHERE day = $1::date", day); err != nil {
			return err
		}
		batch := &pgx.Batch{}
		for at, tally := range all {
			batch.Queue("INSERT INTO compliance SELECT $1::date, id, $3, $4 FROM organisations WHERE id = $2", day, at.organisation,
				at.ring, tally)
		}
		return tx.SendBatch(ctx, batch).Close()
	})
}

// compliance is how current devices of organisations were, by day, from a day on.
func (s store) compliance(ctx context.Context, organisations []uuid.UUID, from time.Time) (days []patch.DayTally, err error) {
	rows, err := s.pool.Query(ctx, "SELECT day::timestamp AT TIME ZONE 'UTC', tally FROM compliance WHERE organisation_id = ANY($1) AND "+
		"day >= $2::date ORDER BY day", organisations, from)
	if err != nil {
		return nil, err
	}
	var day time.Time
	var tally patch.Tally
	_, err = pgx.ForEachRow(rows, []any{&day, &tally}, func() error {
		if n := len(days); n == 0 || !days[n-1].Day.Equal(day) {
			days = append(days, patch.DayTally{Day: day.UTC()})
		}
		days[len(days)-1].Tally.Merge(tally)
		tally = patch.Tally{}
		return nil
	})
	return days, err
}

// organisations are all, by their number, with their names.
func (s store) organisations(ctx context.Context) (map[uuid.UUID]string, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, name FROM organisations")
	if err != nil {
		return nil, err
	}
	all := map[uuid.UUID]string{}
	var id uuid.UUID
	var name string
	_, err = pgx.ForEachRow(rows, []any{&id, &name}, func() error { all[id] = name; return nil })
	return all, err
}

// mostOutcomes is how many rollouts a report tells of.
const mostOutcomes = 60

// outcomes are the rollouts that ran at devices in a time, the latest first.
func (s store) outcomes(ctx context.Context, devices []uuid.UUID, from, to time.Time) (all []patch.Outcome, err error) {
	rows, err := s.pool.Query(ctx, `SELECT r.spec, r.state, r.begun_at,
		n.states FROM rollouts r JOIN LATERAL (SELECT jsonb_object_agg(x.state, x.n) AS states FROM
			(SELECT d.state, count(*) AS n FROM rollout_devices d WHERE d.rollout_id = r.id AND d.device_id = ANY($1)
			GROUP BY d.state) x) n ON n.states IS NOT NULL
		WHERE r.begun_at < $3 AND coalesce(r.ended_at, $3) >= $2 ORDER BY r.begun_at DESC LIMIT $4`, devices, from, to, mostOutcomes)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (o patch.Outcome, err error) {
		var spec patch.Rollout
		var state patch.State
		if err := row.Scan(&spec, &state, &o.Begun, &o.Devices); err != nil {
			return o, err
		}
		return state.Outcome(spec, o), nil
	})
}

// installedAt counts what rollouts installed at devices in a time, that which most devices got first.
func (s store) installedAt(ctx context.Context, devices []uuid.UUID, from, to time.Time) ([]patch.Installed, error) {
	rows, err := s.pool.Query(ctx, `SELECT p.name, p.to_version,
		jsonb_build_object('installed', count(*) FILTER (WHERE p.state = 'installed'), 'failed', count(*) FILTER (WHERE p.state =
		'failed'), 'reverted', count(*) FILTER (WHERE p.state = 'reverted'))
		FROM patched p WHERE p.device_id = ANY($1) AND p.at >= $2 AND p.at < $3 AND p.state IN ('installed', 'failed', 'reverted')
		GROUP BY p.source, p.name, p.to_version ORDER BY count(*) DESC, p.name LIMIT 500`, devices, from, to)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x patch.Installed, err error) {
		return x, row.Scan(&x.Name, &x.To, &x.States)
	})
}

const selectSchedule = "SELECT r.id, r.content, o.name, r.next_at, r.sent_at, nullif(r.problem, ''), r.changed_at, r.changed_by FROM " +
	"report_schedules r LEFT JOIN organisations o ON o.id = r.organisation_id "

func scanSchedule(row pgx.CollectableRow) (r api.ReportSchedule, err error) {
	return r, row.Scan(&r.ID, &r.Schedule, &r.OrganisationName, &r.NextAt, &r.SentAt, &r.Problem, &r.ChangedAt, &r.ChangedBy)
}

func (s store) schedules(ctx context.Context, after named, limit int) ([]api.ReportSchedule, error) {
	rows, err := s.pool.Query(ctx, selectSchedule+"WHERE (r.name, r.id::text) > ($1, $2) ORDER BY r.name, r.id::text LIMIT $3", after.Name,
		after.ID, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanSchedule)
}

func (s store) scheduleOf(ctx context.Context, id uuid.UUID) (api.ReportSchedule, error) {
	rows, err := s.pool.Query(ctx, selectSchedule+"WHERE r.id = $1", id)
	if err != nil {
		return api.ReportSchedule{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanSchedule)
}

func (s store) setSchedule(ctx context.Context, id *uuid.UUID, in api.NewReportSchedule, next *time.Time, by string,
	owner uuid.UUID) (api.ReportSchedule, error) {
	query, args := "INSERT INTO report_schedules (name, organisation_id, content, next_at, changed_by, owner_id) VALUES ($1, $2, $3, "+
		"$4, $5, $6) RETURNING id", []any{in.Name, in.Organisation, in, next, by, owner}
	if id != nil {
		query, args = "UPDATE report_schedules SET name = $1, organisation_id = $2, content = $3, next_at = $4, changed_by = $5, "+
			"owner_id = $6, changed_at = now(), problem = '', tries = 0 WHERE id = $7 RETURNING id", append(args, *id)
	}
	var is uuid.UUID
	if err := s.pool.QueryRow(ctx, query, args...).Scan(&is); err != nil {
		return api.ReportSchedule{}, err
	}
	return s.scheduleOf(ctx, is)
}

// ownerOf is with whose rights a report is sent; uuid.Nil where nobody's.
func (s store) ownerOf(ctx context.Context, id uuid.UUID) (owner uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, "SELECT coalesce(owner_id, '00000000-0000-0000-0000-000000000000') FROM report_schedules WHERE id = $1",
		id).Scan(&owner)
	return owner, err
}

func (s store) removeSchedule(ctx context.Context, id uuid.UUID) (name string, err error) {
	return name, s.pool.QueryRow(ctx, "DELETE FROM report_schedules WHERE id = $1 RETURNING name", id).Scan(&name)
}

// claim takes the schedules that are due, for as long as sending them may take: no other node sends them then.
func (s store) claim(ctx context.Context, now time.Time, within time.Duration) ([]uuid.UUID, []time.Time, error) {
	rows, err := s.pool.Query(ctx, "UPDATE report_schedules SET next_at = $2 FROM (SELECT id, next_at AS due FROM report_schedules "+
		"WHERE next_at <= $1 FOR UPDATE SKIP LOCKED) d WHERE report_schedules.id = d.id RETURNING d.id, d.due", now, now.Add(within))
	if err != nil {
		return nil, nil, err
	}
	var ids []uuid.UUID
	var due []time.Time
	var id uuid.UUID
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &at}, func() error { ids, due = append(ids, id), append(due, at); return nil })
	return ids, due, err
}

// sent notes that a report was sent, and when the next is.
func (s store) sent(ctx context.Context, id uuid.UUID, at time.Time, next *time.Time) error {
	_, err := s.pool.Exec(ctx, "UPDATE report_schedules SET sent_at = $2, next_at = $3, problem = '', tries = 0 WHERE id = $1", id, at,
		next)
	return err
}

// notSent notes why a report could not be sent. It is tried again after a time, so many times; then next is its turn.
func (s store) notSent(ctx context.Context, id uuid.UUID, why string, again time.Time, most int, next *time.Time) error {
	_, err := s.pool.Exec(ctx, "UPDATE report_schedules SET problem = $2, tries = CASE WHEN tries + 1 >= $4 THEN 0 ELSE tries + 1 END, "+
		"next_at = CASE WHEN tries + 1 >= $4 THEN $5::timestamptz ELSE $3::timestamptz END WHERE id = $1", id, why, again, most, next)
	return err
}
