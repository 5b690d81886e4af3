package access

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/service/db"
	"moorwatch.example/service/fleet"
)

func (s store) people(ctx context.Context, after place, limit int) ([]person, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+personColumns+
		" FROM people p WHERE (p.name, p.id) > ($1, $2) AND p.removed_at IS NULL ORDER BY p.name, p.id LIMIT $3", after.Name, after.ID,
		limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanPerson)
}

// scopeNames names the scopes at which roles are held.
func (s store) scopeNames(ctx context.Context, all access.Rights) (names []string, err error) {
	kinds, ids := make([]string, len(all)), make([]string, len(all))
	for i, g := range all {
		kinds[i], ids[i] = string(g.Scope.Kind), g.Scope.ID
	}
	rows, err := s.pool.Query(ctx, "SELECT "+fleet.ScopeName("x.kind", "x.id")+
		" FROM unnest($1::text[], $2::text[]) WITH ORDINALITY x (kind, id, n) ORDER BY x.n", kinds, ids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

func putGrants(ctx context.Context, tx pgx.Tx, id uuid.UUID, rights access.Rights) error {
	if _, err := tx.Exec(ctx, "DELETE FROM grants WHERE person_id = $1", id); err != nil {
		return err
	}
	for _, g := range rights {
		if _, err := tx.Exec(ctx, "INSERT INTO grants VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", id, g.Role, g.Scope.Kind,
			g.Scope.ID); err != nil {
			return err
		}
	}
	return nil
}

// addPerson adds someone who has yet to choose a password, with the hash of their set-up link.
func (s store) addPerson(ctx context.Context, email, name string, rights access.Rights, link []byte, expires time.Time) (p person,
	err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var id uuid.UUID
		if err := tx.QueryRow(ctx, "INSERT INTO people (email, name, created_at) VALUES ($1, $2, now()) RETURNING id", email,
			name).Scan(&id); err != nil {
			return err
		}
		if err := putGrants(ctx, tx, id, rights); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "INSERT INTO set_up_links VALUES ($1, $2, $3)", link, id, expires)
		p.ID = id
		return err
	})
	if err != nil {
		return p, err
	}
	return s.personByID(ctx, p.ID)
}

// change works on the people, one at a time, and fails with errLastOwner where nobody would be left
// who holds the role of owner everywhere.
func (s store) change(ctx context.Context, id uuid.UUID, do func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "LOCK TABLE grants IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, "SELECT id FROM people WHERE id = $1 AND removed_at IS NULL FOR UPDATE", id).Scan(&id); err != nil {
			return err
		}
		if err := do(tx); err != nil {
			return err
		}
		var owners int
		err := tx.QueryRow(ctx, "SELECT count(*) FROM grants g JOIN people p ON p.id = g.person_id AND p.removed_at IS NULL WHERE "+
			"g.role = 'owner' AND g.scope_kind = 'everywhere'").Scan(&owners)
		if err == nil && owners == 0 {
			err = errLastOwner
		}
		return err
	})
}

func (s store) setPerson(ctx context.Context, id uuid.UUID, name string, rights access.Rights) (person, error) {
	err := s.change(ctx, id, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE people SET name = $2 WHERE id = $1", id, name); err != nil {
			return err
		}
		return putGrants(ctx, tx, id, rights)
	})
	if err != nil {
		return person{}, err
	}
	return s.personByID(ctx, id)
}

// removePerson removes someone with all that lets them in.
func (s store) removePerson(ctx context.Context, id uuid.UUID) error {
	return s.change(ctx, id, func(tx pgx.Tx) error {
		for _, query := range []string{"DELETE FROM grants WHERE person_id = $1", "DELETE FROM set_up_links WHERE person_id = $1",
			"UPDATE people SET removed_at = now(), password_hash = NULL WHERE id = $1"} {
			if _, err := tx.Exec(ctx, query, id); err != nil {
				return err
			}
		}
		if err := revokeAll(ctx, tx, id, nil); err != nil {
			return err
		}
		return forgetFactors(ctx, tx, id)
	})
}

// resetPerson takes someone's password, second factors and all that was issued to them, and gives them a
// new set-up link.
func (s store) resetPerson(ctx context.Context, id uuid.UUID, link []byte, expires time.Time) (person, error) {
	err := s.change(ctx, id, func(tx pgx.Tx) error {
		for _, query := range []string{"DELETE FROM set_up_links WHERE person_id = $1",
			"UPDATE people SET password_hash = NULL WHERE id = $1"} {
			if _, err := tx.Exec(ctx, query, id); err != nil {
				return err
			}
		}
		if err := revokeAll(ctx, tx, id, nil); err != nil {
			return err
		}
		if err := forgetFactors(ctx, tx, id); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO set_up_links VALUES ($1, $2, $3)", link, id, expires)
		return err
	})
	if err != nil {
		return person{}, err
	}
	return s.personByID(ctx, id)
}

