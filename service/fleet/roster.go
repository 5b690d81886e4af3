package fleet

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/front"
)

// roster is every device as expressions see it, kept in memory so that an expression over ten
// thousand devices is answered while a person types. The database is the truth; the roster follows
// it within a fraction of a second.
type roster struct {
	mu      sync.RWMutex
	entries map[uuid.UUID]*entry
	order   []*entry // by name, then id; nil when it must be made anew
	groups  []group
	titles  titles
	strings map[string]string // equal texts are kept once
}

// entry is one device of the roster. It is replaced, never changed.
type entry struct {
	id      uuid.UUID
	subject selector.Subject
	place   health.Place
	names   []string // of the groups it is in
	titles  []int32  // of its software, rising
}

// group is a group with its expression compiled; match is nil for a static one.
type group struct {
	id      uuid.UUID
	name    string
	of      string // the organisation whose devices it holds; "" for all
	match   *selector.Selector
	members map[uuid.UUID]bool
}

func newRoster() *roster {
	return &roster{entries: map[uuid.UUID]*entry{}, strings: map[string]string{},
		titles: titles{all: map[int32]title{}, byName: map[string][]int32{}}}
}

// listed is a row of the list with what the roster needs beside it.
type listed struct {
	api.Device
	site, organisation              uuid.UUID
	vendor, kernel, processor, zone string
	readings                        []reading
	software                        []int32
}

// reading is the latest value of a reading, by its full name.
type reading struct {
	name  string
	value float64
}

// readings implements selector.Readings.
type readings []reading

// Value implements selector.Readings.
func (r readings) Value(name string) (float64, bool) {
	for i := range r {
		if r[i].name == name {
			return r[i].value, true
		}
	}
	return 0, false
}

// Names implements selector.Readings.
func (r readings) Names() (names []string) {
	for i := range r {
		names = append(names, r[i].name)
	}
	return names
}

// put brings devices up to date, and forgets those of ids that are not among them any more. It
// returns the devices whose groups changed.
func (r *roster) put(ids []uuid.UUID, rows []listed, now time.Time) (moved []uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	gone := map[uuid.UUID]bool{}
	for _, id := range ids {
		gone[id] = true
	}
	for i := range rows {
		d := &rows[i]
		delete(gone, d.ID)
		e := r.entry(d)
		r.join(e, now)
		old := r.entries[d.ID]
		if old == nil || old.subject.Name != e.subject.Name {
			r.order = nil
		}
		if old != nil && !slices.Equal(old.place.Groups, e.place.Groups) {
			moved = append(moved, d.ID)
		}
		r.entries[d.ID] = e
		r.replace(old, e)
	}
	for id := range gone {
		if _, ok := r.entries[id]; ok {
			delete(r.entries, id)
			r.order = nil
		}
	}
	return moved
}

// replace puts e where old stood in the order.
func (r *roster) replace(old, e *entry) {
	if r.order == nil || old == nil {
		return
	}
	if i, ok := slices.BinarySearchFunc(r.order, old, byName); ok {
		r.order[i] = e
	}
}

func byName(a, b *entry) int {
	return cmp.Or(cmp.Compare(a.subject.Name, b.subject.Name), slices.Compare(a.id[:], b.id[:]))
}

// mostStrings is how many texts are kept once: devices that invent new ones do not fill the memory.
const mostStrings = 1 << 16

func (r *roster) intern(s string) string {
	if kept, ok := r.strings[s]; ok {
		return kept
	}
	s = strings.Clone(s)
	if len(r.strings) < mostStrings {
		r.strings[s] = s
	}
	return s
}

func (r *roster) entry(d *listed) *entry {
	e := &entry{id: d.ID, subject: *subject(&d.Device), titles: d.software}
	s := &e.subject
	for _, text := range []*string{&s.Organisation, &s.Site, &s.OS, &s.OSName, &s.OSVersion, &s.Arch, &s.Model, &s.Condition,
		&s.AgentVersion} {
		*text = r.intern(*text)
	}
	s.Vendor, s.Kernel, s.CPUModel, s.TimeZone = r.intern(d.vendor), r.intern(d.kernel), r.intern(d.processor), r.intern(d.zone)
	if len(d.readings) > 0 {
		own := slices.Clone(d.readings) // without the room that it grew by
		for i := range own {
			own[i].name = r.intern(own[i].name)
		}
		s.Readings = readings(own)
	}
	for i := range s.Capabilities {
		s.Capabilities[i] = r.intern(s.Capabilities[i])
	}
	e.place = health.Place{Device: s.ID, Site: r.intern(d.site.String()), Organisation: r.intern(d.organisation.String())}
	if len(e.titles) > 0 {
		s.Software = installed{&r.titles, e.titles}
	}
	return e
}

