package health

import (
	"context"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
)

const selectAlerts = `SELECT a.id, a.device_id, a.site_id, d.name, s.name, o.name, a.check_name, a.subject, a.level, a.message, a.state,
	a.since, a.opened_at, a.resolved_at,
	a.snoozed_until, a.flaps, a.muted_until IS NOT NULL, p.email, a.suspect, CASE WHEN a.device_id IS NOT NULL THEN 1 ELSE
	(SELECT count(*) FROM alerts part WHERE part.parent_id = a.id AND (part.resolved_at IS NULL OR a.resolved_at IS NOT NULL)) END
	FROM alerts a JOIN sites s ON s.id = a.site_id JOIN organisations o ON o.id = s.organisation_id
	LEFT JOIN devices d ON d.id = a.device_id LEFT JOIN people p ON p.id = a.assignee_id`

func scanAPI(row pgx.CollectableRow) (a api.Alert, err error) {
	flaps := 0
	err = row.Scan(&a.ID, &a.DeviceID, &a.SiteID, &a.Device, &a.Site, &a.Organisation, &a.Check, &a.Subject, &a.Level, &a.Message, &a.State,
		&a.Since, &a.OpenedAt,
		&a.ResolvedAt, &a.SnoozedUntil, &flaps, &a.Muted, &a.Assignee, &a.Suspect, &a.Devices)
	a.Flapping = flaps >= health.FlapsAfter
	return a, err
}

// alertFilter is which alerts a list shows.
type alertFilter struct {
	state, check *string
	device       *uuid.UUID
	from         *time.Time
	view         []uuid.UUID // devices and sites; nil is all
}

// moment is where a page of a list ended that is ordered by time.
type moment struct {
	At time.Time
	ID uuid.UUID
}

func (s store) alerts(ctx context.Context, f alertFilter, before moment, limit int) ([]api.Alert, error) {
	rows, err := s.pool.Query(ctx, selectAlerts+` WHERE (a.opened_at, a.id) < ($1, $2)
		AND ($3::text IS NULL OR a.state = $3 OR ($3 = 'current' AND a.resolved_at IS NULL)) AND ($4::text IS NULL OR a.check_name = $4)
		AND ($5::uuid IS NULL OR a.device_id = $5) AND ($6::timestamptz IS NULL OR a.resolved_at IS NULL OR a.resolved_at >= $6)
		AND ($7::uuid[] IS NULL OR coalesce(a.device_id, a.site_id) = ANY($7))
		ORDER BY a.opened_at DESC, a.id DESC LIMIT $8`, before.At, before.ID, f.state, f.check, f.device, f.from, f.view, limit)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, scanAPI)
	if err != nil {
		return nil, err
	}
	return all, withResponses(ctx, s.pool, all)
}

func (s store) alert(ctx context.Context, id uuid.UUID) (a api.Alert, err error) {
	rows, err := s.pool.Query(ctx, selectAlerts+" WHERE a.id = $1", id)
	if err != nil {
		return a, err
	}
	if a, err = pgx.CollectExactlyOneRow(rows, scanAPI); err != nil {
		return a, err
	}
	one := []api.Alert{a}
	err = withResponses(ctx, s.pool, one)
	return one[0], err
}

func (s store) parts(ctx context.Context, id uuid.UUID) ([]api.Alert, error) {
	rows, err := s.pool.Query(ctx, selectAlerts+" WHERE a.parent_id = $1 ORDER BY d.name", id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanAPI)
}

func (s store) events(ctx context.Context, id uuid.UUID) ([]api.AlertEvent, error) {
	rows, err := s.pool.Query(ctx, "SELECT at, kind, actor, detail FROM alert_events WHERE alert_id = $1 ORDER BY id LIMIT 1000", id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (e api.AlertEvent, err error) {
		return e, row.Scan(&e.At, &e.Kind, &e.Actor, &e.Detail)
	})
}

// action is what a person does to an alert.
type action struct {
	kind     health.EventKind
	state    *health.AlertState
	until    *time.Time
	assignee *uuid.UUID
	assign   bool
	detail   string
}

// handle does an action to an alert that is not over, with its parts. A missing row means that it is.
func (s store) handle(ctx context.Context, id uuid.UUID, d action, by string, now time.Time) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var site uuid.UUID
		if err := tx.QueryRow(ctx, "SELECT site_id FROM alerts WHERE id = $1 AND (resolved_at IS NULL OR $2) FOR NO KEY UPDATE", id,
			d.state == nil).Scan(&site); err != nil {
			return err
		}
		if d.assign {
			if _, err := tx.Exec(ctx, "UPDATE alerts SET assignee_id = $2 WHERE id = $1", id, d.assignee); err != nil {
				return err
			}
		}
		if d.state != nil {
			var ended *time.Time
			if *d.state == health.Over {
				ended = &now
			}
			if _, err := tx.Exec(ctx, `UPDATE alerts SET state = $2, snoozed_until = $3, due = $3, resolved_at = $4,
				by_person = $4::timestamptz IS NOT NULL, quiet_since = NULL
				WHERE (id = $1 OR (parent_id = $1 AND $4::timestamptz IS NOT NULL)) AND resolved_at IS NULL`,
				id, *d.state, d.until, ended); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "INSERT INTO alert_events (alert_id, at, kind, actor, detail) VALUES ($1, $2, $3, $4, $5)", id, now, d.kind,
			by, d.detail)
		return err
	})
}

