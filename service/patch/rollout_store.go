package patch

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
)

// selection is which devices a rollout was meant for.
type selection struct {
	Where *string    `json:"where,omitempty"`
	Group *uuid.UUID `json:"group,omitempty"`
}

// rollout is one as it is stored.
type rollout struct {
	id        uuid.UUID
	spec      patch.Rollout
	state     patch.State
	selection selection
	begunAt   time.Time
	begunBy   string
	owner     uuid.UUID // with whose rights it goes on
	adopted   *string   // by whom, where it was not who began it
	endedAt   *time.Time
}

const rolloutColumns = "r.id, r.spec, r.state, r.selection, r.begun_at, r.begun_by, r.ended_at, coalesce(r.owner_id, " +
	"'00000000-0000-0000-0000-000000000000'), r.adopted_by"

func scanRollout(row pgx.CollectableRow) (r rollout, err error) {
	return r, row.Scan(&r.id, &r.spec, &r.state, &r.selection, &r.begunAt, &r.begunBy, &r.endedAt, &r.owner, &r.adopted)
}

// addRollout stores a rollout with the rings of its devices.
func (s store) addRollout(ctx context.Context, r rollout, devices []uuid.UUID, rings []int) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO rollouts (id, spec, state, selection, begun_at, begun_by, owner_id) VALUES ($1, $2, $3, "+
			"$4, $5, $6, $7)", r.id, r.spec, r.state, r.selection, r.begunAt, r.begunBy, r.owner); err != nil {
			return err
		}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"rollout_devices"}, []string{"rollout_id", "device_id", "ring"},
			pgx.CopyFromSlice(len(devices), func(i int) ([]any, error) {
				return []any{r.id, devices[i], rings[i]}, nil
			}))
		return err
	})
}

// moment is a place in a list that is ordered by time.
type moment struct {
	At time.Time `json:"at"`
	ID uuid.UUID `json:"id"`
}

// rollouts lists rollouts with a device of a view, the latest first.
func (s store) rollouts(ctx context.Context, view []uuid.UUID, id *uuid.UUID, before moment, limit int) ([]rollout, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+rolloutColumns+
		` FROM rollouts r WHERE (r.begun_at, r.id) < ($1, $2) AND ($3::uuid IS NULL OR r.id = $3)
		AND ($4::uuid[] IS NULL OR EXISTS (SELECT FROM rollout_devices d WHERE d.rollout_id = r.id AND d.device_id = ANY($4)))
		ORDER BY r.begun_at DESC, r.id DESC LIMIT $5`, before.At, before.ID, id, view, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRollout)
}

// open are the rollouts that are not over.
func (s store) open(ctx context.Context) ([]rollout, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+rolloutColumns+" FROM rollouts r WHERE r.ended_at IS NULL ORDER BY r.begun_at")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRollout)
}

