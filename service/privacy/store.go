package privacy

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

// extract is one kind of rows of an export: those of a table t for which where holds. Columns that are secrets, or by which
// somebody is let in, are left out.
type extract struct{ kind, table, where, without string }

func (p extract) query() string {
	without := ""
	for name := range strings.FieldsSeq(p.without) {
		without += " - '" + name + "'"
	}
	return fmt.Sprintf("SELECT to_jsonb(t)%s FROM %s t WHERE %s", without, p.table, p.where)
}

// persons are all kinds of rows about somebody who signs in: $1 is their id, $2 their address.
var persons = []extract{
	{"person", "people", "t.id = $1", "password_hash"},
	{"role", "grants", "t.person_id = $1", ""},
	{"sign-in", "sessions", "t.person_id = $1", "hash challenge"},
	{"API token", "api_tokens", "t.person_id = $1", "hash"},
	{"known browser", "known_browsers", "t.person_id = $1", "hash"},
	{"passkey", "passkeys", "t.person_id = $1", "credential"},
	{"failed sign-in", "sign_in_failures", "t.subject = $2", ""},
	{"session at a device", "tool_sessions", "t.person_id = $1", ""},
	{"recording", "recordings", "t.person_id = $1", "key end_signature"},
	{"saved query", "saved_queries", "t.person_id = $1", ""},
	{"favourite", "favourites", "t.person_id = $1", ""},
	{"job", "jobs", "t.owner_id = $1", "secrets"},
	{"rollout", "rollouts", "t.owner_id = $1", ""},
	{"entry of the audit log", "audit", "t.actor = $2", "hash signature"},
}

// Conditions by an organisation's id, $1.
const (
	ofSites   = "(SELECT id FROM sites WHERE organisation_id = $1)"
	ofDevices = "(SELECT id FROM devices WHERE site_id IN " + ofSites + ")"
	atDevices = "t.device_id IN " + ofDevices
)

// organisations are all kinds of rows about an organisation. The history of readings is not among them: it is read of
// each device, as figures.
var organisations = []extract{
	{"organisation", "organisations", "t.id = $1", ""},
	{"site", "sites", "t.organisation_id = $1", ""},
	{"device", "devices", "t.site_id IN " + ofSites, "public_key mark mark_before"},
	{"inventory", "inventories", atDevices, ""},
	{"change", "changes", atDevices, ""},
	{"alert", "alerts", "t.site_id IN " + ofSites, ""},
	{"what happened to an alert", "alert_events", "t.alert_id IN (SELECT id FROM alerts WHERE site_id IN " + ofSites + ")", ""},
	{"session at a device", "tool_sessions", atDevices, ""},
	{"recording", "recordings", atDevices, "key end_signature"},
	{"run", "runs", atDevices, ""},
	{"response", "responses", atDevices, ""},
	{"tag", "tags", atDevices, ""},
	{"console", "consoles", atDevices, "secret"},
	{"missing update", "missing", atDevices, ""},
	{"patched", "patched", atDevices, ""},
	{"identity question", "identity_questions", atDevices, ""},
	{"group", "groups", "t.organisation_id = $1", ""},
	{"enrolment token", "enrolment_tokens", "t.site_id IN " + ofSites, "hash"},
	{"compliance", "compliance", "t.organisation_id = $1", ""},
	{"report", "report_schedules", "t.organisation_id = $1", ""},
}

// each reads parts in one view of the database, row by row.
func (s store) each(ctx context.Context, parts []extract, args []any, do func(kind string, row []byte) error) error {
	return pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		for _, p := range parts {
			query := p.query()
			use := args
			if len(args) > 1 && !strings.Contains(query, "$2") {
				use = args[:1]
			} else if len(args) > 1 && !strings.Contains(query, "$1") {
				query, use = strings.ReplaceAll(query, "$2", "$1"), args[1:]
			}
			rows, err := tx.Query(ctx, query, use...)
			if err != nil {
				return err
			}
			var row []byte
			if _, err := pgx.ForEachRow(rows, []any{&row}, func() error { return do(p.kind, row) }); err != nil {
				return fmt.Errorf("%s: %w", p.kind, err)
			}
		}
		return nil
	})
}

func (s store) person(ctx context.Context, id uuid.UUID, email string, do func(kind string, row []byte) error) error {
	return s.each(ctx, persons, []any{id, email}, do)
}

func (s store) exportOrganisation(ctx context.Context, id uuid.UUID, do func(kind string, row []byte) error) error {
	return s.each(ctx, organisations, []any{id}, do)
}

func (s store) email(ctx context.Context, id uuid.UUID) (email string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT email FROM people WHERE id = $1", id).Scan(&email)
	return email, err
}

func (s store) organisation(ctx context.Context, id uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT name FROM organisations WHERE id = $1", id).Scan(&name)
	return name, err
}

func (s store) devices(ctx context.Context, organisation uuid.UUID) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT d.id FROM devices d JOIN sites s ON s.id = d.site_id WHERE s.organisation_id = $1 ORDER BY d.id",
		organisation)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

var errThere = errors.New("the person may still sign in")

// mentions lists the columns in which somebody's address stands as who did something. Of the audit log and of recordings
// it is a part of what is signed, and stays until those are removed.
const mentions = `SELECT table_name, column_name FROM information_schema.columns
	WHERE table_schema = 'public' AND data_type = 'text' AND (column_name LIKE '%\_by' OR column_name = 'actor')
	AND table_name NOT IN ('audit', 'recordings') ORDER BY 1, 2`

