package access

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/service/db"
)

type authenticator struct {
	Secret      string // opened
	ConfirmedAt *time.Time
	LastStep    int64
}

func (s store) authenticator(ctx context.Context, person uuid.UUID) (f authenticator, err error) {
	var sealed []byte
	err = s.pool.QueryRow(ctx, "SELECT sealed, confirmed_at, last_step FROM authenticators WHERE person_id = $1", person).Scan(&sealed,
		&f.ConfirmedAt, &f.LastStep)
	if err == nil {
		f.Secret, err = s.ring.Open(sealed, seedOf(person.String()))
	}
	return f, err
}

// seedOf says what an authenticator's seed is sealed for.
func seedOf(person string) string { return "authenticator " + person }

// reseal seals anew the seeds of authenticators that were sealed under an older key, or not at all.
func (s store) reseal(ctx context.Context) (int, error) {
	old, err := db.Rewrite(ctx, s.pool, "SELECT person_id::text, secret::bytea FROM authenticators WHERE secret IS NOT NULL AND "+
		"person_id::text > $1 ORDER BY person_id::text LIMIT $2",
		"UPDATE authenticators SET sealed = $2, secret = NULL WHERE person_id = $1::uuid",
		func(id string, plain []byte) ([]byte, bool, error) {
			return s.ring.Seal(string(plain), seedOf(id)), true, nil
		})
	if err != nil {
		return old, err
	}
	n, err := db.Rewrite(ctx, s.pool, "SELECT person_id::text, sealed FROM authenticators WHERE sealed IS NOT NULL AND person_id::text "+
		"> $1 ORDER BY person_id::text LIMIT $2", "UPDATE authenticators SET sealed = $2 WHERE person_id = $1::uuid",
		func(id string, sealed []byte) ([]byte, bool, error) { return s.ring.Again(sealed, seedOf(id)) })
	return old + n, err
}

// beginAuthenticator keeps the secret of an authenticator that is yet to be confirmed, in place of
// another such; fresh is false where there is one that was confirmed.
func (s store) beginAuthenticator(ctx context.Context, person uuid.UUID, secret string) (fresh bool, err error) {
	tag, err := s.pool.Exec(ctx, `INSERT INTO authenticators (person_id, sealed, added_at) VALUES ($1, $2, now())
		ON CONFLICT (person_id) DO UPDATE SET sealed = $2, secret = NULL, added_at = now(), last_step = 0
		WHERE authenticators.confirmed_at IS NULL`, person, s.ring.Seal(secret, seedOf(person.String())))
	return tag.RowsAffected() > 0, err
}

func (s store) confirmAuthenticator(ctx context.Context, person uuid.UUID, step int64) error {
	_, err := s.pool.Exec(ctx, "UPDATE authenticators SET confirmed_at = now(), last_step = $2 WHERE person_id = $1", person, step)
	return err
}

// useCode spends a step's code; false where another sign-in did so first.
func (s store) useCode(ctx context.Context, person uuid.UUID, step int64) (bool, error) {
	tag, err := s.pool.Exec(ctx, "UPDATE authenticators SET last_step = $2 WHERE person_id = $1 AND last_step < $2", person, step)
	return tag.RowsAffected() > 0, err
}

type passkey struct {
	ID         []byte
	Name       string
	Credential webauthn.Credential
	AddedAt    time.Time
	LastUsedAt *time.Time
}

func (s store) passkeys(ctx context.Context, person uuid.UUID) ([]passkey, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, name, credential, added_at, last_used_at FROM passkeys WHERE person_id = $1 ORDER "+
		"BY added_at", person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[passkey])
}

func (s store) addPasskey(ctx context.Context, person uuid.UUID, name string, k *webauthn.Credential) error {
	_, err := s.pool.Exec(ctx, "INSERT INTO passkeys (id, person_id, name, credential, added_at) VALUES ($1, $2, $3, $4, now())", k.ID,
		person, name, k)
	return err
}

// usePasskey notes the use of a passkey, with its counter.
func (s store) usePasskey(ctx context.Context, k *webauthn.Credential) error {
	_, err := s.pool.Exec(ctx, "UPDATE passkeys SET credential = $2, last_used_at = now() WHERE id = $1", k.ID, k)
	return err
}

func (s store) setChallenge(ctx context.Context, session []byte, data *webauthn.SessionData) error {
	_, err := s.pool.Exec(ctx, "UPDATE sessions SET challenge = $2 WHERE hash = $1", session, data)
	return err
}

// takeChallenge returns what a passkey was to sign in a session, once.
func (s store) takeChallenge(ctx context.Context, session []byte) (data webauthn.SessionData, err error) {
	var text []byte
	err = s.pool.QueryRow(ctx, `WITH old AS (SELECT hash, challenge FROM sessions WHERE hash = $1 AND challenge IS NOT NULL FOR UPDATE)
		UPDATE sessions s SET challenge = NULL FROM old WHERE s.hash = old.hash RETURNING old.challenge`, session).Scan(&text)
	if err == nil {
		err = json.Unmarshal(text, &data)
	}
	return data, err
}

// setRecovery gives a person recovery codes in place of those that they had.
func (s store) setRecovery(ctx context.Context, person uuid.UUID, hashes [][]byte) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "DELETE FROM recovery_codes WHERE person_id = $1", person); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO recovery_codes SELECT unnest($2::bytea[]), $1", person, hashes)
		return err
	})
}

func (s store) recoveryLeft(ctx context.Context, person uuid.UUID) (n int, err error) {
	err = s.pool.QueryRow(ctx, "SELECT count(*) FROM recovery_codes WHERE person_id = $1", person).Scan(&n)
	return n, err
}

// useRecovery spends a recovery code.
func (s store) useRecovery(ctx context.Context, person uuid.UUID, hash []byte) (bool, error) {
	tag, err := s.pool.Exec(ctx, "DELETE FROM recovery_codes WHERE person_id = $1 AND hash = $2", person, hash)
	return tag.RowsAffected() > 0, err
}

var errLastFactor = errors.New("the last second factor")

// removeFactor removes a passkey, or the authenticator where id is nil. With the last factor go the
// recovery codes; keep refuses that.
func (s store) removeFactor(ctx context.Context, person uuid.UUID, id []byte, keep bool) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		query, args := "DELETE FROM authenticators WHERE person_id = $1", []any{person}
		if id != nil {
			query, args = "DELETE FROM passkeys WHERE person_id = $1 AND id = $2", append(args, id)
		}
		tag, err := tx.Exec(ctx, query, args...)
		if err == nil && tag.RowsAffected() == 0 {
			err = pgx.ErrNoRows
		}
		var left bool
		if err == nil {
			err = tx.QueryRow(ctx, "SELECT "+secondFactor+" FROM people p WHERE p.id = $1", person).Scan(&left)
		}
		if err != nil || left {
			return err
		}
		if keep {
			return errLastFactor
		}
		return forgetFactors(ctx, tx, person)
	})
}

// forgetFactors takes all second factors of a person.
func forgetFactors(ctx context.Context, tx pgx.Tx, person uuid.UUID) error {
	for _, table := range []string{"authenticators", "passkeys", "recovery_codes"} {
		if _, err := tx.Exec(ctx, "DELETE FROM "+table+" WHERE person_id = $1", person); err != nil {
			return err
		}
	}
	return nil
}