// late are the rollouts that are over, of which devices that were away are still caught up.
func (s store) late(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT DISTINCT d.rollout_id FROM rollout_devices d JOIN rollouts r ON r.id = d.rollout_id AND r.ended_at IS NOT NULL
		WHERE d.job_id IS NOT NULL AND d.state IN ('planned', 'running', 'reverting')`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// save stores how far a rollout has come, and its spec, of which what is left out may change.
func (s store) save(ctx context.Context, r rollout) error {
	_, err := s.pool.Exec(ctx, "UPDATE rollouts SET spec = $2, state = $3, ended_at = CASE WHEN $4 THEN coalesce(ended_at, now()) END "+
		"WHERE id = $1", r.id, r.spec, r.state, r.state.Phase.Over())
	return err
}

// adopt makes somebody a rollout's owner.
func (s store) adopt(ctx context.Context, id, owner uuid.UUID, by string) error {
	_, err := s.pool.Exec(ctx, "UPDATE rollouts SET owner_id = $2, adopted_by = $3 WHERE id = $1", id, owner, by)
	return err
}

// outside counts the devices of a rollout that are not in a view.
func (s store) outside(ctx context.Context, id uuid.UUID, view []uuid.UUID) (n int, err error) {
	err = s.pool.QueryRow(ctx, "SELECT count(*) FROM rollout_devices WHERE rollout_id = $1 AND $2::uuid[] IS NOT NULL AND NOT device_id "+
		"= ANY($2)", id, view).Scan(&n)
	return n, err
}

// inRing are the devices of a ring.
func (s store) inRing(ctx context.Context, id uuid.UUID, ring int) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT device_id FROM rollout_devices WHERE rollout_id = $1 AND ring = $2", id, ring)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// plannedFor is what a job is to install at a device.
type plannedFor struct {
	device  uuid.UUID
	updates []update.Update
}

// plan notes what a job is to install at the devices of a ring; those at which it has nothing to do are
// current.
func (s store) plan(ctx context.Context, id uuid.UUID, ring int, job uuid.UUID, all []plannedFor) error {
	var devices, at []uuid.UUID
	var sources, names, froms, tos []string
	for _, p := range all {
		devices = append(devices, p.device)
		for _, u := range p.updates {
			at, sources, names, froms, tos = append(at, p.device), append(sources, u.Source), append(names, u.Name), append(froms, u.From),
				append(tos, u.To)
		}
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO patched (rollout_id, device_id, job_id, source, name, from_version, to_version, state)
			SELECT $1, n.device, $2, n.source, n.name, n.f, n.t, 'planned' FROM unnest($3::uuid[], $4::text[], $5::text[], $6::text[],
			$7::text[]) n (device, source, name, f, t) ON CONFLICT DO NOTHING`, id, job, at, sources, names, froms, tos); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE rollout_devices SET state = CASE WHEN device_id = ANY($3) THEN 'planned' ELSE 'current' END,
			reason = '', began_at = NULL, ended_at = NULL,
			job_id = CASE WHEN device_id = ANY($3) THEN $4::uuid END WHERE rollout_id = $1 AND ring = $2 AND job_id IS DISTINCT FROM $4`,
			id, ring, devices, job)
		return err
	})
}

// planBack notes that a job is to take back what a ring installed, and returns at which devices what.
func (s store) planBack(ctx context.Context, id uuid.UUID, ring int, job uuid.UUID) (all []plannedFor, err error) {
	rows, err := s.pool.Query(ctx, `SELECT p.device_id, p.source, p.name, p.from_version,
		p.to_version FROM patched p JOIN rollout_devices d ON d.rollout_id = p.rollout_id AND d.device_id = p.device_id
		WHERE p.rollout_id = $1 AND d.ring = $2 AND p.state IN ('installed', 'failed') AND p.from_version <> ''
		AND p.source <> 'packages' ORDER BY p.device_id`, id, ring)
	if err != nil {
		return nil, err
	}
	_, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (none struct{}, err error) {
		var device uuid.UUID
		var u update.Update
		if err := row.Scan(&device, &u.Source, &u.Name, &u.From, &u.To); err != nil {
			return none, err
		}
		if len(all) == 0 || all[len(all)-1].device != device {
			all = append(all, plannedFor{device: device})
		}
		last := &all[len(all)-1]
		last.updates = append(last.updates, u)
		return none, nil
	})
	if err != nil {
		return nil, err
	}
	var devices []uuid.UUID
	for _, p := range all {
		devices = append(devices, p.device)
	}
	_, err = s.pool.Exec(ctx, "UPDATE rollout_devices SET state = 'reverting', reason = '', job_id = $3, ended_at = NULL WHERE "+
		"rollout_id = $1 AND device_id = ANY($2) AND job_id IS DISTINCT FROM $3", id, devices, job)
	return all, err
}

// settle takes over how runs ended.
func (s store) settle(ctx context.Context, id uuid.UUID) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for _, query := range []string{
			// Sent, and over.
			`UPDATE rollout_devices d SET state = 'running', began_at = r.sent_at FROM runs r WHERE d.rollout_id = $1
				AND d.state = 'planned' AND r.job_id = d.job_id AND r.device_id = d.device_id AND r.state = 'sent'`,
			`WITH settled AS (UPDATE patched p SET state = CASE r.state WHEN 'succeeded' THEN CASE WHEN d.state = 'reverting' THEN
					'reverted' ELSE 'installed' END WHEN 'failed' THEN 'failed' WHEN 'timed-out' THEN 'failed' WHEN 'interrupted' THEN
					'failed' ELSE CASE WHEN d.state = 'reverting' THEN p.state ELSE 'missed' END END,
				reason = r.reason, at = coalesce(r.ended_at, now())
				FROM rollout_devices d JOIN runs r ON r.job_id = d.job_id AND r.device_id = d.device_id WHERE d.rollout_id = $1
				AND p.rollout_id = d.rollout_id AND p.device_id = d.device_id
				AND (p.state = 'planned' AND d.state IN ('planned', 'running') AND p.job_id = d.job_id OR p.state IN ('installed',
				'failed') AND d.state = 'reverting' AND p.source <> 'packages') AND r.state NOT IN ('waiting', 'sent') RETURNING p.*),
			-- What a device misses is known at once, and told by itself soon after, whatever that was before.
			change AS (SELECT s.device_id, array_agg(u.id) FILTER (WHERE s.state = 'installed') AS gone, array_agg(u.id) FILTER (WHERE
			s.state = 'reverted') AS back
				FROM settled s JOIN updates u ON (u.source, u.name, u.to_version) = (s.source, s.name, s.to_version)
				WHERE s.source <> 'packages' GROUP BY s.device_id),
			lost AS (DELETE FROM lacking l USING settled s, updates u WHERE s.source = 'packages' AND s.state = 'installed'
			AND (u.source, u.name, u.to_version) = (s.source, s.name, s.to_version) AND l.device_id = s.device_id AND l.update_id = u.id)
			UPDATE missing m SET digest = '', updates = ARRAY(SELECT x FROM unnest(m.updates) x WHERE NOT x = ANY(coalesce(c.gone,
			'{}')) UNION SELECT unnest(coalesce(c.back, '{}'))) FROM change c WHERE c.device_id = m.device_id`,
			`UPDATE rollout_devices d SET state = CASE r.state WHEN 'succeeded' THEN CASE WHEN d.state = 'reverting' THEN 'reverted' ELSE
					'patched' END WHEN 'failed' THEN 'failed' WHEN 'timed-out' THEN 'failed' WHEN 'interrupted' THEN 'failed' ELSE 'missed' END,
				reason = r.reason, began_at = CASE WHEN d.state = 'reverting' THEN d.began_at ELSE coalesce(r.began_at, r.sent_at) END,
				ended_at = coalesce(r.ended_at, now())
				FROM runs r WHERE d.rollout_id = $1 AND d.state IN ('planned', 'running', 'reverting') AND r.job_id = d.job_id
				AND r.device_id = d.device_id AND r.state NOT IN ('waiting', 'sent')`,
		} {
			if _, err := tx.Exec(ctx, query, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// ringStates counts the devices of a rollout in a view by ring and state.
func (s store) ringStates(ctx context.Context, id uuid.UUID, view []uuid.UUID) (map[int]map[string]int, error) {
	rows, err := s.pool.Query(ctx, "SELECT ring, state, count(*) FROM rollout_devices WHERE rollout_id = $1 AND ($2::uuid[] IS NULL OR "+
		"device_id = ANY($2)) GROUP BY ring, state", id, view)
	if err != nil {
		return nil, err
	}
	out := map[int]map[string]int{}
	_, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (none struct{}, err error) {
		var ring, n int
		var state string
		if err := row.Scan(&ring, &state, &n); err != nil {
			return none, err
		}
		if out[ring] == nil {
			out[ring] = map[string]int{}
		}
		out[ring][state] = n
		return none, nil
	})
	return out, err
}

// brought counts what a rollout installs at the devices of a view, or is to, by update.
func (s store) brought(ctx context.Context, id uuid.UUID, view []uuid.UUID) ([]api.MissingUpdate, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+mendedColumns+`, u.first_seen, count(DISTINCT p.device_id),
		jsonb_build_object('planned', count(*) FILTER (WHERE p.state = 'planned'), 'installed', count(*) FILTER (WHERE p.state =
		'installed'),
			'failed', count(*) FILTER (WHERE p.state = 'failed'), 'missed', count(*) FILTER (WHERE p.state = 'missed'), 'reverted',
			count(*) FILTER (WHERE p.state = 'reverted'))
		FROM patched p JOIN updates u ON (u.source, u.name, u.to_version) = (p.source, p.name, p.to_version) `+joinMended+`WHERE p.rollout_id = $1 AND ($2::uuid[] IS NULL OR p.device_id = ANY($2)) GROUP BY u.id, r.ids, r.severities, r.exploited ORDER BY count(DISTINCT p.device_id) DESC, u.name LIMIT 500`, id, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x api.MissingUpdate, err error) {
		m := mending{of: &x.Update}
		err = row.Scan(&m.content, &m.ids, &m.severities, &m.exploited, &x.FirstSeen, &x.Devices, &x.States)
		m.take()
		return x, err
	})
}

// facts is what became of those of a ring that were patched, and of those that have not been yet.
func (s store) facts(ctx context.Context, id uuid.UUID, ring int, began time.Time) (f patch.Facts, patched, others []uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE state = 'failed'), count(*) FILTER (WHERE state IN ('failed', 'patched'))
		FROM rollout_devices WHERE rollout_id = $1 AND ring = $2`, id, ring).Scan(&f.Installs.Bad, &f.Installs.Of)
	if err != nil {
		return f, nil, nil, err
	}
	rows, err := s.pool.Query(ctx, `SELECT d.device_id, d.ring = $2,
		EXISTS (SELECT FROM alerts a WHERE a.device_id = d.device_id AND a.opened_at >= CASE WHEN d.ring = $2 THEN greatest(d.began_at,
		$3) ELSE $3 END AND a.check_name <> 'silent')
		FROM rollout_devices d WHERE d.rollout_id = $1 AND (d.ring = $2 AND d.state IN ('patched', 'failed') OR d.ring > $2
		AND d.state IN ('planned', 'missed'))`, id, ring, began)
	if err != nil {
		return f, nil, nil, err
	}
	_, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (none struct{}, err error) {
		var device uuid.UUID
		var mine, bad bool
		if err := row.Scan(&device, &mine, &bad); err != nil {
			return none, err
		}
		share := &f.Others
		if mine {
			share, patched = &f.Alerts, append(patched, device)
		} else {
			others = append(others, device)
		}
		share.Of++
		if bad {
			share.Bad++
		}
		return none, nil
	})
	return f, patched, others, err
}