// erasePerson has somebody who was removed be nobody: what only concerns them is deleted, and where they did something a
// name that tells nothing stands in the place of theirs. They may have been added and removed more than once.
func (s store) erasePerson(ctx context.Context, email string) (id uuid.UUID, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, removed_at IS NULL FROM people WHERE email = $1 ORDER BY created_at, id FOR UPDATE", email)
		if err != nil {
			return err
		}
		var ids []uuid.UUID
		var there, stays bool
		if _, err := pgx.ForEachRow(rows, []any{&id, &there}, func() error {
			ids = append(ids, id)
			stays = stays || there
			return nil
		}); err != nil {
			return err
		}
		switch {
		case len(ids) == 0:
			return pgx.ErrNoRows
		case stays:
			return errThere
		}
		nobody := "erased-" + id.String()[:8]
		for _, table := range []string{"sessions", "api_tokens", "known_browsers", "passkeys", "authenticators", "recovery_codes",
			"set_up_links", "grants", "saved_queries", "favourites"} {
			if _, err := tx.Exec(ctx, "DELETE FROM "+table+" WHERE person_id = ANY($1)", ids); err != nil {
				return err
			}
		}
		for _, change := range []struct {
			query string
			args  []any
		}{
			{"DELETE FROM sign_in_failures WHERE subject = $1", []any{email}},
			{"UPDATE tool_sessions SET address = '', note = '' WHERE person_id = ANY($1)", []any{ids}},
			{"UPDATE people SET email = $2, name = 'Somebody erased', password_hash = NULL WHERE id = ANY($1)", []any{ids, nobody}},
		} {
			if _, err := tx.Exec(ctx, change.query, change.args...); err != nil {
				return err
			}
		}
		found, err := tx.Query(ctx, mentions)
		if err != nil {
			return err
		}
		all, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (at [2]string, err error) { return at, row.Scan(&at[0], &at[1]) })
		if err != nil {
			return err
		}
		for _, at := range all {
			table, column := pgx.Identifier{at[0]}.Sanitize(), pgx.Identifier{at[1]}.Sanitize()
			if _, err := tx.Exec(ctx, "UPDATE "+table+" SET "+column+" = $2 WHERE "+column+" = $1", email, nobody); err != nil {
				return err
			}
		}
		return nil
	})
	return id, err
}

// about are the tables with rows about devices that do not go with the device by themselves, in the order in which they
// are emptied.
var about = []string{"findings", "readings", "chunks", "inventories", "changes", "installed", "group_members", "tags", "favourites",
	"tool_sessions", "recordings",
	"runs", "responses", "missing", "rollout_devices", "patched", "weak_devices", "lacking", "identity_questions", "consoles"}

// eraseOrganisation deletes an organisation with its devices, and all that is held about them. Readings of a large
// one are many: they go table by table, and what is interrupted is begun again from where it stands.
func (s store) eraseOrganisation(ctx context.Context, id uuid.UUID, devices []uuid.UUID) error {
	if _, err := s.pool.Exec(ctx, "UPDATE devices SET retired_at = coalesce(retired_at, now()), online = false, successor_id = NULL "+
		"WHERE id = ANY($1)", devices); err != nil {
		return err
	}
	empty := func(exec func(ctx context.Context, query string, args ...any) (pgconn.CommandTag, error)) error {
		for _, table := range about {
			if _, err := exec(ctx, "DELETE FROM "+table+" WHERE device_id = ANY($1)", devices); err != nil {
				return fmt.Errorf("%s: %w", table, err)
			}
		}
		return nil
	}
	if err := empty(s.pool.Exec); err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		// A report that was under way may have been stored since: once the devices are held none can be any more.
		if _, err := tx.Exec(ctx, "SELECT FROM devices WHERE id = ANY($1) ORDER BY id FOR UPDATE", devices); err != nil {
			return err
		}
		if err := empty(tx.Exec); err != nil {
			return err
		}
		const alerts = "(SELECT id FROM alerts WHERE site_id IN " + ofSites + ")"
		const scopes = "(SELECT id::text FROM organisations WHERE id = $1 UNION SELECT id::text FROM sites WHERE organisation_id = $1 " +
			"UNION SELECT id::text FROM groups WHERE organisation_id = $1 UNION SELECT id::text FROM devices WHERE site_id IN " + ofSites +
			")"
		for _, query := range []string{
			"DELETE FROM alert_events WHERE alert_id IN " + alerts,
			"UPDATE alerts SET parent_id = NULL WHERE parent_id IN " + alerts,
			"DELETE FROM alerts WHERE site_id IN " + ofSites,
			"DELETE FROM grants WHERE scope_id IN " + scopes,
			"DELETE FROM policies WHERE scope_id IN " + scopes,
			"DELETE FROM maintenance_windows WHERE scope_id IN " + scopes,
			"DELETE FROM consent_rules WHERE scope_id IN " + scopes,
			"UPDATE api_tokens SET revoked_at = coalesce(revoked_at, now()) WHERE scope_id IN " + scopes,
			"DELETE FROM groups WHERE organisation_id = $1",
			"DELETE FROM enrolment_tokens WHERE site_id IN " + ofSites,
			"DELETE FROM devices WHERE site_id IN " + ofSites,
			"DELETE FROM sites WHERE organisation_id = $1",
			"DELETE FROM organisations WHERE id = $1",
		} {
			if _, err := tx.Exec(ctx, query, id); err != nil {
				return fmt.Errorf("%.40s: %w", query, err)
			}
		}
		return nil
	})
}
