package access

import (
	"context"
	"crypto/ed25519"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/front"
)

// store is every question that this column asks of the database.
type store struct {
	pool *pgxpool.Pool
	ring *secret.Ring // seals the seeds of authenticators
}

type person struct {
	ID           uuid.UUID
	Email        string
	Name         string
	Hash         *string
	CreatedAt    time.Time
	LastSeenAt   *time.Time
	Rights       access.Rights
	SecondFactor bool
	FactorAsked  bool // by the sign-in policy
}

// secondFactor is SQL that tells whether the person p has one.
const secondFactor = `(EXISTS (SELECT FROM authenticators f WHERE f.person_id = p.id AND f.confirmed_at IS NOT NULL) OR EXISTS (SELECT
	FROM passkeys k WHERE k.person_id = p.id))`

const personColumns = `p.id, p.email, p.name, p.password_hash, p.created_at, p.last_seen_at,
	(SELECT coalesce(jsonb_agg(jsonb_build_object('role', g.role, 'scope', jsonb_build_object('kind', g.scope_kind, 'id', g.scope_id),
	'permissions', o.permissions)
		ORDER BY g.role, g.scope_kind, g.scope_id), '[]') FROM grants g LEFT JOIN roles o ON o.name = g.role WHERE g.person_id = p.id),
	` + secondFactor + `, (SELECT value = 'required' FROM service WHERE name = 'second factor')`

func (p *person) fields() []any {
	return []any{&p.ID, &p.Email, &p.Name, &p.Hash, &p.CreatedAt, &p.LastSeenAt, &p.Rights, &p.SecondFactor, &p.FactorAsked}
}

func scanPerson(row pgx.CollectableRow) (p person, err error) { return p, row.Scan(p.fields()...) }

func (s store) one(ctx context.Context, query string, args ...any) (person, error) {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return person{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanPerson)
}

func (s store) personByEmail(ctx context.Context, email string) (person, error) {
	return s.one(ctx, "SELECT "+personColumns+" FROM people p WHERE p.email = $1 AND p.removed_at IS NULL", email)
}

func (s store) personByID(ctx context.Context, id uuid.UUID) (person, error) {
	return s.one(ctx, "SELECT "+personColumns+" FROM people p WHERE p.id = $1 AND p.removed_at IS NULL", id)
}

// personBySession finds whose session it is, and notes its use once a minute. A pending session is
// found only by those who ask for one.
func (s store) personBySession(ctx context.Context, hash []byte, pending bool) (p person, use sessionUse, err error) {
	var stale bool
	err = s.pool.QueryRow(ctx, "SELECT "+personColumns+`, coalesce(s.last_used_at < now() - interval '1 minute', true), s.proved_at,
		i.value::int
		FROM sessions s JOIN people p ON p.id = s.person_id JOIN service i ON i.name = 'idle minutes' WHERE s.hash = $1
		AND s.expires_at > now()
		AND coalesce(s.last_used_at, s.created_at) > now() - make_interval(mins => i.value::int) AND s.pending = $2
		AND p.removed_at IS NULL`, hash, pending).
		Scan(append(p.fields(), &stale, &use.proved, &use.idle)...)
	if err == nil && stale && !front.IsUnattended(ctx) {
		err = s.used(ctx, p.ID, "UPDATE sessions SET last_used_at = now() WHERE hash = $1", hash)
	}
	return p, use, err
}

// used notes that somebody was there, and with what. These are not one transaction: it would hold one row while it waits
// for the other, which whoever revokes holds.
func (s store) used(ctx context.Context, person uuid.UUID, query string, with any) error {
	if _, err := s.pool.Exec(ctx, query, with); err != nil {
		return err
	}
	_, err := s.pool.Exec(ctx, "UPDATE people SET last_seen_at = now() WHERE id = $1", person)
	return err
}

// sessionUse is what is known of a session beside whose it is.
type sessionUse struct {
	proved time.Time // when its person last proved who they are
	idle   int       // minutes after which it ends where it is not used
}

// prove notes that the person of a session has proved who they are.
func (s store) prove(ctx context.Context, hash []byte) error {
	_, err := s.pool.Exec(ctx, "UPDATE sessions SET proved_at = now() WHERE hash = $1", hash)
	return err
}

// personByToken also returns the token, and notes its use once a minute.
func (s store) personByToken(ctx context.Context, hash []byte) (p person, t token, err error) {
	var stale bool
	err = s.pool.QueryRow(ctx, `SELECT `+personColumns+`, t.id, t.name, t.permissions, t.scope_kind, t.scope_id,
		coalesce(t.last_used_at < now() - interval '1 minute', true)
		FROM api_tokens t JOIN people p ON p.id = t.person_id
		WHERE t.hash = $1 AND t.revoked_at IS NULL AND t.expires_at > now() AND p.removed_at IS NULL`, hash).
		Scan(append(p.fields(), &t.ID, &t.Name, &t.Permissions, &t.ScopeKind, &t.ScopeID, &stale)...)
	if err == nil && stale {
		err = s.used(ctx, p.ID, "UPDATE api_tokens SET last_used_at = now() WHERE id = $1", t.ID)
	}
	return p, t, err
}

