package health

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/response"
	"moorwatch.example/service/db"
	"moorwatch.example/service/fleet"
)

func (s store) allPolicies(ctx context.Context) ([]health.Policy, error) {
	rows, err := s.pool.Query(ctx, "SELECT id::text, name, scope_kind, scope_id, settings, responses, agent FROM policies")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (y health.Policy, err error) {
		return y, row.Scan(&y.ID, &y.Name, &y.Scope.Kind, &y.Scope.ID, &y.Settings, &y.Responses, &y.Agent)
	})
}

func (s store) allWindows(ctx context.Context) ([]window, error) {
	rows, err := s.pool.Query(ctx, "SELECT scope_kind, scope_id, span FROM maintenance_windows")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (w window, err error) {
		return w, row.Scan(&w.scope.Kind, &w.scope.ID, &w.span)
	})
}

func (s store) allRules(ctx context.Context) ([]rule, error) {
	rows, err := s.pool.Query(ctx, "SELECT spec FROM rules ORDER BY name")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r rule, err error) {
		if err := row.Scan(&r.Rule); err != nil {
			return r, err
		}
		if r.channel, err = uuid.Parse(r.Channel); err == nil && r.EscalateTo != "" {
			r.escalate, err = uuid.Parse(r.EscalateTo)
		}
		return r, err
	})
}

func (s store) agentVersions(ctx context.Context) ([]string, error) {
	rows, err := s.pool.Query(ctx, "SELECT DISTINCT agent_version FROM devices WHERE retired_at IS NULL AND agent_version <> ''")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

var policyColumns = "y.id, y.name, y.scope_kind, y.scope_id, " + fleet.ScopeName("y.scope_kind", "y.scope_id") +
	", y.settings, y.responses, y.agent, y.changed_at, y.changed_by"

func scanPolicy(row pgx.CollectableRow) (y api.Policy, err error) {
	return y, row.Scan(&y.ID, &y.Name, &y.Scope.Kind, &y.Scope.ID, &y.ScopeName, &y.Settings, &y.Responses, &y.Agent, &y.ChangedAt,
		&y.ChangedBy)
}

func (s store) policies(ctx context.Context, after string, limit int) ([]api.Policy, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+policyColumns+" FROM policies y WHERE y.name > $1 ORDER BY y.name LIMIT $2", after, limit)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, scanPolicy)
	if err != nil {
		return nil, err
	}
	return all, s.outcomesOf(ctx, all)
}

// scopeOf reads what a row of one of this column's tables is set for.
func (s store) scopeOf(ctx context.Context, table string, id uuid.UUID) (scope health.Scope, err error) {
	err = s.pool.QueryRow(ctx, "SELECT scope_kind, scope_id FROM "+pgx.Identifier{table}.Sanitize()+" WHERE id = $1", id).Scan(&scope.Kind,
		&scope.ID)
	return scope, err
}

// setPolicy adds a policy, or changes the one of this id.
func (s store) setPolicy(ctx context.Context, id *uuid.UUID, in api.NewPolicy, by string) (y api.Policy, err error) {
	settings, err := json.Marshal(in.Settings)
	if err != nil {
		return y, err
	}
	responses, agent := []response.Response{}, health.Agent{}
	if in.Responses != nil {
		responses = *in.Responses
	}
	if in.Agent != nil {
		agent = *in.Agent
	}
	query := `WITH y AS (INSERT INTO policies (name, scope_kind, scope_id, settings, changed_at, changed_by, responses, agent)
		VALUES ($1, $2, $3, $4, now(), $5, $6, $7) RETURNING *) SELECT ` + policyColumns + " FROM y"
	args := []any{in.Name, in.Scope.Kind, in.Scope.ID, settings, by, responses, agent}
	if id != nil {
		query = `WITH y AS (UPDATE policies SET name = $1, scope_kind = $2, scope_id = $3, settings = $4, changed_at = now(), changed_by =
			$5, responses = $6, agent = $7 WHERE id = $8 RETURNING *) SELECT ` + policyColumns + " FROM y"
		args = append(args, *id)
	}
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return y, err
	}
	return pgx.CollectExactlyOneRow(rows, scanPolicy)
}

var windowColumns = "w.id, w.name, w.scope_kind, w.scope_id, " + fleet.ScopeName("w.scope_kind", "w.scope_id") +
	", w.span, w.changed_at, w.changed_by"

func scanWindow(row pgx.CollectableRow) (w api.Window, err error) {
	return w, row.Scan(&w.ID, &w.Name, &w.Scope.Kind, &w.Scope.ID, &w.ScopeName, &w.Span, &w.ChangedAt, &w.ChangedBy)
}

func (s store) windows(ctx context.Context, after string, limit int) ([]api.Window, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+windowColumns+" FROM maintenance_windows w WHERE w.name > $1 ORDER BY w.name LIMIT $2", after,
		limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanWindow)
}

func (s store) setWindow(ctx context.Context, id *uuid.UUID, in api.NewWindow, by string) (w api.Window, err error) {
	span, err := json.Marshal(in.Span)
	if err != nil {
		return w, err
	}
	query := `WITH w AS (INSERT INTO maintenance_windows (name, scope_kind, scope_id, span, changed_at, changed_by)
		VALUES ($1, $2, $3, $4, now(), $5) RETURNING *) SELECT ` + windowColumns + " FROM w"
	args := []any{in.Name, in.Scope.Kind, in.Scope.ID, span, by}
	if id != nil {
		query = `WITH w AS (UPDATE maintenance_windows SET name = $1, scope_kind = $2, scope_id = $3, span = $4, changed_at = now(),
			changed_by = $5 WHERE id = $6 RETURNING *) SELECT ` + windowColumns + " FROM w"
		args = append(args, *id)
	}
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return w, err
	}
	return pgx.CollectExactlyOneRow(rows, scanWindow)
}