// join finds the groups that a device is in.
func (r *roster) join(e *entry, now time.Time) {
	e.place.Groups, e.names = nil, nil
	for _, g := range r.groups {
		if g.of != "" && g.of != e.place.Organisation {
			continue // whatever a device says of itself
		}
		in := g.members[e.id]
		if g.match != nil {
			in, _ = g.match.Match(&e.subject, now) // one that cannot be decided is not in
		}
		if in {
			e.place.Groups, e.names = append(e.place.Groups, g.id.String()), append(e.names, g.name)
		}
	}
}

// setGroups takes the groups as they are now, and returns the devices that moved.
func (r *roster) setGroups(groups []group, now time.Time) (moved []uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.groups = groups
	for id, old := range r.entries {
		e := *old
		r.join(&e, now)
		if !slices.Equal(e.place.Groups, old.place.Groups) || !slices.Equal(e.names, old.names) {
			moved = append(moved, id)
			r.entries[id] = &e
			r.replace(old, &e)
		}
	}
	return moved
}

// all lists the devices by name, as they are now.
func (r *roster) all() []*entry {
	r.mu.RLock()
	order := r.order
	r.mu.RUnlock()
	if order != nil {
		r.mu.RLock()
		defer r.mu.RUnlock()
		return slices.Clone(r.order)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.order == nil {
		r.order = make([]*entry, 0, len(r.entries))
		for _, e := range r.entries {
			r.order = append(r.order, e)
		}
		slices.SortFunc(r.order, byName)
	}
	return slices.Clone(r.order)
}

// groupsWith lists the groups that hold a device for which a function says yes.
func (r *roster) groupsWith(want func(*entry) bool) []uuid.UUID {
	found, known := []uuid.UUID{}, map[string]bool{}
	for _, e := range r.all() {
		if !want(e) {
			continue
		}
		for _, id := range e.place.Groups {
			if !known[id] {
				known[id] = true
				found = append(found, uuid.MustParse(id))
			}
		}
	}
	return found
}

// groupsOf names the groups that a device is in.
func (r *roster) groupsOf(id uuid.UUID) []string {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if e := r.entries[id]; e != nil {
		return e.names
	}
	return nil
}

// place is where a device stands among the scopes of policies.
func (r *roster) place(id uuid.UUID) (health.Place, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if e := r.entries[id]; e != nil {
		return e.place, true
	}
	return health.Place{}, false
}

// matching lists the devices of a list for which an expression holds; undecided is how many it
// cannot be decided for, and why for one of them.
func (r *roster) matching(expression string, all []*entry) (found []*entry, of, undecided int, why, err error) {
	match, err := selector.Compile(expression)
	if err != nil {
		return nil, 0, 0, nil, front.Problem(http.StatusBadRequest, "The expression cannot be read.", err.Error())
	}
	now := time.Now()
	for _, e := range all {
		ok, err := match.Match(&e.subject, now)
		if err != nil {
			undecided, why = undecided+1, err
		}
		if ok {
			found = append(found, e)
		}
	}
	return found, len(all), undecided, why, nil
}

// chosen lists the devices of a group, those for which an expression holds, or all, by name.
func (r *roster) chosen(where *string, within *uuid.UUID) ([]*entry, error) {
	found := r.all()
	if where != nil && *where != "" {
		some, of, undecided, why, err := r.matching(*where, found)
		if err != nil {
			return nil, err
		}
		if undecided > 0 && undecided == of {
			return nil, front.Problem(http.StatusBadRequest, "The expression cannot be decided for any device.", why.Error())
		}
		found = some
	}
	if within != nil {
		id := within.String()
		r.mu.RLock()
		known := slices.ContainsFunc(r.groups, func(g group) bool { return g.id == *within })
		r.mu.RUnlock()
		if !known {
			return nil, front.NotFound("group")
		}
		found = slices.DeleteFunc(found, func(e *entry) bool { return !slices.Contains(e.place.Groups, id) })
	}
	return found, nil
}

// titles are the names and versions of software, each kept once for all devices.
type titles struct {
	mu     sync.RWMutex
	all    map[int32]title // by its number in the database
	byName map[string][]int32
}

type title struct{ name, version string }

func (t *titles) add(id int32, name, version string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, known := t.all[id]; !known {
		t.all[id] = title{name, version}
		t.byName[name] = append(t.byName[name], id)
	}
}

// forget takes titles away that no device has any more.
func (t *titles) forget(ids []int32) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, id := range ids {
		name := t.all[id].name
		left := slices.DeleteFunc(t.byName[name], func(x int32) bool { return x == id })
		if delete(t.all, id); len(left) == 0 {
			delete(t.byName, name)
		} else {
			t.byName[name] = left
		}
	}
}

