package health

import (
	"cmp"
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
)

// store is every question that this column asks of the database.
type store struct {
	pool *pgxpool.Pool
	ring *secret.Ring // seals the secrets of webhooks
}

// review reads devices, has them judged, and stores what came of it, all or nothing.
func (s store) review(ctx context.Context, ids []uuid.UUID, r *review) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		all, err := load(ctx, tx, ids)
		if err != nil {
			return err
		}
		for _, j := range all {
			r.judge(j)
		}
		if err := putFindings(ctx, tx, all); err != nil {
			return err
		}
		if err := putResponses(ctx, tx, all); err != nil {
			return err
		}
		var sites map[uuid.UUID]*site
		if stirred := r.stirred(); len(stirred) > 0 {
			if sites, err = loadSites(ctx, tx, stirred, all); err != nil {
				return err
			}
			r.sites(sites)
		}
		var alerts []*alert // those of sites before their parts, which refer to them
		for _, s := range sites {
			if s.alert != nil && s.alert.touched {
				alerts = append(alerts, s.alert)
			}
		}
		for _, s := range sites {
			for _, part := range s.silent {
				if part.touched && all[part.device] == nil {
					alerts = append(alerts, part)
				}
			}
		}
		for _, j := range all {
			for _, a := range j.alerts {
				if a.touched {
					alerts = append(alerts, a)
				}
			}
		}
		if err := putAlerts(ctx, tx, alerts); err != nil {
			return err
		}
		if err := putEvents(ctx, tx, r.events, r.now); err != nil {
			return err
		}
		told := r.tells()
		r.told = len(told) > 0
		return putDeliveries(ctx, tx, told, r.now)
	})
}