// standing is where in the list of a rollout's devices one stands.
type standing struct {
	Ring int       `json:"ring"`
	Rank int       `json:"rank"`
	Name string    `json:"name"`
	ID   uuid.UUID `json:"id"`
}

const stateRank = "CASE d.state WHEN 'failed' THEN 0 WHEN 'running' THEN 1 WHEN 'reverting' THEN 1 WHEN 'planned' THEN 2 WHEN 'missed' " +
	"THEN 3 WHEN 'patched' THEN 4 WHEN 'reverted' THEN 5 ELSE 6 END"

// devices lists the devices of a rollout that are in a view.
func (s store) devices(ctx context.Context, id uuid.UUID, view []uuid.UUID, ring *int, after standing, limit int) (out []api.RolloutDevice,
	at []standing, err error) {
	rows, err := s.pool.Query(ctx, `SELECT d.device_id, v.name, d.ring, d.state, d.reason, d.job_id, d.ended_at, `+stateRank+`,
			(SELECT count(*) FROM alerts a WHERE a.device_id = d.device_id AND d.began_at IS NOT NULL AND a.opened_at >= d.began_at),
			coalesce((SELECT jsonb_agg(jsonb_build_object('source', p.source, 'name', p.name, 'from', p.from_version, 'to', p.to_version,
			'state', p.state, 'at', p.at) ORDER BY p.name) FROM patched p WHERE p.rollout_id = d.rollout_id
			AND p.device_id = d.device_id), '[]')
		FROM rollout_devices d JOIN devices v ON v.id = d.device_id WHERE d.rollout_id = $1 AND ($2::uuid[] IS NULL
		OR d.device_id = ANY($2)) AND ($3::int IS NULL OR d.ring = $3)
		AND (d.ring, `+stateRank+`, v.name, d.device_id) > ($4, $5, $6, $7) ORDER BY d.ring, `+stateRank+`, v.name, d.device_id LIMIT $8`, id, view, ring, after.Ring, after.Rank, after.Name, after.ID, limit)
	if err != nil {
		return nil, nil, err
	}
	out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (x api.RolloutDevice, err error) {
		var rank, alerts int
		var reason string
		err = row.Scan(&x.DeviceID, &x.Device, &x.Ring, &x.State, &reason, &x.JobID, &x.EndedAt, &rank, &alerts, &x.Patched)
		if reason != "" {
			x.Reason = &reason
		}
		if alerts > 0 {
			x.Alerts = &alerts
		}
		at = append(at, standing{x.Ring, rank, x.Device, x.DeviceID})
		return x, err
	})
	return out, at, err
}

