package health

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/health"
	"moorwatch.example/service/db"
)

// DeviceRetired implements fleet.Dependent: nothing is wrong any more with a device that is retired.
func (h *Service) DeviceRetired(ctx context.Context, tx pgx.Tx, device uuid.UUID) error {
	if _, err := tx.Exec(ctx, "DELETE FROM findings WHERE device_id = $1", device); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "UPDATE alerts SET state = 'resolved', resolved_at = now(), due = NULL WHERE device_id = $1 AND "+
		"resolved_at IS NULL", device)
	return err
}

// DeviceMoved implements fleet.Dependent: the alerts that are open about a device go with it.
func (h *Service) DeviceMoved(ctx context.Context, tx pgx.Tx, device, site uuid.UUID) error {
	_, err := tx.Exec(ctx, "UPDATE alerts SET site_id = $2 WHERE device_id = $1 AND resolved_at IS NULL", device, site)
	return err
}

// ScopeInUse implements fleet.ScopeUser.
func (h *Service) ScopeInUse(ctx context.Context, s health.Scope) (what string, err error) {
	err = h.store.pool.QueryRow(ctx, `SELECT name FROM (
		SELECT 'the policy ' || name AS name FROM policies WHERE scope_kind = $1 AND scope_id = $2
		UNION ALL SELECT 'the maintenance window ' || name FROM maintenance_windows WHERE scope_kind = $1 AND scope_id = $2
		UNION ALL SELECT 'the rule ' || name FROM rules WHERE spec->'scope'->>'kind' = $1 AND spec->'scope'->>'id' = $2) u LIMIT 1`,
		string(s.Kind), s.ID).Scan(&what)
	if db.Missing(err) {
		err = nil
	}
	return what, err
}
