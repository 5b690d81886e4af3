package session

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
)

// consoles lists a device's consoles after a name.
func (s store) consoles(ctx context.Context, device uuid.UUID, after string, limit int) ([]api.Console, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, name, address, secret IS NOT NULL, added_at, added_by FROM consoles WHERE device_id = $1 "+
		"AND name > $2 ORDER BY name LIMIT $3", device, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (o api.Console, err error) {
		return o, row.Scan(&o.ID, &o.Name, &o.Address, &o.Secret, &o.AddedAt, &o.AddedBy)
	})
}

func (s store) addConsole(ctx context.Context, device uuid.UUID, o api.Console, secret []byte) error {
	_, err := s.pool.Exec(ctx, "INSERT INTO consoles (id, device_id, name, address, secret, added_at, added_by) VALUES ($1, $2, $3, $4, "+
		"$5, $6, $7)", o.ID, device, o.Name, o.Address, secret, o.AddedAt, o.AddedBy)
	return err
}

func (s store) console(ctx context.Context, device, id uuid.UUID) (name, address string, secret []byte, err error) {
	err = s.pool.QueryRow(ctx, "SELECT name, address, secret FROM consoles WHERE device_id = $1 AND id = $2", device, id).Scan(&name,
		&address, &secret)
	return name, address, secret, err
}

func (s store) removeConsole(ctx context.Context, device, id uuid.UUID) (name string, err error) {
	return name, s.pool.QueryRow(ctx, "DELETE FROM consoles WHERE device_id = $1 AND id = $2 RETURNING name", device, id).Scan(&name)
}

// resealConsoles seals the passwords of consoles under the latest key, and returns how many it changed.
func (s store) resealConsoles(ctx context.Context, box *secret.Ring) (int, error) {
	return db.Rewrite(ctx, s.pool, "SELECT id::text, secret FROM consoles WHERE secret IS NOT NULL AND id::text > $1 ORDER BY "+
		"id::text LIMIT $2",
		"UPDATE consoles SET secret = $2 WHERE id = $1::uuid",
		func(id string, old []byte) ([]byte, bool, error) { return box.Again(old, consolePrefix+id) })
}