// again makes rings stand as before they began.
func (s store) again(ctx context.Context, id uuid.UUID, from int) error {
	_, err := s.pool.Exec(ctx, "UPDATE rollout_devices SET state = 'planned', reason = '', job_id = NULL, began_at = NULL, ended_at = "+
		"NULL WHERE rollout_id = $1 AND ring >= $2", id, from)
	return err
}

// asleep are devices of a ring that are to be patched and were not woken since a time.
func (s store) asleep(ctx context.Context, id uuid.UUID, ring int, since time.Time) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT device_id FROM rollout_devices WHERE rollout_id = $1 AND ring = $2 AND state = 'planned' AND "+
		"job_id IS NOT NULL AND (woken_at IS NULL OR woken_at < $3)", id, ring, since)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

func (s store) woke(ctx context.Context, id uuid.UUID, devices []uuid.UUID, at time.Time) error {
	if len(devices) == 0 {
		return nil
	}
	_, err := s.pool.Exec(ctx, "UPDATE rollout_devices SET woken_at = $3 WHERE rollout_id = $1 AND device_id = ANY($2)", id, devices, at)
	return err
}

// awake is a device that was woken for a rollout.
type awake struct {
	rollout, device uuid.UUID
	by              string // who began it
}

// toShut are devices that were woken and are to be shut down, in any order, so that none keeps others waiting.
func (s store) toShut(ctx context.Context, most int) ([]awake, error) {
	rows, err := s.pool.Query(ctx, `SELECT d.rollout_id, d.device_id,
		r.begun_by FROM rollout_devices d JOIN rollouts r ON r.id = d.rollout_id
		WHERE d.woken_at IS NOT NULL AND d.shut_at IS NULL AND (r.ended_at IS NOT NULL OR d.ring < (r.state->>'at')::int)
		ORDER BY random() LIMIT $1`, most)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (a awake, err error) {
		return a, row.Scan(&a.rollout, &a.device, &a.by)
	})
}

