package patch

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/service/fleet"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

// told notes that a device is offered what it was, by the digest; known is false where that is another.
func (s store) told(ctx context.Context, id uuid.UUID, digest string) (known bool, err error) {
	tag, err := s.pool.Exec(ctx, "UPDATE missing SET told_at = now() WHERE device_id = $1 AND digest = $2", id, digest)
	return tag.RowsAffected() == 1, err
}

// detail is what is known of an update at one device.
type detail struct {
	From    string `json:"from,omitempty"`
	Blocked string `json:"blocked,omitempty"`
}

// setMissing stores what a device is offered.
func (s store) setMissing(ctx context.Context, id uuid.UUID, digest, problem string, all []update.Update) error {
	n := len(all)
	sources, names, tos, contents := make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	for i, u := range all {
		sources[i], names[i], tos[i] = u.Source, u.Name, u.To
		u.From, u.Blocked = "", ""
		text, err := json.Marshal(u)
		if err != nil {
			return err
		}
		contents[i] = string(text)
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, "SELECT true FROM devices WHERE id = $1 AND retired_at IS NULL FOR NO KEY UPDATE",
			id).Scan(&there); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO updates (source, name, to_version, content) SELECT n.source, n.name, n.to_version,
			n.content::jsonb FROM unnest($1::text[], $2::text[], $3::text[], $4::text[]) n (source, name, to_version, content)
			LEFT JOIN updates u USING (source, name, to_version) WHERE u.id IS NULL ORDER BY 1, 2, 3 ON CONFLICT DO NOTHING`,
			sources, names, tos, contents); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "SELECT u.id, n.place::int FROM unnest($1::text[], $2::text[], $3::text[]) WITH ORDINALITY n "+
			"(source, name, to_version, place) JOIN updates u USING (source, name, to_version) ORDER BY u.id", sources, names, tos)
		if err != nil {
			return err
		}
		ids, blocked, details := []int32{}, []int32{}, map[int32]detail{}
		if _, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (none struct{}, err error) {
			var id int32
			var place int
			if err := row.Scan(&id, &place); err != nil {
				return none, err
			}
			u := all[place-1]
			if ids = append(ids, id); u.Blocked != "" {
				blocked = append(blocked, id)
			}
			details[id] = detail{u.From, u.Blocked}
			return none, nil
		}); err != nil {
			return err
		}
		// What a run is told to have failed at may be there all the same.
		if _, err := tx.Exec(ctx,
			`UPDATE patched p SET state = 'installed' WHERE p.device_id = $1 AND p.state = 'failed' AND p.source <> 'packages'
					AND p.at > now() - interval '1 day'
			AND NOT EXISTS (SELECT FROM unnest($2::text[], $3::text[]) n (source, name) WHERE n.source = p.source AND n.name = p.name)`,
			id, sources, names); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO missing VALUES ($1, $2, $3, now(), $4, $5,
			$6) ON CONFLICT (device_id) DO UPDATE SET digest = excluded.digest, problem = excluded.problem, told_at = excluded.told_at,
			updates = excluded.updates, blocked = excluded.blocked, details = excluded.details`, id, digest, problem, ids, blocked, details)
		return err
	})
}

