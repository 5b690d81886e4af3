package fleet

import (
	"context"
	"errors"
	"net/http"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/health"
	"moorwatch.example/service/front"
)

// ScopeName is SQL that names a scope of which kind and id stand in the given columns.
func ScopeName(kind, id string) string {
	return `coalesce(CASE ` + kind + ` WHEN 'everywhere' THEN 'everywhere'
		WHEN 'organisation' THEN (SELECT o.name FROM organisations o WHERE o.id::text = ` + id + `)
		WHEN 'site' THEN (SELECT s.name FROM sites s WHERE s.id::text = ` + id + `)
		WHEN 'group' THEN (SELECT g.name FROM groups g WHERE g.id::text = ` + id + `)
		WHEN 'device' THEN (SELECT d.name FROM devices d WHERE d.id::text = ` + id + `) END, 'something removed')`
}

// KnownScope refuses a scope that is not there.
func (f *Service) KnownScope(ctx context.Context, scope health.Scope) error {
	bad := func(title, detail string) error { return front.Problem(http.StatusBadRequest, title, detail) }
	if scope.Kind == health.Everywhere && scope.ID == "" {
		return nil
	}
	if !scope.Kind.Known() || scope.Kind == health.Everywhere {
		return bad("The scope cannot be read.", "Use everywhere without an id, or organisation, site, group or device with one.")
	}
	there, err := f.store.scopeThere(ctx, scope)
	if err != nil {
		return err
	}
	if !there {
		return bad("There is no such "+string(scope.Kind)+".", "Use the id of one, as its list shows it.")
	}
	return nil
}

func (s store) scopeThere(ctx context.Context, scope health.Scope) (bool, error) {
	table := map[health.ScopeKind]string{health.Organisation: "organisations", health.Site: "sites", health.Group: "groups",
		health.Device: "devices"}[scope.Kind]
	id, err := uuid.Parse(scope.ID)
	if err != nil {
		return false, nil
	}
	err = s.pool.QueryRow(ctx, "SELECT id FROM "+table+" WHERE id = $1", id).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}