func (s store) wasShut(ctx context.Context, a awake) error {
	_, err := s.pool.Exec(ctx, "UPDATE rollout_devices SET shut_at = now() WHERE rollout_id = $1 AND device_id = $2", a.rollout, a.device)
	return err
}

// midway is a device that is in the middle of its run.
type midway struct {
	device uuid.UUID
	online bool
	since  time.Time // it has been so
	start  float64   // seconds that a start takes it; 0 where that is not known
	reason string
}

func (s store) midway(ctx context.Context, id uuid.UUID) ([]midway, error) {
	rows, err := s.pool.Query(ctx, `SELECT d.device_id, v.online, v.presence_since, coalesce((v.vitals->>'start_seconds')::float8, 0),
		d.reason FROM rollout_devices d JOIN devices v ON v.id = d.device_id
		WHERE d.rollout_id = $1 AND d.state IN ('running', 'reverting') AND (NOT v.online OR d.reason <> '')`, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m midway, err error) {
		return m, row.Scan(&m.device, &m.online, &m.since, &m.start, &m.reason)
	})
}

func (s store) because(ctx context.Context, id, device uuid.UUID, why string) error {
	_, err := s.pool.Exec(ctx, "UPDATE rollout_devices SET reason = $3 WHERE rollout_id = $1 AND device_id = $2 AND state IN "+
		"('running', 'reverting')", id, device, why)
	return err
}
