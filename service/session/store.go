package session

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/core/session"
	"moorwatch.example/service/fleet"
)

// store is every question that this column asks of the database.
type store struct {
	pool *pgxpool.Pool
	keys *secret.Ring // that the keys of recordings are sealed under
}

const sessionColumns = `t.id, t.device_id, t.device_name, t.actor, t.via, t.address, t.tool, t.reason, t.consent, t.began_at, t.last_at,
	t.ended_at, t.ending,
	t.received, t.sent, t.actions, t.interrupted, t.note`

func scanSession(row pgx.CollectableRow) (t api.ToolSession, err error) {
	var reason, ending, note string
	err = row.Scan(&t.ID, &t.DeviceID, &t.Device, &t.Actor, &t.Via, &t.Address, &t.Tool, &reason, &t.Consent, &t.BeganAt, &t.LastAt,
		&t.EndedAt, &ending,
		&t.ReceivedBytes, &t.SentBytes, &t.Actions, &t.InterruptedSeconds, &note)
	for _, f := range []struct {
		to   **string
		text string
	}{{&t.Reason, reason}, {&t.End, ending}, {&t.Note, note}} {
		if f.text != "" {
			*f.to = &f.text
		}
	}
	return t, err
}

// moment is a place in a list that is ordered by time.
type moment struct {
	At time.Time `json:"at"`
	ID uuid.UUID `json:"id"`
}

// sessions lists sessions before a moment, the latest first, of one device or of all.
func (s store) sessions(ctx context.Context, view []uuid.UUID, device *uuid.UUID, open bool, before moment, limit int) ([]api.ToolSession,
	error) {
	rows, err := s.pool.Query(ctx, `SELECT `+sessionColumns+` FROM tool_sessions t
		WHERE (t.began_at, t.id) < ($1, $2) AND ($3::uuid IS NULL OR t.device_id = $3) AND (NOT $4 OR t.ended_at IS NULL)
		AND ($6::uuid[] IS NULL OR t.device_id = ANY($6)) ORDER BY t.began_at DESC, t.id DESC LIMIT $5`,
		before.At, before.ID, device, open, limit, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanSession)
}

// addSession puts a session on record; an ending says that it never began.
func (s store) addSession(ctx context.Context, person uuid.UUID, t api.ToolSession, ending string) error {
	var ended *time.Time
	if ending != "" {
		ended = &t.LastAt
	}
	_, err := s.pool.Exec(ctx, `INSERT INTO tool_sessions (id, person_id, actor, via, address, device_id, device_name, tool, reason,
		consent, began_at, last_at, ended_at, ending, interrupted)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)`,
		t.ID, person, t.Actor, t.Via, t.Address, t.DeviceID, t.Device, t.Tool, *t.Reason, t.Consent, t.BeganAt, t.LastAt, ended, ending,
		t.InterruptedSeconds)
	return err
}

// tally is what has come together in a session since it was last written.
type tally struct {
	id             uuid.UUID
	last           time.Time
	received, sent int64
	actions        int
	interrupted    float64
	ending         string // not empty where it has ended
}

// keep adds to sessions what has come together.
func (s store) keep(ctx context.Context, all []tally) error {
	batch := &pgx.Batch{}
	for _, t := range all {
		batch.Queue(`UPDATE tool_sessions SET last_at = $2, received = received + $3, sent = sent + $4, actions = actions + $5,
			interrupted = interrupted + $6,
			ending = CASE WHEN $7 = '' THEN ending ELSE $7 END, ended_at = CASE WHEN $7 = '' THEN ended_at ELSE $2 END WHERE id = $1`,
			t.id, t.last, t.received, t.sent, t.actions, t.interrupted, t.ending)
	}
	return s.pool.SendBatch(ctx, batch).Close()
}

// endForgotten ends sessions that no node has kept for so long.
func (s store) endForgotten(ctx context.Context, after time.Duration) error {
	_, err := s.pool.Exec(ctx, "UPDATE tool_sessions SET ended_at = last_at, ending = 'the service stopped' WHERE ended_at IS NULL AND "+
		"last_at < now() - $1::interval", after)
	return err
}

// setNote writes a note at a person's own session; no row is an error.
func (s store) setNote(ctx context.Context, id, person uuid.UUID, note string) (device uuid.UUID, name string, err error) {
	err = s.pool.QueryRow(ctx, "UPDATE tool_sessions SET note = $3 WHERE id = $1 AND person_id = $2 RETURNING device_id, device_name", id,
		person, note).Scan(&device, &name)
	return device, name, err
}

