package fleet

import (
	"context"
	"crypto/rand"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
)

// known is what is known of a device before it connects.
type known struct {
	name      string
	hardware  []string
	site      uuid.UUID
	successor *uuid.UUID // as which it goes on
	waiting   bool       // until somebody lets it in
	marks     device.Marks
}

func (s store) known(ctx context.Context, id uuid.UUID) (k known, err error) {
	err = s.pool.QueryRow(ctx, "SELECT name, hardware, site_id, successor_id, waiting, mark_shown, marks_given FROM devices "+
		"WHERE id = $1", id).
		Scan(&k.name, &k.hardware, &k.site, &k.successor, &k.waiting, &k.marks.Shown, &k.marks.Given)
	return k, err
}

func (s store) setHardware(ctx context.Context, id uuid.UUID, hardware []string) error {
	_, err := s.pool.Exec(ctx, "UPDATE devices SET hardware = $2 WHERE id = $1", id, hardware)
	return err
}

// setMarks takes other marks of a device, where they are still those that were read.
func (s store) setMarks(ctx context.Context, id uuid.UUID, before, after device.Marks) error {
	return s.pool.QueryRow(ctx, "UPDATE devices SET mark_shown = $4, marks_given = $5 "+
		"WHERE id = $1 AND mark_shown = $2 AND marks_given = $3 RETURNING id", id,
		before.Shown, before.Given, after.Shown, after.Given).Scan(&id)
}

// Kinds of questions.
const (
	enrolled = "enrolled" // a new device waits to be let in
	copied   = "copied"   // another computer shows the device's key
	returned = "returned" // a new device has the hardware of an older one
)

// asked is a question, as it is asked again and again.
type asked struct {
	id    uuid.UUID
	fresh bool
	same  *bool // the answer
}

// mostQuestions is how many are asked of one device, whoever shows its key with whatever hardware; of others nothing is
// asked, and pgx.ErrNoRows is returned.
const mostQuestions = 20

// ask asks a question once, and again where the device was found to be the same and is another by now.
func (s store) ask(ctx context.Context, kind string, id uuid.UUID, older *uuid.UUID, hostName, address string, hardware []string) (a asked,
	err error) {
	err = s.pool.QueryRow(ctx, `INSERT INTO identity_questions (kind, device_id, older_id, host_name, address, hardware) SELECT $1::text,
		$2::uuid, $3::uuid, $4::text, $5::text, $6::text[]
		WHERE EXISTS (SELECT FROM identity_questions WHERE kind = $1 AND device_id = $2 AND hardware = $6)
			OR (SELECT count(*) FROM identity_questions WHERE device_id = $2) < $7
		ON CONFLICT (kind, device_id, hardware) DO UPDATE SET seen_at = now(), host_name = excluded.host_name, address = excluded.address,
		answered_at = CASE WHEN identity_questions.same THEN NULL ELSE identity_questions.answered_at END, same = CASE WHEN
		identity_questions.same THEN NULL ELSE identity_questions.same END
		RETURNING id, xmax = 0, same`, kind, id, older, hostName, address, hardware, mostQuestions).Scan(&a.id, &a.fresh, &a.same)
	return a, err
}

// enrolAnew gives a copy a token of one use, in place of one that it did not use. Where it used one, somebody is asked
// anew and none is given: or whoever has a device's key would enrol as many as they like.
func (s store) enrolAnew(ctx context.Context, question uuid.UUID, hash []byte, site uuid.UUID, expires time.Time, name string) (given bool,
	err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var before *uuid.UUID
		var used bool
		if err := tx.QueryRow(ctx,
			`SELECT q.anew_token, coalesce((SELECT t.used > 0 FROM enrolment_tokens t WHERE t.id = q.anew_token), false)
			FROM identity_questions q WHERE q.id = $1 FOR UPDATE`, question).Scan(&before, &used); err != nil {
			return err
		}
		if used {
			_, err := tx.Exec(ctx, "UPDATE identity_questions SET same = NULL, answered_at = NULL, anew_token = NULL WHERE id = $1",
				question)
			return err
		}
		given = true
		if _, err := tx.Exec(ctx, "UPDATE enrolment_tokens SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL",
			before); err != nil {
			return err
		}
		t, err := addToken(ctx, tx, hash, site, 1, false, expires, maker{name: name})
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE identity_questions SET anew_token = $2 WHERE id = $1", question, t.ID)
		return err
	})
	return given, err
}

// older finds the device of an organisation that was on some hardware before a new one, and is not connected.
func (s store) older(ctx context.Context, id uuid.UUID, hardware []string) (uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, `SELECT d.id, d.hardware FROM devices d JOIN sites s ON s.id = d.site_id
		WHERE d.retired_at IS NULL AND NOT d.online AND d.id <> $1 AND d.hardware && $2
		AND s.organisation_id = (SELECT s.organisation_id FROM devices d JOIN sites s ON s.id = d.site_id WHERE d.id = $1)
		ORDER BY d.last_heard DESC NULLS LAST LIMIT 20`, id, hardware)
	if err != nil {
		return uuid.Nil, err
	}
	found := uuid.Nil
	var one uuid.UUID
	var has []string
	_, err = pgx.ForEachRow(rows, []any{&one, &has}, func() error {
		if found == uuid.Nil && device.Compare(has, hardware) == device.Same {
			found = one
		}
		return nil
	})
	return found, err
}