type role struct {
	Name        access.Role
	About       string
	Permissions []access.Permission
	People      int
}

const roleColumns = "o.name, o.about, o.permissions, (SELECT count(DISTINCT g.person_id) FROM grants g WHERE g.role = o.name)::int"

// roles lists the roles of one's own.
func (s store) roles(ctx context.Context) ([]role, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+roleColumns+" FROM roles o ORDER BY o.name")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[role])
}

// holders counts who holds each role.
func (s store) holders(ctx context.Context) (map[access.Role]int, error) {
	rows, err := s.pool.Query(ctx, "SELECT role, count(DISTINCT person_id)::int FROM grants GROUP BY role")
	if err != nil {
		return nil, err
	}
	found, name, n := map[access.Role]int{}, access.Role(""), 0
	_, err = pgx.ForEachRow(rows, []any{&name, &n}, func() error { found[name] = n; return nil })
	return found, err
}

func (s store) setRole(ctx context.Context, name access.Role, about string, permissions []access.Permission, by string) (role, error) {
	rows, err := s.pool.Query(ctx, `INSERT INTO roles AS o VALUES ($1, $2, $3, now(), $4) ON CONFLICT (name) DO UPDATE SET about = $2,
		permissions = $3, changed_at = now(), changed_by = $4
		RETURNING `+roleColumns, name, about, permissions, by)
	if err != nil {
		return role{}, err
	}
	return pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[role])
}

// removeRole removes a role that nobody holds; people is how many do.
func (s store) removeRole(ctx context.Context, name access.Role) (people int, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "LOCK TABLE grants IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, "SELECT count(DISTINCT person_id) FROM grants WHERE role = $1", name).Scan(&people); err != nil ||
			people > 0 {
			return err
		}
		return tx.QueryRow(ctx, "DELETE FROM roles WHERE name = $1 RETURNING name", name).Scan(&name)
	})
	return people, err
}

func (s store) factorPolicy(ctx context.Context) (policy string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT value FROM service WHERE name = 'second factor'").Scan(&policy)
	return policy, err
}

func (s store) setFactorPolicy(ctx context.Context, policy string) error {
	_, err := s.pool.Exec(ctx, "UPDATE service SET value = $1 WHERE name = 'second factor'", policy)
	return err
}

// idleMinutes is how long a session may be unused.
func (s store) idleMinutes(ctx context.Context) (minutes int, err error) {
	err = s.pool.QueryRow(ctx, "SELECT value::int FROM service WHERE name = 'idle minutes'").Scan(&minutes)
	return minutes, err
}

func (s store) setIdleMinutes(ctx context.Context, minutes int) error {
	_, err := s.pool.Exec(ctx, "UPDATE service SET value = $1::int::text WHERE name = 'idle minutes'", minutes)
	return err
}

type signIn struct {
	ID         uuid.UUID
	CreatedAt  time.Time
	ExpiresAt  time.Time
	LastUsedAt *time.Time
	Address    string
	Browser    string
	Hash       []byte
}

// mostSignIns is how many sign-ins of a person are listed, the latest.
const mostSignIns = 100

func (s store) signIns(ctx context.Context, person uuid.UUID) ([]signIn, error) {
	rows, err := s.pool.Query(ctx, `SELECT id, created_at, expires_at, last_used_at, address, browser, hash FROM sessions
		WHERE person_id = $1 AND expires_at > now() AND NOT pending ORDER BY coalesce(last_used_at, created_at) DESC LIMIT $2`,
		person, mostSignIns)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[signIn])
}

// endSignIn ends a sign-in of a person; there are none of others.
func (s store) endSignIn(ctx context.Context, person, id uuid.UUID) error {
	return s.pool.QueryRow(ctx, "DELETE FROM sessions WHERE person_id = $1 AND id = $2 RETURNING id", person, id).Scan(&id)
}

// revokeAll ends every sign-in and every API token of a person.
func (s store) revokeAll(ctx context.Context, person uuid.UUID) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error { return revokeAll(ctx, tx, person, nil) })
}

// holderAt names somebody who holds a role at a scope, and the role.
func (s store) holderAt(ctx context.Context, scope health.Scope) (name, role string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT p.name, g.role FROM grants g JOIN people p ON p.id = g.person_id AND p.removed_at IS NULL
		WHERE g.scope_kind = $1 AND g.scope_id = $2 ORDER BY p.name LIMIT 1`, string(scope.Kind), scope.ID).Scan(&name, &role)
	if db.Missing(err) {
		err = nil
	}
	return name, role, err
}
