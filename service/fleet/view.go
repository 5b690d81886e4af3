package fleet

import (
	"context"
	"encoding/json"
	"slices"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/roster"
	"moorwatch.example/service/front"
)

// sees tells whether a caller may know of a device.
func sees(caller *front.Caller, e *roster.Entry) bool {
	return caller.Rights.May(access.FleetRead, &e.Place)
}

// seen takes from a list of devices those that a caller may not know of.
func seen(caller *front.Caller, found []*roster.Entry) []*roster.Entry {
	if caller.Rights.Everywhere(access.FleetRead) {
		return found
	}
	return slices.DeleteFunc(found, func(e *roster.Entry) bool { return !sees(caller, e) })
}

// View is the devices and sites at which the caller holds a permission; nil for all.
func (f *Service) View(ctx context.Context, caller *front.Caller, p access.Permission) ([]uuid.UUID, error) {
	if caller.Rights.Everywhere(p) {
		return nil, nil
	}
	view := []uuid.UUID{}
	for _, e := range f.roster.All() {
		if caller.Rights.May(p, &e.Place) {
			view = append(view, e.ID)
		}
	}
	err := f.store.sites(ctx, func(site, organisation uuid.UUID) {
		if caller.Rights.May(p, &health.Place{Site: site.String(), Organisation: organisation.String()}) {
			view = append(view, site)
		}
	})
	return view, err
}

// At is the place of a scope: that of a device, or of a site, organisation or group as far as it is
// one. Only roles held everywhere cover the place of everywhere.
func (f *Service) At(ctx context.Context, s health.Scope) (p health.Place, err error) {
	switch s.Kind {
	case health.Organisation:
		p.Organisation = s.ID
	case health.Site:
		p.Site = s.ID
		p.Organisation, err = f.store.organisationOf(ctx, s.ID)
	case health.Group:
		p.Groups = []string{s.ID}
	case health.Device:
		var id uuid.UUID
		if id, err = uuid.Parse(s.ID); err == nil {
			p, err = f.Place(ctx, id)
		}
	}
	return p, err
}

// MayAt refuses a caller who may not do what needs p at each of some scopes.
func (f *Service) MayAt(ctx context.Context, caller *front.Caller, p access.Permission, scopes ...health.Scope) error {
	for _, s := range scopes {
		at, err := f.At(ctx, s)
		if err != nil {
			return err
		}
		if !caller.Rights.May(p, &at) {
			return front.Lacking(p)
		}
	}
	return nil
}

// Concerns tells whether something that is set for a scope concerns what a caller may see: it does
// where the scope covers one of their devices, or lies within what they hold a role for.
func (f *Service) Concerns(ctx context.Context, caller *front.Caller, s health.Scope) bool {
	if s.Kind == health.Everywhere || f.MayAt(ctx, caller, access.FleetRead, s) == nil {
		return true
	}
	return slices.ContainsFunc(f.roster.All(), func(e *roster.Entry) bool { return s.Covers(&e.Place) && sees(caller, e) })
}

// visible leaves of an event what a caller may see.
func (f *Service) visible(caller *front.Caller) func(front.Event) (front.Event, bool) {
	all := caller.Rights.Everywhere(access.FleetRead)
	return func(e front.Event) (front.Event, bool) {
		if e.Name == "invited" {
			var in api.Invited
			return e, json.Unmarshal(e.Data, &in) == nil && in.To == caller.ID
		}
		if all || e.Name != "devices" {
			return e, true // others carry ids alone
		}
		var rows []api.Device
		if json.Unmarshal(e.Data, &rows) != nil {
			return e, false
		}
		rows = f.Sees(caller, rows)
		data, err := json.Marshal(rows)
		return front.Event{Name: e.Name, Data: data}, err == nil && len(rows) > 0
	}
}

func (f *Service) seesDevice(caller *front.Caller, id uuid.UUID) bool {
	e := f.roster.Find(id)
	return caller.Rights.Everywhere(access.FleetRead) || (e != nil && sees(caller, e))
}

// Sees leaves of devices those that a caller may know of.
func (f *Service) Sees(caller *front.Caller, rows []api.Device) []api.Device {
	return slices.DeleteFunc(rows, func(d api.Device) bool { return !f.seesDevice(caller, d.ID) })
}