const questionColumns = `q.id, q.kind, q.device_id, d.name, o.name, s.name, d.last_heard, q.older_id, coalesce(p.name, ''), p.last_heard, q.host_name, q.address, q.hardware, d.hardware, q.asked_at, q.seen_at`

const fromQuestions = ` FROM identity_questions q JOIN devices d ON d.id = q.device_id JOIN sites s ON s.id = d.site_id
		JOIN organisations o ON o.id = s.organisation_id
	LEFT JOIN devices p ON p.id = q.older_id WHERE q.answered_at IS NULL AND d.retired_at IS NULL `

func scanQuestion(row pgx.CollectableRow) (q api.IdentityQuestion, err error) {
	return q, row.Scan(&q.ID, &q.Kind, &q.Device, &q.Name, &q.Organisation, &q.Site, &q.LastHeard, &q.Older, &q.OlderName,
		&q.OlderLastHeard, &q.HostName, &q.Address, &q.Hardware, &q.Known, &q.AskedAt, &q.SeenAt)
}

// questions lists what is not answered, of one kind or all, oldest first; of a view, what is asked of its devices.
func (s store) questions(ctx context.Context, view []uuid.UUID, kind *string, after askedPlace, limit int) ([]api.IdentityQuestion, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+questionColumns+fromQuestions+
		`AND ($1::uuid[] IS NULL OR d.id = ANY($1) OR d.site_id = ANY($1))
		AND ($5::text IS NULL OR q.kind = $5) AND (q.asked_at, q.id) > ($2, $3) ORDER BY q.asked_at, q.id LIMIT $4`,
		view, after.At, after.ID, limit, kind)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanQuestion)
}

// question is the oldest that is asked of a device.
func (s store) question(ctx context.Context, id uuid.UUID) (q api.IdentityQuestion, err error) {
	rows, err := s.pool.Query(ctx, "SELECT "+questionColumns+fromQuestions+"AND d.id = $1 ORDER BY q.asked_at, q.id LIMIT 1", id)
	if err != nil {
		return q, err
	}
	return pgx.CollectExactlyOneRow(rows, scanQuestion)
}

// answer answers a question that is open, and does what follows: the same device in another body has that hardware
// from now on; an older device that returned goes on with the new one's key, and the new one is retired.
func (s store) answer(ctx context.Context, q api.IdentityQuestion, same bool, by string) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var hardware []string
		if err := tx.QueryRow(ctx, "UPDATE identity_questions SET same = $2, answered_at = now(), answered_by = $3 WHERE id = $1 AND "+
			"answered_at IS NULL RETURNING hardware", q.ID, same, by).Scan(&hardware); err != nil {
			return err
		}
		switch {
		case q.Kind == enrolled && same:
			_, err := tx.Exec(ctx, "UPDATE devices SET waiting = false WHERE id = $1", q.Device)
			return err
		case q.Kind == enrolled:
			_, err := s.retireIn(ctx, tx, q.Device)
			return err
		case !same:
			_, err := tx.Exec(ctx, "UPDATE devices SET conflict_at = NULL WHERE id = $1", q.Device)
			return err
		}
		if mark, ok := markOf(hardware); ok && q.Kind == copied {
			_, err := tx.Exec(ctx, "UPDATE devices SET hardware = '{}', mark_shown = $2, marks_given = '{}', "+
				"conflict_at = NULL WHERE id = $1",
				q.Device, mark)
			return err
		}
		if q.Kind == copied {
			_, err := tx.Exec(ctx, "UPDATE devices SET hardware = $2, conflict_at = NULL WHERE id = $1", q.Device, hardware)
			return err
		}
		var key []byte
		if err := tx.QueryRow(ctx, "SELECT public_key FROM devices WHERE id = $1 FOR UPDATE", q.Device).Scan(&key); err != nil {
			return err
		}
		nobodys := make([]byte, len(key)) // keys are told apart; this one belongs to nobody
		rand.Read(nobodys)
		if _, err := tx.Exec(ctx, "UPDATE devices SET public_key = $2, successor_id = $3 WHERE id = $1", q.Device, nobodys,
			q.Older); err != nil {
			return err
		}
		if _, err := s.retireIn(ctx, tx, q.Device); err != nil {
			return err
		}
		var name string
		return tx.QueryRow(ctx, "UPDATE devices SET public_key = $2, hardware = $3, conflict_at = NULL WHERE id = $1 AND retired_at IS "+
			"NULL RETURNING name", q.Older, key, hardware).Scan(&name)
	})
}

// askedPlace is where a page of questions ended.
type askedPlace struct {
	At time.Time
	ID uuid.UUID
}