// expire forgets updates that no device misses and none was patched with.
func (s store) expire(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM updates u WHERE first_seen < now() - interval '30 days' AND NOT EXISTS (
		SELECT FROM patched p WHERE (p.source, p.name, p.to_version) = (u.source, u.name, u.to_version))
		AND u.id NOT IN (SELECT unnest(updates) FROM missing) AND u.id NOT IN (SELECT update_id FROM lacking)`)
	return err
}

// catalogue is the updates of all devices, by their number.
type catalogue map[int32]*known

type known struct {
	update.Update
	firstSeen time.Time
}

// An update, and what advisories say of what it mends, as mending reads it.
const (
	mendedColumns = "u.content, r.ids, r.severities, coalesce(r.exploited, false)"
	joinMended    = `LEFT JOIN LATERAL (SELECT array_agg(a.id ORDER BY a.score DESC, a.id) AS ids,
		array_agg(DISTINCT a.severity) AS severities, bool_or(a.exploited IS NOT NULL) AS exploited
		FROM advisories a WHERE a.num = ANY(u.mends)) r ON u.mends <> '{}' `
)

type mending struct {
	of         *update.Update
	content    update.Update
	ids        []string
	severities []update.Severity
	exploited  bool
}

func (m *mending) take() {
	*m.of = m.content
	m.of.Mending(m.ids, m.severities, m.exploited)
}

func (s store) catalogue(ctx context.Context) (catalogue, error) {
	rows, err := s.pool.Query(ctx, "SELECT u.id, u.first_seen, "+mendedColumns+" FROM updates u "+joinMended)
	if err != nil {
		return nil, err
	}
	all := catalogue{}
	var updates []*update.Update
	defer rows.Close()
	for rows.Next() {
		var id int32
		k := &known{}
		m := mending{of: &k.Update}
		if err := rows.Scan(&id, &k.firstSeen, &m.content, &m.ids, &m.severities, &m.exploited); err != nil {
			return nil, err
		}
		m.take()
		all[id], updates = k, append(updates, &k.Update)
	}
	update.Replace(updates)
	return all, rows.Err()
}

// brief is what a device misses, by its numbers alone.
type brief struct {
	device  uuid.UUID
	updates []int32
	blocked []int32 // of them
	told    time.Time
	problem string
}

// What a device misses: what it told, and of packages of the library what was worked out.
const (
	allMissing = "m.updates || coalesce((SELECT array_agg(l.update_id) FROM lacking l WHERE l.device_id = m.device_id), '{}')"
	allDetails = "m.details || coalesce((SELECT jsonb_object_agg(l.update_id::text, jsonb_build_object('from', l.from_version)) FROM " +
		"lacking l WHERE l.device_id = m.device_id), '{}')"
)

const ofDevices = " FROM missing m JOIN devices d ON d.id = m.device_id AND d.retired_at IS NULL WHERE ($1::uuid[] IS NULL OR " +
	"m.device_id = ANY($1)) AND ($2::uuid[] IS NULL OR m.device_id = ANY($2))"

// briefly reads what devices miss: those of a view, and of them the ones that are named, where that is not
// nil. Those that miss nothing are among them.
func (s store) briefly(ctx context.Context, view, only []uuid.UUID, each func(brief)) error {
	rows, err := s.pool.Query(ctx, "SELECT m.device_id, "+allMissing+", m.blocked, m.told_at, m.problem"+ofDevices, view, only)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b brief
		if err := rows.Scan(&b.device, &b.updates, &b.blocked, &b.told, &b.problem); err != nil {
			return err
		}
		each(b)
	}
	return rows.Err()
}

// wholly reads what devices miss with all that is known of it.
func (s store) wholly(ctx context.Context, only []uuid.UUID, each func(b brief, details map[int32]detail)) error {
	rows, err := s.pool.Query(ctx, "SELECT m.device_id, "+allMissing+", m.blocked, m.told_at, m.problem, "+allDetails+ofDevices, nil, only)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b brief
		var details map[int32]detail
		if err := rows.Scan(&b.device, &b.updates, &b.blocked, &b.told, &b.problem, &details); err != nil {
			return err
		}
		each(b, details)
	}
	return rows.Err()
}

// patchedAt lists what was installed at a device, the latest first.
func (s store) patchedAt(ctx context.Context, id uuid.UUID, limit int) ([]api.Patched, error) {
	rows, err := s.pool.Query(ctx, `SELECT p.source, p.name, p.from_version, p.to_version, p.state, p.at, p.rollout_id, r.spec->>'name',
		p.job_id, p.reason, x.restarted_at, coalesce(x.head, ''), coalesce(x.tail, '')
		FROM patched p JOIN rollouts r ON r.id = p.rollout_id LEFT JOIN runs x ON x.job_id = p.job_id AND x.device_id = p.device_id
		WHERE p.device_id = $1 ORDER BY p.at DESC, p.name LIMIT $2`, id, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanPatched)
}

func scanPatched(row pgx.CollectableRow) (p api.Patched, err error) {
	var head, tail []byte
	err = row.Scan(&p.Source, &p.Name, &p.From, &p.To, &p.State, &p.At, &p.RolloutID, &p.Rollout, &p.JobID, &p.Reason, &p.RestartedAt,
		&head, &tail)
	if text := patch.Excerpt(string(head)+"\n"+string(tail), p.Name, p.State == "failed"); text != "" {
		p.Log = &text
	}
	return p, err
}

var approvalColumns = "a.id, a.rule, " + fleet.ScopeName("a.rule->'scope'->>'kind'", "coalesce(a.rule->'scope'->>'id', '')") +
	", a.changed_at, a.changed_by"

func scanApproval(row pgx.CollectableRow) (a api.Approval, err error) {
	var id uuid.UUID
	err = row.Scan(&id, &a.Rule, &a.ScopeName, &a.ChangedAt, &a.ChangedBy)
	a.Rule.ID = id.String()
	return a, err
}

// named is where in a list by name something stands.
type named struct {
	Name string `json:"name"`
	ID   string `json:"id"`
}

func (s store) approvals(ctx context.Context, after named, limit int) ([]api.Approval, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+approvalColumns+
		" FROM approvals a WHERE (a.rule->>'name', a.id::text) > ($1, $2) ORDER BY a.rule->>'name', a.id::text LIMIT $3", after.Name,
		after.ID, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanApproval)
}

func (s store) setApproval(ctx context.Context, id *uuid.UUID, r patch.Rule, by string) (api.Approval, error) {
	r.ID = ""
	query, args := "WITH a AS (INSERT INTO approvals (rule, changed_by) VALUES ($1, $2) RETURNING *)", []any{r, by}
	if id != nil {
		query, args = "WITH a AS (UPDATE approvals SET rule = $1, changed_by = $2, changed_at = now() WHERE id = $3 RETURNING *)",
			append(args, *id)
	}
	rows, err := s.pool.Query(ctx, query+" SELECT "+approvalColumns+" FROM a", args...)
	if err != nil {
		return api.Approval{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanApproval)
}

func (s store) removeApproval(ctx context.Context, id uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "DELETE FROM approvals WHERE id = $1 RETURNING rule->>'name'", id).Scan(&name)
	return name, err
}

// rules are all rules.
func (s store) rules(ctx context.Context) ([]patch.Rule, error) {
	rows, err := s.pool.Query(ctx, "SELECT rule FROM approvals ORDER BY rule->>'name'")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[patch.Rule])
}
