package health

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
)

// Told is one event as a channel is told of it.
type Told struct {
	ID           uuid.UUID        `json:"id"` // of the event, the same however often it is sent
	Kind         health.EventKind `json:"kind"`
	At           time.Time        `json:"at"`
	Alert        uuid.UUID        `json:"alert"`
	Device       string           `json:"device,omitempty"`
	Site         string           `json:"site"`
	Organisation string           `json:"organisation"`
	Check        string           `json:"check"`
	Subject      string           `json:"subject,omitempty"`
	Level        health.Level     `json:"level"`
	Message      string           `json:"message"`
	Since        time.Time        `json:"since"`
}

// putDeliveries notes what is to be told. What a digest gathers waits with others of its rule.
func putDeliveries(ctx context.Context, tx pgx.Tx, all []telling, now time.Time) error {
	for _, t := range all {
		a := t.alert
		told := Told{ID: uuid.New(), Kind: t.kind, At: now, Alert: a.id, Check: a.Check, Subject: a.Subject, Level: a.Level,
			Message: a.Message, Since: a.Since}
		err := tx.QueryRow(ctx, "SELECT s.name, o.name, coalesce((SELECT name FROM devices WHERE id = $2), '') FROM sites s JOIN "+
			"organisations o ON o.id = s.organisation_id WHERE s.id = $1",
			a.site, orNil(a.device)).Scan(&told.Site, &told.Organisation, &told.Device)
		if err != nil {
			return err
		}
		text, err := json.Marshal(told)
		if err != nil {
			return err
		}
		gathers := t.rule.DigestMinutes > 0 && t.kind != health.Escalated // what went unseen too long waits for nothing
		if gathers {
			tag, err := tx.Exec(ctx, "UPDATE deliveries SET events = events || $3::jsonb WHERE channel_id = $1 AND rule = $2 AND state "+
				"= 'gathering'", t.channel, t.rule.Name, text)
			if err != nil {
				return err
			}
			if tag.RowsAffected() > 0 {
				continue
			}
		}
		state, due := "waiting", now
		if gathers {
			state, due = "gathering", now.Add(time.Duration(t.rule.DigestMinutes)*time.Minute)
		}
		// The channel may have been removed since the rules were read.
		if _, err := tx.Exec(ctx, `INSERT INTO deliveries (channel_id, rule, events, state, due, created_at)
			SELECT id, $2, jsonb_build_array($3::jsonb), $4, $5, $6 FROM channels WHERE id = $1`,
			t.channel, t.rule.Name, text, state, due, now); err != nil {
			return err
		}
	}
	return nil
}

// delivery is something to be told to a channel.
type delivery struct {
	id       uuid.UUID
	channel  channel
	events   []Told
	attempts int
}

// channel is where people or programs are told.
type channel struct {
	id           uuid.UUID
	name         string
	kind, target string
	secret       []byte
}

// claim takes up to limit deliveries that are due, and holds them for as long as one may take.
func (s store) claim(ctx context.Context, limit int, hold time.Duration) ([]delivery, error) {
	rows, err := s.pool.Query(ctx, `UPDATE deliveries d SET state = 'waiting', attempts = attempts + 1, due = now() + $2
		FROM channels c WHERE c.id = d.channel_id AND d.id IN (SELECT id FROM deliveries WHERE state IN ('gathering', 'waiting')
		AND due <= now()
			ORDER BY due LIMIT $1 FOR UPDATE SKIP LOCKED)
		RETURNING d.id, d.events, d.attempts, c.id, c.name, c.kind, c.target, c.sealed`, limit, hold)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d delivery, err error) {
		var sealed []byte
		err = row.Scan(&d.id, &d.events, &d.attempts, &d.channel.id, &d.channel.name, &d.channel.kind, &d.channel.target, &sealed)
		s.open(&d.channel, sealed)
		return d, err
	})
}

func (s store) sent(ctx context.Context, id uuid.UUID) error {
	_, err := s.pool.Exec(ctx, "UPDATE deliveries SET state = 'sent', sent_at = now(), error = '' WHERE id = $1", id)
	return err
}

func (s store) failed(ctx context.Context, id uuid.UUID, again *time.Time, why string) error {
	_, err := s.pool.Exec(ctx, `UPDATE deliveries SET state = CASE WHEN $2::timestamptz IS NULL THEN 'failed' ELSE 'waiting' END, due =
		coalesce($2, due), error = $3 WHERE id = $1`, id, again, why)
	return err
}

func (s store) deliveries(ctx context.Context, before moment, limit int) ([]api.Delivery, error) {
	rows, err := s.pool.Query(ctx, `SELECT d.id, c.name, d.rule, d.events, d.state, d.attempts, d.error, d.created_at, d.due, d.sent_at
		FROM deliveries d JOIN channels c ON c.id = d.channel_id WHERE (d.created_at, d.id) < ($1, $2) ORDER BY d.created_at DESC, d.id
		DESC LIMIT $3`, before.At, before.ID, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d api.Delivery, err error) {
		var events []Told
		err = row.Scan(&d.ID, &d.Channel, &d.Rule, &events, &d.State, &d.Attempts, &d.Error, &d.CreatedAt, &d.Due, &d.SentAt)
		d.Subject = subjectOf(events)
		return d, err
	})
}

// expireDeliveries removes what was told, or could not be, before a time.
func (s store) expireDeliveries(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM deliveries WHERE created_at < $1 AND state IN ('sent', 'failed')", before)
	return err
}
