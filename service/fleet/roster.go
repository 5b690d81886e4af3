package fleet

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/roster"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/front"
)

// The roster follows the database, which is the truth, within a fraction of a second.

// listed is a row of the list with what the roster needs beside it.
type listed struct {
	api.Device
	site, organisation              uuid.UUID
	vendor, kernel, processor, zone string
	readings                        []roster.Reading
	software                        []int32
}

// row is a row as the roster takes it.
func (l *listed) row() roster.Row {
	s := subject(&l.Device)
	s.Vendor, s.Kernel, s.CPUModel, s.TimeZone = l.vendor, l.kernel, l.processor, l.zone
	return roster.Row{ID: l.ID, Subject: *s, Site: l.site, Organisation: l.organisation, Readings: l.readings, Software: l.software}
}

// matching lists the devices of a list for which an expression holds.
func (f *Service) matching(expression string, all []*roster.Entry) (roster.Matching, error) {
	match, err := selector.Compile(expression)
	if err != nil {
		return roster.Matching{}, front.Problem(http.StatusBadRequest, "The expression cannot be read.", err.Error())
	}
	return roster.Match(match, all, time.Now()), nil
}

// entries lists the devices of a group, those for which an expression holds, or all, by name. A device for which it
// cannot be decided does not match; when that is every device, the caller is told why.
func (f *Service) entries(where *string, within *uuid.UUID) ([]*roster.Entry, error) {
	found := f.roster.All()
	if where != nil && *where != "" {
		some, err := f.matching(*where, found)
		if err != nil {
			return nil, err
		}
		if some.Undecided > 0 && some.Undecided == some.Of {
			return nil, front.Problem(http.StatusBadRequest, "The expression cannot be decided for any device.", some.Why.Error())
		}
		found = some.Found
	}
	if within != nil {
		if !f.roster.HasGroup(*within) {
			return nil, front.NotFound("group")
		}
		id := within.String()
		found = slices.DeleteFunc(found, func(e *roster.Entry) bool { return !slices.Contains(e.Place.Groups, id) })
	}
	return found, nil
}

// Place is where a device stands among the scopes of policies.
func (f *Service) Place(ctx context.Context, id uuid.UUID) (health.Place, error) {
	e := f.roster.Find(id)
	if e == nil {
		if _, err := f.enlist(ctx, []uuid.UUID{id}); err != nil {
			return health.Place{}, err
		}
		if e = f.roster.Find(id); e == nil {
			return health.Place{}, nil
		}
	}
	return e.Place, nil
}

// enlist brings devices in the roster up to date, all when none are named, and returns their rows.
func (f *Service) enlist(ctx context.Context, ids []uuid.UUID) ([]listed, error) {
	all, err := f.store.listed(ctx, ids)
	if err != nil {
		return nil, err
	}
	rows := make([]roster.Row, len(all))
	for i := range all {
		rows[i] = all[i].row()
	}
	if unknown := f.roster.Unknown(rows); len(unknown) > 0 {
		if err := f.store.titles(ctx, unknown, f.roster.Learn); err != nil {
			return nil, err
		}
	}
	if moved := f.roster.Put(ids, rows, time.Now()); len(moved) > 0 {
		f.judgeAgain(ctx, moved...)
	}
	return all, nil
}

// Chosen returns the devices of a group, those for which an expression holds, or all, by name; of
// them those at which the caller holds a permission.
func (f *Service) Chosen(ctx context.Context, caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]api.Device,
	error) {
	found, err := f.entries(where, group)
	if err != nil {
		return nil, err
	}
	return f.rows(ctx, slices.DeleteFunc(found, func(e *roster.Entry) bool { return !sees(caller, e) || !caller.Rights.May(p, &e.Place) }))
}

// Targets is Chosen by what is in memory alone: devices as expressions see them, a quarter of a second old
// at most.
func (f *Service) Targets(caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) (out []Target, err error) {
	found, err := f.entries(where, group)
	for _, e := range found {
		if sees(caller, e) && caller.Rights.May(p, &e.Place) {
			out = append(out, Target{e.ID, &e.Subject, &e.Place})
		}
	}
	return out, err
}

// Target is a device as expressions see it. The subject and the place are the roster's.
type Target struct {
	ID      uuid.UUID
	Subject *selector.Subject
	Place   *health.Place
}

// Known is a device by its identity, as Target tells of it; ok is false where there is none.
func (f *Service) Known(id uuid.UUID) (m Target, ok bool) {
	e := f.roster.Find(id)
	if e == nil {
		return m, false
	}
	return Target{e.ID, &e.Subject, &e.Place}, true
}

// Software tells which software a device has; nil where that is not known.
func (f *Service) Software(id uuid.UUID) health.Software {
	if m, ok := f.Known(id); ok && m.Subject.Software != nil && len(m.Subject.Software.Names()) > 0 {
		return m.Subject.Software
	}
	return nil
}

// rows reads the rows of devices, in their order.
func (f *Service) rows(ctx context.Context, found []*roster.Entry) ([]api.Device, error) {
	ids, order := make([]uuid.UUID, len(found)), make(map[uuid.UUID]int, len(found))
	for i, e := range found {
		ids[i], order[e.ID] = e.ID, i
	}
	rows, err := f.store.devicesByID(ctx, ids)
	slices.SortFunc(rows, func(a, b api.Device) int { return order[a.ID] - order[b.ID] })
	f.decorate(rows)
	return rows, err
}

// decorate adds what the database's rows do not tell: the groups.
func (f *Service) decorate(rows []api.Device) {
	for i := range rows {
		if e := f.roster.Find(rows[i].ID); e != nil && len(e.Subject.Groups) > 0 {
			rows[i].Groups = new(slices.Clone(e.Subject.Groups))
		}
	}
}

// Scopes returns the devices that a scope covers, by name.
func (f *Service) Scopes(ctx context.Context, s health.Scope) ([]api.Device, error) {
	found := slices.DeleteFunc(f.roster.All(), func(e *roster.Entry) bool { return !s.Covers(&e.Place) })
	return f.rows(ctx, found)
}

// Forget is told of software that no device has any more.
func (f *Service) Forget(software []int32) { f.roster.Forget(software) }