func (s store) person(ctx context.Context, email string) (id uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, "SELECT id FROM people WHERE email = lower($1) AND removed_at IS NULL", email).Scan(&id)
	return id, err
}

// escalate tells of alerts that nobody has acknowledged in time, each once.
func (s store) escalate(ctx context.Context, r *Rules, now time.Time,
	place func(context.Context, uuid.UUID) (health.Place, error)) (told bool, err error) {
	least := time.Duration(1<<62 - 1)
	for _, x := range r.all() {
		if x.EscalateMinutes > 0 {
			least = min(least, time.Duration(x.EscalateMinutes)*time.Minute)
		}
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+alertState+
			` FROM alerts a WHERE resolved_at IS NULL AND state = 'open' AND NOT escalated AND parent_id IS NULL AND opened_at <= $1
			ORDER BY id LIMIT 500 FOR NO KEY UPDATE SKIP LOCKED`, now.Add(-least))
		if err != nil {
			return err
		}
		found, err := pgx.CollectRows(rows, scanAlert)
		if err != nil {
			return err
		}
		var all []telling
		var done []uuid.UUID
		var events []happened
		for _, a := range found {
			p, name, err := standing(ctx, tx, a)
			if err == nil && a.device != uuid.Nil {
				*p, err = place(ctx, a.device)
			}
			if err != nil {
				return err
			}
			a.name, a.place = name, p
			for _, x := range r.all() {
				if x.Escalates(&a.Alert, p, !a.muted.IsZero(), now) {
					e := happened{alert: a, kind: health.Escalated}
					all, events, done = append(all, telling{x, x.escalate, e}), append(events, e), append(done, a.id)
				}
			}
		}
		told = len(all) > 0
		if !told {
			return nil
		}
		if _, err := tx.Exec(ctx, "UPDATE alerts SET escalated = true WHERE id = ANY($1)", done); err != nil {
			return err
		}
		if err := putEvents(ctx, tx, events, now); err != nil {
			return err
		}
		return putDeliveries(ctx, tx, all, now)
	})
	return told, err
}

// standing reads where an alert's site stands, and the name of what the alert is about.
func standing(ctx context.Context, tx pgx.Tx, a *alert) (*health.Place, string, error) {
	p := &health.Place{}
	var name string
	err := tx.QueryRow(ctx, `SELECT s.id::text, s.organisation_id::text, coalesce(d.name, s.name) FROM sites s LEFT JOIN devices d
		ON d.id = $2 WHERE s.id = $1`,
		a.site, orNil(a.device)).Scan(&p.Site, &p.Organisation, &name)
	return p, name, err
}

// suspected is of how many alerts, the latest, the suspects are worked out.
const suspected = 200

// current returns the current alerts of devices, whose suspects are worked out anew.
func (s store) current(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT id FROM alerts WHERE resolved_at IS NULL AND device_id IS NOT NULL AND parent_id IS NULL "+
		"ORDER BY opened_at DESC LIMIT $1", suspected)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

func (s store) setSuspect(ctx context.Context, id uuid.UUID, suspect *api.Suspect) (changed bool, err error) {
	tag, err := s.pool.Exec(ctx, "UPDATE alerts SET suspect = $2 WHERE id = $1 AND suspect IS DISTINCT FROM $2", id, suspect)
	return tag.RowsAffected() > 0, err
}

// setSince notes since when the state of a device's current alert has lasted, where that is earlier.
func (s store) setSince(ctx context.Context, o opened, since time.Time) (changed bool, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT FROM devices WHERE id = $1 FOR NO KEY UPDATE", o.device); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE findings SET since = $4 WHERE device_id = $1 AND check_name = $2 AND subject = $3 AND since > $4",
			o.device, o.check, o.subject, since); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "UPDATE alerts SET since = $4 WHERE device_id = $1 AND check_name = $2 AND subject = $3 AND since > $4 "+
			"AND resolved_at IS NULL", o.device, o.check, o.subject, since)
		changed = tag.RowsAffected() > 0
		return err
	})
	return changed, err
}

// recall stores an episode of the past as a resolved alert.
func recall(ctx context.Context, tx pgx.Tx, id uuid.UUID, check string, e health.Episode) error {
	_, subject, _ := strings.Cut(e.Reading, " ")
	_, err := tx.Exec(ctx, `INSERT INTO alerts (device_id, site_id, check_name, subject, level, message, state, since, opened_at,
		resolved_at)
		SELECT id, site_id, $2, $3, $4, $5, 'resolved', $6, $6, $7 FROM devices WHERE id = $1`,
		id, check, subject, e.Level, health.Past(check, subject, e), e.From, e.To)
	return err
}
