package access

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/access"
)

// try counts a try for an account and an address, and returns how long it must wait instead where too many
// failed before. What is looked at is locked, so that no two tries count the same failures.
func (s store) try(ctx context.Context, t *attempt, place string) (wait time.Duration, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		subjects := []string{t.account, place}
		slices.Sort(subjects) // in one order, so that tries do not wait for each other in a circle
		for _, subject := range subjects {
			if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 19))", subject); err != nil {
				return err
			}
		}
		for _, subject := range subjects {
			var n int
			var since float64
			if err := tx.QueryRow(ctx, "SELECT count(*), coalesce(extract(epoch FROM clock_timestamp() - max(at)), 0) FROM "+
				"sign_in_failures WHERE subject = $1 AND at > clock_timestamp() - $2::interval",
				subject, access.FailuresLast).Scan(&n, &since); err != nil {
				return err
			}
			if subject == t.account {
				t.failed = n
			} else {
				n /= manyShare
			}
			wait = max(wait, access.Pause(n)-time.Duration(since*float64(time.Second)))
		}
		if wait > 0 {
			return nil
		}
		rows, err := tx.Query(ctx, "INSERT INTO sign_in_failures (subject, at) SELECT unnest($1::text[]), clock_timestamp() RETURNING id",
			subjects)
		if err != nil {
			return err
		}
		t.rows, err = pgx.CollectRows(rows, pgx.RowTo[int64])
		return err
	})
	return wait, err
}

// forgetTries no longer counts tries that succeeded.
func (s store) forgetTries(ctx context.Context, rows []int64) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM sign_in_failures WHERE id = ANY($1)", rows)
	return err
}

func (s store) forgetFailures(ctx context.Context, subject string) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM sign_in_failures WHERE subject = $1", subject)
	return err
}

// knows tells whether the person of an address has signed in with a browser before.
func (s store) knows(ctx context.Context, hash []byte, email string) (known bool, err error) {
	err = s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM known_browsers k JOIN people p ON p.id = k.person_id WHERE k.hash = $1 AND "+
		"k.expires_at > now() AND p.email = $2 AND p.removed_at IS NULL)", hash, email).Scan(&known)
	return known, err
}

// mostKnown is how many browsers of a person are known, the latest.
const mostKnown = 50

func (s store) addKnown(ctx context.Context, hash []byte, person uuid.UUID, expires time.Time) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO known_browsers VALUES ($1, $2, clock_timestamp(), $3)", hash, person, expires); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "DELETE FROM known_browsers WHERE hash IN (SELECT hash FROM known_browsers WHERE person_id = $1 ORDER BY "+
			"added_at DESC OFFSET $2)", person, mostKnown)
		return err
	})
}

// hasKnown tells whether a person has signed in with any browser before.
func (s store) hasKnown(ctx context.Context, person uuid.UUID) (has bool, err error) {
	err = s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM known_browsers WHERE person_id = $1)", person).Scan(&has)
	return has, err
}
