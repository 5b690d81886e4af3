package fleet

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/health"
)

// Dependent is a service that keeps something of devices. What it changes stands or falls with what happens to the
// device, in one transaction.
type Dependent interface {
	DeviceRetired(ctx context.Context, tx pgx.Tx, device uuid.UUID) error
	DeviceMoved(ctx context.Context, tx pgx.Tx, device, site uuid.UUID) error
}

// ScopeUser is a service that sets something for groups.
type ScopeUser interface {
	// ScopeInUse names what is set for a scope, one of several; "" where nothing is.
	ScopeInUse(ctx context.Context, s health.Scope) (what string, err error)
}

// RoleHolder names somebody who holds a role at a scope; "" where nobody does.
type RoleHolder interface {
	HolderAt(ctx context.Context, s health.Scope) (name string, err error)
}

// dependents are told of what happens to devices, in this order.
type dependents []Dependent

func (all dependents) retired(ctx context.Context, tx pgx.Tx, device uuid.UUID) error {
	for _, d := range all {
		if err := d.DeviceRetired(ctx, tx, device); err != nil {
			return err
		}
	}
	return nil
}

func (all dependents) moved(ctx context.Context, tx pgx.Tx, device, site uuid.UUID) error {
	for _, d := range all {
		if err := d.DeviceMoved(ctx, tx, device, site); err != nil {
			return err
		}
	}
	return nil
}

// scopeInUse names what is set for a scope; "" where nothing is.
func (f *Service) scopeInUse(ctx context.Context, s health.Scope) (string, error) {
	for _, u := range f.users {
		if what, err := u.ScopeInUse(ctx, s); what != "" || err != nil {
			return what, err
		}
	}
	return "", nil
}