func (s store) anyone(ctx context.Context) (there bool, err error) {
	err = s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM people)").Scan(&there)
	return there, err
}

// revokeAll is what ends every sign-in but one and every API token of a person. The hash of the sign-in
// that stays is never empty: null is for none.
func revokeAll(ctx context.Context, tx pgx.Tx, person uuid.UUID, but []byte) error {
	if _, err := tx.Exec(ctx, "DELETE FROM sessions WHERE person_id = $1 AND hash IS DISTINCT FROM $2", person, but); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM known_browsers WHERE person_id = $1", person); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "UPDATE api_tokens SET revoked_at = now() WHERE person_id = $1 AND revoked_at IS NULL", person)
	return err
}

// errNotFirst says that a set-up link was to change a name or an address. The first owner alone is asked for
// theirs: of others those were set by whoever invited them.
var errNotFirst = errors.New("name and e-mail are set already")

// firstEmail stands for the address of the first owner until they have told it.
const firstEmail = "owner"

// useLink spends a set-up link: its person has this password from now on, and nothing that was issued
// to them before holds.
func (s store) useLink(ctx context.Context, link []byte, passwordHash, name, email string) (p person, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var id uuid.UUID
		if err := tx.QueryRow(ctx, "DELETE FROM set_up_links WHERE hash = $1 AND expires_at > now() RETURNING person_id",
			link).Scan(&id); err != nil {
			return err
		}
		var was string
		if err := tx.QueryRow(ctx, "SELECT email FROM people WHERE id = $1 FOR UPDATE", id).Scan(&was); err != nil {
			return err
		}
		if (name != "" || email != "") && was != firstEmail {
			return errNotFirst
		}
		if err := revokeAll(ctx, tx, id, nil); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `UPDATE people p SET password_hash = $2,
			name = coalesce(nullif($3, ''), name), email = coalesce(nullif($4, ''), email)
			WHERE id = $1 AND removed_at IS NULL RETURNING `+personColumns, id, passwordHash, name, email)
		if err != nil {
			return err
		}
		p, err = pgx.CollectExactlyOneRow(rows, scanPerson)
		return err
	})
	return p, err
}

// addSession begins a session of somebody who has proved who they are. Where they were removed since they were read, or
// have another password, the row is missing: the proof is none any more.
func (s store) addSession(ctx context.Context, hash []byte, p person, expires time.Time, address, browser string,
	pending bool) error {
	// The lock has a change of the password wait, which then ends this session too, or has this wait and see the change.
	return s.pool.QueryRow(ctx, `INSERT INTO sessions (hash, person_id, created_at, expires_at, address, browser, pending)
		SELECT $1, id, now(), $3, $4, $5, $6 FROM people WHERE id = $2 AND removed_at IS NULL AND password_hash IS NOT DISTINCT FROM $7
		FOR SHARE RETURNING hash`, hash, p.ID, expires, address, browser, pending, p.Hash).Scan(&hash)
}

// setPassword gives a person another password, and ends every sign-in but one and every token.
func (s store) setPassword(ctx context.Context, person uuid.UUID, passwordHash string, but []byte) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE people SET password_hash = $2 WHERE id = $1", person, passwordHash); err != nil {
			return err
		}
		return revokeAll(ctx, tx, person, but)
	})
}

func (s store) endSession(ctx context.Context, hash []byte) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM sessions WHERE hash = $1", hash)
	return err
}

// expire removes what no longer opens anything.
func (s store) expire(ctx context.Context) error {
	for _, query := range []string{
		"DELETE FROM sessions s USING service i WHERE i.name = 'idle minutes' AND (s.expires_at < now() OR coalesce(s.last_used_at, " +
			"s.created_at) < now() - make_interval(mins => i.value::int))",
		"DELETE FROM set_up_links WHERE expires_at < now()",
		"DELETE FROM known_browsers WHERE expires_at < now()",
		"DELETE FROM sign_in_failures WHERE at < now() - interval '1 day'",
	} {
		if _, err := s.pool.Exec(ctx, query); err != nil {
			return err
		}
	}
	return nil
}

type token struct {
	ID         uuid.UUID
	Name       string
	CreatedAt  time.Time
	ExpiresAt  time.Time
	LastUsedAt *time.Time
	RevokedAt  *time.Time
	// Permissions and scope are its limit; nil for none.
	Permissions []access.Permission
	ScopeKind   *health.ScopeKind
	ScopeID     *string
}

const tokenColumns = "id, name, created_at, expires_at, last_used_at, revoked_at, permissions, scope_kind, scope_id"

func (s store) tokens(ctx context.Context, person uuid.UUID, before time.Time, limit int) ([]token, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+tokenColumns+
		" FROM api_tokens WHERE person_id = $1 AND created_at < $2 ORDER BY created_at DESC LIMIT $3", person, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[token])
}

