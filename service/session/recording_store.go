package session

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/recording"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
)

// newRecording is a shell whose recording begins, or goes on.
type newRecording struct {
	device, shell, caller                    uuid.UUID
	deviceName, actor, person, program, kind string
	keepDays                                 int
}

type recordingState struct {
	id             uuid.UUID
	began          time.Time
	printed, bytes int64
	seal           seal
}

func (s store) beginRecording(ctx context.Context, r newRecording) (state recordingState, err error) {
	var actor string
	var link, key []byte
	id := uuid.New()
	fresh := s.keys.Seal(string(secret.NewKey()), keyPurpose(id))
	err = s.pool.QueryRow(ctx, `INSERT INTO recordings AS r (id, key, device_id, shell, device_name, person_id, actor, person, program,
		kind, keep_days, began_at, last_at)
		VALUES ($10, $11, $1, $2, $3, $4, $5, $6, $7, $8, $9, now(), now()) ON CONFLICT (device_id, shell) DO UPDATE
		SET ended_at = NULL, end_signature = NULL
		RETURNING r.id, r.began_at, r.printed, r.bytes, r.actor, r.key, r.pieces, (SELECT p.link FROM recording_pieces p
		WHERE p.recording_id = r.id AND p.n = r.pieces - 1)`,
		r.device, r.shell, r.deviceName, r.caller, r.actor, r.person, r.program, r.kind, r.keepDays, id, fresh).
		Scan(&state.id, &state.began, &state.printed, &state.bytes, &actor, &key, &state.seal.pieces, &link)
	if err == nil {
		state.seal.box, err = s.box(state.id, key)
	}
	state.seal.link = recording.First(state.id.String(), r.device.String(), actor, state.began)
	if len(link) == len(state.seal.link) {
		copy(state.seal.link[:], link)
	}
	return state, err
}

// sealed is a piece as it is kept.
type sealed struct {
	n              int // of the piece, from 0
	content, words []byte
	bytes, printed int64
	link           recording.Link
	signature      []byte
	whole          bool // false where something before it, or of it, is missing
}

