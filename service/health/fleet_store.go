package health

import (
	"context"

	"moorwatch.example/core/health"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
)

// deviceRetiring ends what is wrong with a device that is retired.
func deviceRetiring(ctx context.Context, e bus.DeviceRetiring) error {
	if _, err := e.Tx.Exec(ctx, "DELETE FROM findings WHERE device_id = $1", e.Device); err != nil {
		return err
	}
	_, err := e.Tx.Exec(ctx, "UPDATE alerts SET state = 'resolved', resolved_at = now(), due = NULL WHERE device_id = $1 AND "+
		"resolved_at IS NULL", e.Device)
	return err
}

// deviceMoving has the alerts that are open about a device go with it.
func deviceMoving(ctx context.Context, e bus.DeviceMoving) error {
	_, err := e.Tx.Exec(ctx, "UPDATE alerts SET site_id = $2 WHERE device_id = $1 AND resolved_at IS NULL", e.Device, e.Site)
	return err
}

// scopeInUse names what is set for a scope; "" where nothing is.
func (h *Service) scopeInUse(ctx context.Context, s health.Scope) (what string, err error) {
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