var ruleColumns = "r.id, r.scope_kind, r.scope_id, " + fleet.ScopeName("r.scope_kind", "r.scope_id") +
	", r.tool, r.mode, r.seconds, r.unanswered, r.absent, r.unrecorded, r.keep_days, r.changed_at, r.changed_by"

func scanRule(row pgx.CollectableRow) (r api.ConsentRule, err error) {
	return r, row.Scan(&r.ID, &r.Scope.Kind, &r.Scope.ID, &r.ScopeName, &r.Tool, &r.Mode, &r.Seconds, &r.Unanswered, &r.Absent,
		&r.Unrecorded, &r.KeepDays, &r.ChangedAt, &r.ChangedBy)
}

func (s store) consentRules(ctx context.Context, after uuid.UUID, limit int) ([]api.ConsentRule, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+ruleColumns+" FROM consent_rules r WHERE r.id > $1 ORDER BY r.id LIMIT $2", after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRule)
}

func (s store) allRules(ctx context.Context) ([]session.Rule, error) {
	rows, err := s.pool.Query(ctx, "SELECT scope_kind, scope_id, tool, mode, seconds, unanswered, absent, unrecorded, keep_days FROM "+
		"consent_rules")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r session.Rule, err error) {
		return r, row.Scan(&r.Scope.Kind, &r.Scope.ID, &r.Tool, &r.Mode, &r.Seconds, &r.Unanswered, &r.Absent, &r.Unrecorded, &r.KeepDays)
	})
}

// setRule adds a rule, or changes the one of an id.
func (s store) setRule(ctx context.Context, id *uuid.UUID, r session.Rule, by string) (api.ConsentRule, error) {
	query := `INSERT INTO consent_rules AS r (scope_kind, scope_id, tool, mode, seconds, unanswered, absent, unrecorded, keep_days,
		changed_at, changed_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, now(), $10) RETURNING `
	args := []any{r.Scope.Kind, r.Scope.ID, r.Tool, r.Mode, r.Seconds, r.Unanswered, r.Absent, r.Unrecorded, r.Kept(), by}
	if id != nil {
		query = `UPDATE consent_rules AS r SET scope_kind = $1, scope_id = $2, tool = $3, mode = $4, seconds = $5, unanswered = $6,
			absent = $7, unrecorded = $8,
			keep_days = $9, changed_at = now(), changed_by = $10 WHERE r.id = $11 RETURNING `
		args = append(args, *id)
	}
	rows, err := s.pool.Query(ctx, query+ruleColumns, args...)
	if err != nil {
		return api.ConsentRule{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanRule)
}

func (s store) ruleScope(ctx context.Context, id uuid.UUID) (scope health.Scope, err error) {
	err = s.pool.QueryRow(ctx, "SELECT scope_kind, scope_id FROM consent_rules WHERE id = $1", id).Scan(&scope.Kind, &scope.ID)
	return scope, err
}

func (s store) removeRule(ctx context.Context, id uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "DELETE FROM consent_rules AS r WHERE r.id = $1 RETURNING r.mode || ' for ' || coalesce(nullif(r.tool, "+
		"''), 'every tool')", id).Scan(&name)
	return name, err
}

// queries lists saved queries by name.
func (s store) queries(ctx context.Context, own *uuid.UUID, after string, limit int) ([]api.SavedQuery, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, name, text, saved_by, saved_at FROM saved_queries WHERE name > $1 AND ($3::uuid IS NULL "+
		"OR person_id = $3) ORDER BY name LIMIT $2", after, limit, own)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (q api.SavedQuery, err error) {
		return q, row.Scan(&q.ID, &q.Name, &q.Text, &q.SavedBy, &q.SavedAt)
	})
}

func (s store) saveQuery(ctx context.Context, name, text string, person uuid.UUID, by string) (q api.SavedQuery, err error) {
	err = s.pool.QueryRow(ctx, `INSERT INTO saved_queries (name, text, person_id, saved_by, saved_at) VALUES ($1, $2, $3, $4, now())
		RETURNING id, name, text, saved_by, saved_at`, name, text, person, by).Scan(&q.ID, &q.Name, &q.Text, &q.SavedBy, &q.SavedAt)
	return q, err
}

func (s store) removeQuery(ctx context.Context, id uuid.UUID, owner *uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "DELETE FROM saved_queries WHERE id = $1 AND ($2::uuid IS NULL OR person_id = $2) RETURNING name", id,
		owner).Scan(&name)
	return name, err
}

// scopeInUse tells whether a rule is set for a scope.
func (s store) scopeInUse(ctx context.Context, scope health.Scope) (used bool, err error) {
	return used, s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM consent_rules WHERE scope_kind = $1 AND scope_id = $2)",
		string(scope.Kind),
		scope.ID).Scan(&used)
}