// addToken makes a token in a session. Where that has ended, the row is missing.
func (s store) addToken(ctx context.Context, person uuid.UUID, session []byte, name string, hash []byte, expires time.Time,
	l access.Limit) (token, error) {
	var t token
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		// The locks have the end of the session wait, which then takes this token too, where it takes all. They are taken in
		// the order of revokeAll's callers.
		if err := tx.QueryRow(ctx, "SELECT id FROM people WHERE id = $1 FOR SHARE", person).Scan(&person); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `INSERT INTO api_tokens (person_id, name, hash, created_at, expires_at, permissions, scope_kind,
			scope_id)
			SELECT person_id, $3, $4, clock_timestamp(), $5, $6, nullif($7, ''), CASE WHEN $7 <> '' THEN $8 END FROM sessions
			WHERE person_id = $1 AND hash = $2 AND NOT pending FOR SHARE RETURNING `+tokenColumns,
			person, session, name, hash, expires, l.Permissions, string(l.Scope.Kind), l.Scope.ID)
		if err != nil {
			return err
		}
		t, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[token])
		return err
	})
	return t, err
}

// revokeToken returns the name of the person's token that is revoked by it.
func (s store) revokeToken(ctx context.Context, person, id uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "UPDATE api_tokens SET revoked_at = now() WHERE id = $1 AND person_id = $2 AND revoked_at IS NULL "+
		"RETURNING name", id, person).Scan(&name)
	return name, err
}

// auditLock serialises the writers of the audit log, of which each node has one.
const auditLock = 0x6d6f6f72

// append writes entries to the audit log, numbered and chained.
func (s store) append(ctx context.Context, entries []access.Entry, key ed25519.PrivateKey) error {
	public := key.Public().(ed25519.PublicKey)
	id := access.KeyID(public)
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", auditLock); err != nil {
			return err
		}
		var seq int64
		var hash []byte
		err := tx.QueryRow(ctx, "SELECT seq, hash FROM audit ORDER BY seq DESC LIMIT 1").Scan(&seq, &hash)
		if err != nil && err != pgx.ErrNoRows {
			return err
		}
		if _, err := tx.Exec(ctx, "INSERT INTO audit_keys VALUES ($1, $2, now()) ON CONFLICT DO NOTHING", id, []byte(public)); err != nil {
			return err
		}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"audit"}, auditColumns, pgx.CopyFromSlice(len(entries), func(i int) ([]any, error) {
			e := entries[i]
			seq++
			e.Seq = seq
			hash = access.Chain(hash, e)
			return []any{e.Seq, e.At, e.Actor, e.Via, e.Action, e.Device, e.DeviceName, e.Detail, e.Address, e.Result, e.ActorID, e.ViaID,
				hash, access.SignEntry(key, hash), id}, nil
		}))
		return err
	})
}

var auditColumns = []string{"seq", "at", "actor", "via", "action", "device", "device_name", "detail", "address", "result", "actor_id",
	"via_id", "hash", "signature", "key_id"}

// sought says which entries of the audit log are wanted; what is empty is no bound.
type sought struct {
	device, text string
	since, until *time.Time
	devices      []uuid.UUID // nil is all, and what was done to none
}

const auditWanted = ` FROM audit WHERE ($1 = '' OR device = $1)
	AND ($2 = '' OR strpos(lower(actor || ' ' || action || ' ' || device_name || ' ' || detail || ' ' || address || ' ' || result),
	lower($2)) > 0)
	AND ($3::timestamptz IS NULL OR at >= $3) AND ($4::timestamptz IS NULL OR at < $4)
	AND ($5::uuid[] IS NULL OR device = ANY(SELECT unnest($5::uuid[])::text)) `

const auditFields = "SELECT seq, at, actor, via, action, device, device_name, detail, address, result, actor_id, via_id, hash, " +
	"signature, key_id"

// auditHead is the last entry.
func (s store) auditHead(ctx context.Context) (h head, err error) {
	err = s.pool.QueryRow(ctx, "SELECT seq, at, hash, signature, key_id FROM audit ORDER BY seq DESC LIMIT 1").Scan(&h.seq, &h.at, &h.hash,
		&h.signature, &h.key)
	return h, err
}

// auditKeys are the public keys that signed, by their names.
func (s store) auditKeys(ctx context.Context) (map[string][]byte, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, public_key FROM audit_keys")
	if err != nil {
		return nil, err
	}
	keys, id, key := map[string][]byte{}, "", []byte(nil)
	_, err = pgx.ForEachRow(rows, []any{&id, &key}, func() error { keys[id] = slices.Clone(key); return nil })
	return keys, err
}

// audit returns entries below before, newest first.
func (s store) audit(ctx context.Context, w sought, before int64, limit int) ([]access.Entry, error) {
	rows, err := s.pool.Query(ctx, auditFields+auditWanted+"AND seq < $6 ORDER BY seq DESC LIMIT $7", w.device, w.text, w.since, w.until,
		w.devices, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[access.Entry])
}

// auditAfter returns entries above after, oldest first.
func (s store) auditAfter(ctx context.Context, w sought, after int64, limit int) ([]access.Entry, error) {
	rows, err := s.pool.Query(ctx, auditFields+auditWanted+"AND seq > $6 ORDER BY seq LIMIT $7", w.device, w.text, w.since, w.until,
		w.devices, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[access.Entry])
}