func (s store) addPiece(ctx context.Context, id uuid.UUID, p sealed) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE recordings SET pieces = pieces + 1, bytes = bytes + $2, printed = greatest(printed, $4),
			last_at = now(), complete = complete AND $3, ended_at = NULL, end_signature = NULL
			WHERE id = $1`, id, p.bytes, p.whole, p.printed)
		if err == nil {
			_, err = tx.Exec(ctx, "INSERT INTO recording_pieces (recording_id, n, events, words, link, signature) VALUES ($1, $2, $3, "+
				"$4, $5, $6)", id, p.n, p.content, p.words, p.link[:], p.signature)
		}
		return err
	})
}

// endRecording ends a recording; it has what was missing at its end noted.
func (s store) endRecording(ctx context.Context, id uuid.UUID, signature []byte, whole bool) error {
	_, err := s.pool.Exec(ctx, "UPDATE recordings SET ended_at = last_at, end_signature = $2, complete = complete AND $3 WHERE id = $1", id,
		signature, whole)
	return err
}

const recordingColumns = "r.id, r.device_id, r.device_name, r.actor, r.person, r.program, r.began_at, r.ended_at, extract(epoch FROM " +
	"r.last_at - r.began_at)::float8, r.bytes, r.complete, r.kind, r.pieces"

func recordingFields(r *api.Recording) []any {
	return []any{&r.ID, &r.DeviceID, &r.Device, &r.Actor, &r.Person, &r.Program, &r.BeganAt, &r.EndedAt, &r.Seconds, &r.Bytes, &r.Complete,
		&r.Kind, &r.Pieces}
}

// recordings lists recordings before a moment, the latest first.
func (s store) recordings(ctx context.Context, view []uuid.UUID, device *uuid.UUID, before moment, limit int) ([]api.Recording, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+recordingColumns+
		` FROM recordings r WHERE (r.began_at, r.id) < ($1, $2) AND ($3::uuid[] IS NULL OR r.device_id = ANY($3))
		AND ($4::uuid IS NULL OR r.device_id = $4) ORDER BY r.began_at DESC, r.id DESC LIMIT $5`, before.At, before.ID, view, device, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r api.Recording, err error) { return r, row.Scan(recordingFields(&r)...) })
}

// search lists recordings before a moment in which a text was printed, the latest first, each with the line of it. It
// looks until it has found as many as limit, or until a time; at is then where it stands, and more tells that it did not
// come to the end.
func (s store) search(ctx context.Context, view []uuid.UUID, device *uuid.UUID, text string, before moment, limit int,
	until time.Time) (found []api.Recording, at moment, more bool, err error) {
	found, at = []api.Recording{}, before
	rows, err := s.pool.Query(ctx, `SELECT `+recordingColumns+`, r.key, p.n,
		p.words FROM recordings r JOIN recording_pieces p ON p.recording_id = r.id
		WHERE (r.began_at, r.id) < ($1, $2) AND ($3::uuid[] IS NULL OR r.device_id = ANY($3)) AND ($4::uuid IS NULL OR r.device_id = $4)
		ORDER BY r.began_at DESC, r.id DESC, p.n`, before.At, before.ID, view, device)
	if err != nil {
		return found, at, false, err
	}
	defer rows.Close()
	var with *box
	there := false // in the recording that is looked through
	for rows.Next() {
		var r api.Recording
		var key, words []byte
		var n int
		if err := rows.Scan(append(recordingFields(&r), &key, &n, &words)...); err != nil {
			return found, at, false, err
		}
		if r.ID != at.ID {
			// One is looked through whatever the time, or what asks again from where it stands would never come on.
			if len(found) == limit || at != before && time.Now().After(until) {
				return found, at, true, nil
			}
			if with, err = s.box(r.ID, key); err != nil {
				return found, at, false, err
			}
			at, there = moment{r.BeganAt, r.ID}, false
		}
		if there {
			continue
		}
		plain, err := with.open(wordsOf, n, words)
		if err != nil {
			return found, at, false, err
		}
		if there = strings.Contains(strings.ToLower(string(plain)), strings.ToLower(text)); there {
			r.Excerpt = new(recording.Line(string(plain), text))
			found = append(found, r)
		}
	}
	return found, at, false, rows.Err()
}

func (s store) recording(ctx context.Context, id uuid.UUID) (r api.Recording, err error) {
	return r, s.pool.QueryRow(ctx, "SELECT "+recordingColumns+" FROM recordings r WHERE r.id = $1", id).Scan(recordingFields(&r)...)
}

func (s store) piece(ctx context.Context, id uuid.UUID, n int) (events []byte, err error) {
	var key []byte
	if err = s.pool.QueryRow(ctx, "SELECT p.events, r.key FROM recording_pieces p JOIN recordings r ON r.id = p.recording_id WHERE "+
		"p.recording_id = $1 AND p.n = $2", id, n).Scan(&events, &key); err != nil {
		return nil, err
	}
	b, err := s.box(id, key)
	if err != nil {
		return nil, err
	}
	return b.open(pieceOf, n, events)
}

// proof lists what seals a recording.
func (s store) proof(ctx context.Context, id uuid.UUID) (p api.RecordingProof, err error) {
	err = s.pool.QueryRow(ctx, "SELECT end_signature FROM recordings WHERE id = $1", id).Scan(&p.EndSignature)
	if err != nil {
		return p, err
	}
	rows, err := s.pool.Query(ctx, "SELECT coalesce(signature, '') FROM recording_pieces WHERE recording_id = $1 ORDER BY n", id)
	if err != nil {
		return p, err
	}
	p.Signatures, err = pgx.CollectRows(rows, pgx.RowTo[[]byte])
	return p, err
}

// expireRecordings removes what was kept for long enough, and ends what a node that stopped left open.
func (s store) expireRecordings(ctx context.Context) error {
	if _, err := s.pool.Exec(ctx,
		"UPDATE recordings SET ended_at = last_at WHERE ended_at IS NULL AND last_at < now() - interval '1 day'"); err != nil {
		return err
	}
	_, err := s.pool.Exec(ctx, "DELETE FROM recordings WHERE last_at < now() - make_interval(days => keep_days)")
	return err
}

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