const channelColumns = "id, name, kind, target, changed_at, changed_by"

func scanChannel(row pgx.CollectableRow) (x api.Channel, err error) {
	return x, row.Scan(&x.ID, &x.Name, &x.Kind, &x.Target, &x.ChangedAt, &x.ChangedBy)
}

func (s store) channels(ctx context.Context, after string, limit int) ([]api.Channel, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+channelColumns+" FROM channels WHERE name > $1 ORDER BY name LIMIT $2", after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanChannel)
}

func (s store) channel(ctx context.Context, id uuid.UUID) (x channel, err error) {
	var sealed []byte
	err = s.pool.QueryRow(ctx, "SELECT id, name, kind, target, sealed FROM channels WHERE id = $1", id).Scan(&x.id, &x.name, &x.kind,
		&x.target, &sealed)
	s.open(&x, sealed)
	return x, err
}

// signs says what the secret of a webhook is sealed for.
func signs(channel string) string { return "webhook " + channel }

// open gives a channel its secret; none where it cannot be read with the service's keys.
func (s store) open(x *channel, sealed []byte) {
	if text, err := s.ring.Open(sealed, signs(x.id.String())); err == nil {
		x.secret = []byte(text)
	}
}

// reseal seals anew the secrets of webhooks that were sealed under an older key, or not at all.
func (s store) reseal(ctx context.Context) (int, error) {
	old, err := db.Rewrite(ctx, s.pool, "SELECT id::text, secret FROM channels WHERE secret IS NOT NULL AND id::text > $1 ORDER BY "+
		"id::text LIMIT $2", "UPDATE channels SET sealed = $2, secret = NULL WHERE id = $1::uuid",
		func(id string, plain []byte) ([]byte, bool, error) {
			return s.ring.Seal(string(plain), signs(id)), true, nil
		})
	if err != nil {
		return old, err
	}
	n, err := db.Rewrite(ctx, s.pool, "SELECT id::text, sealed FROM channels WHERE sealed IS NOT NULL AND id::text > $1 ORDER BY "+
		"id::text LIMIT $2", "UPDATE channels SET sealed = $2 WHERE id = $1::uuid",
		func(id string, sealed []byte) ([]byte, bool, error) { return s.ring.Again(sealed, signs(id)) })
	return old + n, err
}

func (s store) addChannel(ctx context.Context, x api.Channel, secret []byte, by string) (api.Channel, error) {
	rows, err := s.pool.Query(ctx, "INSERT INTO channels (id, name, kind, target, sealed, changed_at, changed_by) VALUES ($6, $1, $2, "+
		"$3, $4, now(), $5) RETURNING "+channelColumns, x.Name, x.Kind, x.Target, s.ring.Seal(string(secret), signs(x.ID.String())), by,
		x.ID)
	if err != nil {
		return x, err
	}
	return pgx.CollectExactlyOneRow(rows, scanChannel)
}

func (s store) setChannel(ctx context.Context, x api.Channel, by string) (api.Channel, error) {
	rows, err := s.pool.Query(ctx, "UPDATE channels SET name = $2, kind = $3, target = $4, changed_at = now(), changed_by = $5 WHERE id "+
		"= $1 RETURNING "+channelColumns, x.ID, x.Name, x.Kind, x.Target, by)
	if err != nil {
		return x, err
	}
	return pgx.CollectExactlyOneRow(rows, scanChannel)
}

var ruleColumns = `r.id, r.spec, coalesce((SELECT c.name FROM channels c WHERE c.id::text = r.spec->>'channel'), ''),
	(SELECT c.name FROM channels c WHERE c.id::text = r.spec->>'escalate_to'), ` + fleet.ScopeName("r.spec->'scope'->>'kind'", "r.spec->'scope'->>'id'") + `, r.changed_at, r.changed_by`

func scanRule(row pgx.CollectableRow) (x api.Rule, err error) {
	return x, row.Scan(&x.ID, &x.Rule, &x.ChannelName, &x.EscalateName, &x.ScopeName, &x.ChangedAt, &x.ChangedBy)
}

func (s store) rules(ctx context.Context, after string, limit int) ([]api.Rule, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+ruleColumns+" FROM rules r WHERE r.name > $1 ORDER BY r.name LIMIT $2", after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRule)
}

func (s store) setRule(ctx context.Context, id *uuid.UUID, name string, spec []byte, by string) (x api.Rule, err error) {
	query := `WITH r AS (INSERT INTO rules (name, spec, changed_at, changed_by) VALUES ($1, $2, now(), $3) RETURNING *) SELECT ` +
		ruleColumns + " FROM r"
	args := []any{name, spec, by}
	if id != nil {
		query = `WITH r AS (UPDATE rules SET name = $1, spec = $2, changed_at = now(), changed_by = $3 WHERE id = $4 RETURNING *) SELECT ` +
			ruleColumns + " FROM r"
		args = append(args, *id)
	}
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return x, err
	}
	return pgx.CollectExactlyOneRow(rows, scanRule)
}

// remove removes a row of one of this column's tables, and returns its name.
func (s store) remove(ctx context.Context, table string, id uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "DELETE FROM "+pgx.Identifier{table}.Sanitize()+" WHERE id = $1 RETURNING name", id).Scan(&name)
	return name, err
}