// unknown lists the numbers of software in rows that was not read yet.
func (t *titles) unknown(rows []listed) (ids []int32) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	asked := map[int32]bool{}
	for i := range rows {
		for _, id := range rows[i].software {
			if _, known := t.all[id]; !known && !asked[id] {
				asked[id] = true
				ids = append(ids, id)
			}
		}
	}
	return ids
}

// installed implements selector.Software.
type installed struct {
	titles *titles
	ids    []int32
}

// Version implements selector.Software.
func (i installed) Version(name string) (string, bool) {
	i.titles.mu.RLock()
	defer i.titles.mu.RUnlock()
	for _, id := range i.titles.byName[name] {
		if _, ok := slices.BinarySearch(i.ids, id); ok {
			return i.titles.all[id].version, true
		}
	}
	return "", false
}

// Names implements selector.Software.
func (i installed) Names() []string {
	i.titles.mu.RLock()
	defer i.titles.mu.RUnlock()
	names := make([]string, 0, len(i.ids))
	for _, id := range i.ids {
		if t, known := i.titles.all[id]; known {
			names = append(names, t.name)
		}
	}
	return names
}

// Place is where a device stands among the scopes of policies.
func (f *Service) Place(ctx context.Context, id uuid.UUID) (health.Place, error) {
	if p, ok := f.roster.place(id); ok {
		return p, nil
	}
	if _, err := f.enlist(ctx, []uuid.UUID{id}); err != nil {
		return health.Place{}, err
	}
	p, _ := f.roster.place(id)
	return p, nil
}

// enlist brings devices in the roster up to date, all when none are named, and returns their rows.
func (f *Service) enlist(ctx context.Context, ids []uuid.UUID) ([]listed, error) {
	rows, err := f.store.listed(ctx, ids)
	if err != nil {
		return nil, err
	}
	if unknown := f.roster.titles.unknown(rows); len(unknown) > 0 {
		if err := f.store.titles(ctx, unknown, f.roster.titles.add); err != nil {
			return nil, err
		}
	}
	if moved := f.roster.put(ids, rows, time.Now()); len(moved) > 0 {
		f.reviewer.Review(moved...)
	}
	return rows, nil
}

// Chosen returns the devices of a group, those for which an expression holds, or all, by name; of
// them those at which the caller holds a permission.
func (f *Service) Chosen(ctx context.Context, caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]api.Device,
	error) {
	found, err := f.roster.chosen(where, group)
	if err != nil {
		return nil, err
	}
	return f.rows(ctx, slices.DeleteFunc(found, func(e *entry) bool { return !sees(caller, e) || !caller.Rights.May(p, &e.place) }))
}

// Targets is Chosen by what is in memory alone: devices as expressions see them, a quarter of a second old
// at most.
func (f *Service) Targets(caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) (out []Target, err error) {
	found, err := f.roster.chosen(where, group)
	for _, e := range found {
		if sees(caller, e) && caller.Rights.May(p, &e.place) {
			out = append(out, Target{e.id, &e.subject, &e.place})
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
	f.roster.mu.RLock()
	defer f.roster.mu.RUnlock()
	e := f.roster.entries[id]
	if e == nil {
		return m, false
	}
	return Target{e.id, &e.subject, &e.place}, true
}

// Software tells which software a device has; nil where that is not known.
func (f *Service) Software(id uuid.UUID) health.Software {
	if m, ok := f.Known(id); ok && m.Subject.Software != nil && len(m.Subject.Software.Names()) > 0 {
		return m.Subject.Software
	}
	return nil
}

// rows reads the rows of devices, in their order.
func (f *Service) rows(ctx context.Context, found []*entry) ([]api.Device, error) {
	ids, order := make([]uuid.UUID, len(found)), make(map[uuid.UUID]int, len(found))
	for i, e := range found {
		ids[i], order[e.id] = e.id, i
	}
	rows, err := f.store.devicesByID(ctx, ids)
	slices.SortFunc(rows, func(a, b api.Device) int { return order[a.ID] - order[b.ID] })
	f.decorate(rows)
	return rows, err
}

// decorate adds what the database's rows do not tell: the groups.
func (f *Service) decorate(rows []api.Device) {
	for i := range rows {
		if names := f.roster.groupsOf(rows[i].ID); len(names) > 0 {
			rows[i].Groups = &names
		}
	}
}

// Scopes returns the devices that a scope covers, by name.
func (f *Service) Scopes(ctx context.Context, s health.Scope) ([]api.Device, error) {
	found := slices.DeleteFunc(f.roster.all(), func(e *entry) bool { return !s.Covers(&e.place) })
	return f.rows(ctx, found)
}

// Forget is told of software that no device has any more.
func (f *Service) Forget(software []int32) { f.roster.titles.forget(software) }
