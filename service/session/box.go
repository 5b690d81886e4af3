package session

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// box encrypts the pieces of one recording, under a key of its own. One that is nil leaves them as they are, as they were
// kept once.
type box struct {
	*secret.Box
	id uuid.UUID
}

// Parts of a piece, which are sealed apart.
const (
	pieceOf = "piece"
	wordsOf = "words"
)

// keyPurpose is what the key of a recording is sealed for.
func keyPurpose(id uuid.UUID) string { return "recording " + id.String() }

// box opens the key of a recording; nil where it has none.
func (s store) box(id uuid.UUID, sealed []byte) (*box, error) {
	if sealed == nil {
		return nil, nil
	}
	key, err := s.keys.Open(sealed, keyPurpose(id))
	if err != nil {
		return nil, errUnreadable
	}
	b, err := secret.New([]byte(key), keyPurpose(id))
	return &box{b, id}, err
}

func (b *box) purpose(part string, n int) string { return fmt.Sprintf("%s %d of %s", part, n, b.id) }

func (b *box) seal(part string, n int, plain []byte) []byte {
	if b == nil {
		return append([]byte{}, plain...) // none is not NULL
	}
	return b.SealBytes(plain, b.purpose(part, n))
}

func (b *box) open(part string, n int, sealed []byte) ([]byte, error) {
	if b == nil {
		return sealed, nil
	}
	plain, err := b.OpenBytes(sealed, b.purpose(part, n))
	if err != nil {
		return nil, errUnreadable
	}
	return plain, nil
}

// errUnreadable is answered for a recording that was changed where it is kept, or whose key is gone.
var errUnreadable = front.Problem(http.StatusUnprocessableEntity, "The recording cannot be read.",
	"It was changed in the database, or the key that it was sealed under was removed. Say so to whoever runs the service.")

// resealRecordings seals the keys of recordings under the latest key, and encrypts recordings that are over and not
// encrypted; it returns how many it changed.
func (s store) resealRecordings(ctx context.Context) (int, error) {
	n, err := db.Rewrite(ctx, s.pool, "SELECT id::text, key FROM recordings WHERE key IS NOT NULL AND id::text > $1 ORDER BY "+
		"id::text LIMIT $2", "UPDATE recordings SET key = $2 WHERE id = $1::uuid",
		func(id string, old []byte) ([]byte, bool, error) {
			return s.keys.Again(old, keyPurpose(uuid.MustParse(id)))
		})
	rows, again := s.pool.Query(ctx, "SELECT id FROM recordings WHERE key IS NULL AND ended_at IS NOT NULL")
	if again != nil {
		return n, errors.Join(err, again)
	}
	plain, again := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	err = errors.Join(err, again)
	for _, id := range plain {
		if again := s.encrypt(ctx, id); again != nil {
			return n, errors.Join(err, again)
		}
		n++
	}
	return n, err
}

// encrypt encrypts a recording that is over, piece by piece, all or nothing.
func (s store) encrypt(ctx context.Context, id uuid.UUID) error {
	key := s.keys.Seal(string(secret.NewKey()), keyPurpose(id))
	b, err := s.box(id, key)
	if err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE recordings SET key = $2 WHERE id = $1 AND key IS NULL AND ended_at IS NOT NULL", id, key)
		if err != nil || tag.RowsAffected() == 0 { // it goes on, or another node was faster
			return err
		}
		for n := 0; ; n++ {
			var events, words []byte
			err := tx.QueryRow(ctx, "SELECT events, words FROM recording_pieces WHERE recording_id = $1 AND n = $2", id, n).Scan(&events,
				&words)
			if db.Missing(err) {
				return nil
			}
			if err == nil {
				_, err = tx.Exec(ctx, "UPDATE recording_pieces SET events = $3, words = $4 WHERE recording_id = $1 AND n = $2", id, n,
					b.seal(pieceOf, n, events), b.seal(wordsOf, n, words))
			}
			if err != nil {
				return err
			}
		}
	})
}