func load(ctx context.Context, tx pgx.Tx, ids []uuid.UUID) (map[uuid.UUID]*judged, error) {
	rows, err := tx.Query(ctx, `SELECT devices.id, name, site_id, coalesce(facts->>'time_zone', ''), condition, online, presence_since,
		vitals, skew,
		coalesce(conflict_at, '0001-01-01 UTC'), agent_version, trends, safety, coalesce(q.asked, ''), coalesce(q.asked_at, '0001-01-01 UTC'),
		coalesce(exceeded_at, '0001-01-01 UTC'), exceeded, waiting
		FROM devices LEFT JOIN LATERAL (SELECT q.asked_at, CASE q.kind
				WHEN 'copied' THEN 'The computer ' || q.host_name || ' shows this device''s identity and is kept out: say whether it is this device in another body, or a copy.'
				WHEN 'enrolled' THEN 'It is new, and waits until somebody lets it in.'
				ELSE 'It has the hardware of ' || o.name || ', which is not heard from any more: say whether it is the same device.' END AS asked
			FROM identity_questions q LEFT JOIN devices o ON o.id = q.older_id WHERE q.device_id = devices.id AND q.answered_at IS NULL
			ORDER BY q.asked_at, q.id LIMIT 1) q ON true
		WHERE id = ANY($1) AND retired_at IS NULL ORDER BY id FOR NO KEY UPDATE OF devices`, ids)
	if err != nil {
		return nil, err
	}
	all := map[uuid.UUID]*judged{}
	var j judged
	var vitals []byte
	_, err = pgx.ForEachRow(rows, []any{&j.device, &j.name, &j.site, &j.zone, &j.condition, &j.state.Online, &j.state.Since, &vitals,
		&j.state.Skew,
		&j.state.Conflict, &j.state.AgentVersion, &j.state.Trends, &j.state.Safety, &j.state.Asked, &j.state.AskedSince,
		&j.state.Exceeded, &j.state.ExceededWhat, &j.state.Waiting}, func() error {
		one := j
		j.state.Trends, j.state.Safety = nil, nil
		if vitals != nil {
			one.state.Vitals = new(device.Vitals)
			if err := json.Unmarshal(vitals, one.state.Vitals); err != nil {
				return err
			}
		}
		if one.state.Conflict.Year() == 1 {
			one.state.Conflict = time.Time{}
		}
		if one.state.Exceeded.Year() == 1 {
			one.state.Exceeded = time.Time{}
		}
		all[j.device] = &one
		return nil
	})
	if err != nil {
		return nil, err
	}
	if rows, err = tx.Query(ctx, `SELECT device_id, check_name, subject, level, message, since, pending, rising,
		coalesce(rising_since, '0001-01-01 UTC'),
		coalesce(due, '0001-01-01 UTC') FROM findings WHERE device_id = ANY($1)`, ids); err != nil {
		return nil, err
	}
	var id uuid.UUID
	var f health.Finding
	if _, err = pgx.ForEachRow(rows, []any{&id, &f.Check, &f.Subject, &f.Level, &f.Message, &f.Since, &f.Pending, &f.Rising, &f.RisingSince,
		&f.Due}, func() error {
		if one := all[id]; one != nil {
			one.before = append(one.before, f)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	rows, err = tx.Query(ctx, "SELECT "+alertState+` FROM alerts a WHERE device_id = ANY($1) AND (resolved_at IS NULL OR resolved_at > $2
		OR (by_person AND EXISTS (SELECT FROM findings f WHERE f.device_id = a.device_id AND f.check_name = a.check_name
		AND f.subject = a.subject AND f.since <= a.resolved_at)))
		ORDER BY opened_at DESC FOR NO KEY UPDATE`, ids, time.Now().Add(-health.ReopenWithin))
	if err != nil {
		return nil, err
	}
	found, err := pgx.CollectRows(rows, scanAlert)
	for _, a := range found {
		if one := all[a.device]; one != nil {
			a.name = one.name
			one.alerts = append(one.alerts, a)
		}
	}
	if err != nil {
		return nil, err
	}
	return all, loadResponses(ctx, tx, ids, all)
}

// alertState are the columns that an alert's life is followed by.
const alertState = `a.id, coalesce(a.device_id, '00000000-0000-0000-0000-000000000000'), a.site_id,
	coalesce(a.parent_id, '00000000-0000-0000-0000-000000000000'),
	a.check_name, a.subject, a.level, a.message, a.state, a.since, a.opened_at, coalesce(a.resolved_at, '0001-01-01 UTC'), a.by_person,
	coalesce(a.snoozed_until, '0001-01-01 UTC'), a.flaps, coalesce(a.quiet_since, '0001-01-01 UTC'), coalesce(a.muted_until,
	'0001-01-01 UTC')`

func scanAlert(row pgx.CollectableRow) (*alert, error) {
	a := &alert{}
	err := row.Scan(&a.id, &a.device, &a.site, &a.parent, &a.Check, &a.Subject, &a.Level, &a.Message, &a.State, &a.Since, &a.OpenedAt,
		&a.ResolvedAt,
		&a.ByPerson, &a.SnoozedUntil, &a.Flaps, &a.QuietSince, &a.muted)
	for _, t := range []*time.Time{&a.ResolvedAt, &a.SnoozedUntil, &a.QuietSince, &a.muted} {
		if t.Year() == 1 {
			*t = time.Time{}
		}
	}
	return a, err
}

// putFindings stores the conditions and findings of those devices whose are not what they were.
func putFindings(ctx context.Context, tx pgx.Tx, all map[uuid.UUID]*judged) error {
	var changed []uuid.UUID
	var rows [][]any
	ids, conditions := make([]uuid.UUID, 0, len(all)), make([]string, 0, len(all))
	for _, j := range all {
		ids, conditions = append(ids, j.device), append(conditions, string(j.condition))
		if !differ(j.before, j.findings) {
			continue
		}
		changed = append(changed, j.device)
		for _, f := range j.findings {
			rows = append(rows, []any{j.device, f.Check, f.Subject, f.Level, f.Message, f.Since, f.Pending, f.Rising, orNull(f.RisingSince),
				orNull(f.Due)})
		}
	}
	if _, err := tx.Exec(ctx, "UPDATE devices d SET condition = n.condition FROM unnest($1::uuid[], $2::text[]) n (id, condition) WHERE "+
		"d.id = n.id AND d.condition <> n.condition", ids, conditions); err != nil {
		return err
	}
	if len(changed) == 0 {
		return nil
	}
	if _, err := tx.Exec(ctx, "DELETE FROM findings WHERE device_id = ANY($1)", changed); err != nil {
		return err
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"findings"},
		[]string{"device_id", "check_name", "subject", "level", "message", "since", "pending", "rising", "rising_since", "due"},
		pgx.CopyFromRows(rows))
	return err
}

func orNull(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func orNil(id uuid.UUID) *uuid.UUID {
	if id == uuid.Nil {
		return nil
	}
	return &id
}

// due is when the passing of time alone changes an alert: its own time, or the end of what mutes it.
func (a *alert) due() *time.Time {
	at := a.Due()
	if a.State != health.Over && !a.muted.IsZero() && (at.IsZero() || a.muted.Before(at)) {
		at = a.muted
	}
	return orNull(at)
}

func putAlerts(ctx context.Context, tx pgx.Tx, alerts []*alert) error {
	batch := &pgx.Batch{}
	for _, a := range alerts {
		batch.Queue(`INSERT INTO alerts (id, device_id, site_id, parent_id, check_name, subject, level, message, state, since, opened_at,
			resolved_at, by_person,
			snoozed_until, flaps, quiet_since, muted_until, due) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15,
			$16, $17, $18)
			ON CONFLICT (id) DO UPDATE SET parent_id = excluded.parent_id, level = excluded.level, message = excluded.message, state =
			excluded.state,
			resolved_at = excluded.resolved_at, by_person = excluded.by_person, snoozed_until = excluded.snoozed_until, flaps = excluded.flaps,
			quiet_since = excluded.quiet_since, muted_until = excluded.muted_until, due = excluded.due,
			escalated = alerts.escalated AND excluded.resolved_at IS NULL`,
			a.id, orNil(a.device), a.site, orNil(a.parent), a.Check, a.Subject, a.Level, a.Message, a.State, a.Since, a.OpenedAt,
			orNull(a.ResolvedAt), a.ByPerson,
			orNull(a.SnoozedUntil), a.Flaps, orNull(a.QuietSince), orNull(a.muted), a.due())
	}
	return tx.SendBatch(ctx, batch).Close()
}

func putEvents(ctx context.Context, tx pgx.Tx, events []happened, now time.Time) error {
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"alert_events"}, []string{"alert_id", "at", "kind", "actor", "detail"},
		pgx.CopyFromSlice(len(events), func(i int) ([]any, error) {
			e := events[i]
			return []any{e.alert.id, now, e.kind, "service", cmp.Or(e.detail, e.alert.Message)}, nil
		}))
	return err
}

// loadSites reads the sites in which devices fell silent or came back. Of the alerts of silence,
// those of this review are taken as they are now.
func loadSites(ctx context.Context, tx pgx.Tx, ids []uuid.UUID, all map[uuid.UUID]*judged) (map[uuid.UUID]*site, error) {
	sites := map[uuid.UUID]*site{}
	rows, err := tx.Query(ctx, `SELECT s.id, s.organisation_id, s.name, d.online,
		d.presence_since FROM sites s JOIN devices d ON d.site_id = s.id AND d.retired_at IS NULL
		WHERE s.id = ANY($1)`, ids)
	if err != nil {
		return nil, err
	}
	var row site
	var p health.Presence
	if _, err = pgx.ForEachRow(rows, []any{&row.id, &row.organisation, &row.name, &p.Online, &p.Since}, func() error {
		if sites[row.id] == nil {
			sites[row.id] = &site{id: row.id, organisation: row.organisation, name: row.name}
		}
		sites[row.id].presences = append(sites[row.id].presences, p)
		return nil
	}); err != nil {
		return nil, err
	}
	if rows, err = tx.Query(ctx, "SELECT "+alertState+
		" FROM alerts a WHERE site_id = ANY($1) AND check_name = $2 AND resolved_at IS NULL FOR NO KEY UPDATE", ids,
		health.CheckSilent); err != nil {
		return nil, err
	}
	stored, err := pgx.CollectRows(rows, scanAlert)
	for _, a := range stored {
		s := sites[a.site]
		switch {
		case s == nil:
		case a.device == uuid.Nil:
			a.name = s.name
			s.alert = a
		case all[a.device] == nil:
			s.silent = append(s.silent, a)
		}
	}
	for _, j := range all {
		if s := sites[j.site]; s != nil {
			if a := j.alert(health.CheckSilent, ""); a != nil {
				s.silent = append(s.silent, a)
			}
		}
	}
	return sites, err
}

// dueDevices is how many devices are judged again at once because something is due.
const dueDevices = 1000

// due returns devices of whose findings or alerts something changes by now.
func (s store) due(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, `SELECT device_id FROM findings WHERE due <= now() UNION
		SELECT device_id FROM alerts WHERE due <= now() AND device_id IS NOT NULL LIMIT $1`, dueDevices)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// overview is the alerts that need a person, worst first, and how many devices are in each condition,
// all as of one moment.
type overview struct {
	alerts []api.Alert
	quiet  int // snoozed or muted
	tally  api.Tally
}

// current are the alerts that need a person: open or acknowledged, not muted, not a part of their
// site's.
const current = `a.resolved_at IS NULL AND a.parent_id IS NULL`

// overview reads what needs a person, of the devices and sites of a view.
func (s store) overview(ctx context.Context, view []uuid.UUID, limit int) (o overview, err error) {
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		const own = " AND ($1::uuid[] IS NULL OR coalesce(a.device_id, a.site_id) = ANY($1))"
		rows, err := tx.Query(ctx, selectAlerts+" WHERE "+current+own+` AND a.state <> 'snoozed' AND a.muted_until IS NULL
			ORDER BY CASE a.level WHEN 'critical' THEN 0 WHEN 'warning' THEN 1 ELSE 2 END, a.state = 'acknowledged', a.since DESC, a.id
			LIMIT $2`, view, limit)
		if err != nil {
			return err
		}
		if o.alerts, err = pgx.CollectRows(rows, scanAPI); err != nil {
			return err
		}
		if err := withResponses(ctx, tx, o.alerts); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM alerts a WHERE (a.state = 'snoozed' OR a.muted_until IS NOT NULL) AND "+current+
			own, view).Scan(&o.quiet); err != nil {
			return err
		}
		t := &o.tally
		return tx.QueryRow(ctx, `SELECT count(*) FILTER (WHERE condition = 'healthy'), count(*) FILTER (WHERE condition = 'degraded'),
			count(*) FILTER (WHERE condition = 'failing'), count(*) FILTER (WHERE condition = 'silent')
			FROM devices WHERE retired_at IS NULL AND ($1::uuid[] IS NULL OR id = ANY($1))`,
			view).Scan(&t.Healthy, &t.Degraded, &t.Failing, &t.Silent)
	})
	return o, err
}
