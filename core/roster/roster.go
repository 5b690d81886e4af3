// Package roster is every device as expressions see it, kept in memory, so that an expression over ten thousand
// devices is answered while a person types. It is told what a database has, and has neither clock nor database itself.
package roster

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/health"
	"moorwatch.example/core/selector"
)

// Roster keeps devices and groups. It may be used by several goroutines at once.
type Roster struct {
	mu      sync.RWMutex
	entries map[uuid.UUID]*Entry
	order   []*Entry // by name, then id; nil when it must be made anew
	groups  []Group
	titles  titles
	strings map[string]string // equal texts are kept once
}

// New makes a roster of no devices.
func New() *Roster {
	return &Roster{entries: map[uuid.UUID]*Entry{}, strings: map[string]string{},
		titles: titles{all: map[int32]title{}, byName: map[string][]int32{}}}
}

// Entry is one device of the roster. It is replaced, never changed.
type Entry struct {
	ID      uuid.UUID
	Subject selector.Subject
	Place   health.Place

	software []int32 // numbers of titles, rising
}

// Group is a group of devices.
type Group struct {
	ID   uuid.UUID
	Name string
	// Organisation is whose devices it holds, whatever a device says of itself; "" for all.
	Organisation string
	// Match tells which devices are in it; nil for a group of Members.
	Match   *selector.Selector
	Members map[uuid.UUID]bool
}

// Row is a device as the database has it.
type Row struct {
	Subject            selector.Subject // without readings and software
	ID                 uuid.UUID
	Site, Organisation uuid.UUID
	Readings           []Reading
	Software           []int32 // numbers of titles, rising
}

// Reading is the latest value of a reading, by its full name.
type Reading struct {
	Name  string
	Value float64
}

// readings implements selector.Readings.
type readings []Reading

// Value implements selector.Readings.
func (r readings) Value(name string) (float64, bool) {
	for i := range r {
		if r[i].Name == name {
			return r[i].Value, true
		}
	}
	return 0, false
}

// Names implements selector.Readings.
func (r readings) Names() (names []string) {
	for i := range r {
		names = append(names, r[i].Name)
	}
	return names
}

// Put brings devices up to date, and forgets those of ids that are not among the rows any more. It
// returns the devices whose groups changed.
func (r *Roster) Put(ids []uuid.UUID, rows []Row, now time.Time) (moved []uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	gone := map[uuid.UUID]bool{}
	for _, id := range ids {
		gone[id] = true
	}
	for i := range rows {
		id := rows[i].ID
		delete(gone, id)
		e := r.entry(&rows[i])
		r.join(e, now)
		old := r.entries[id]
		if old == nil || old.Subject.Name != e.Subject.Name {
			r.order = nil
		}
		if old != nil && !slices.Equal(old.Place.Groups, e.Place.Groups) {
			moved = append(moved, id)
		}
		r.entries[id] = e
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
func (r *Roster) replace(old, e *Entry) {
	if r.order == nil || old == nil {
		return
	}
	if i, ok := slices.BinarySearchFunc(r.order, old, byName); ok {
		r.order[i] = e
	}
}

func byName(a, b *Entry) int {
	return cmp.Or(cmp.Compare(a.Subject.Name, b.Subject.Name), slices.Compare(a.ID[:], b.ID[:]))
}

// After are the devices of a list by name that come after a name and an id.
func After(all []*Entry, name string, id uuid.UUID) []*Entry {
	i, same := slices.BinarySearchFunc(all, &Entry{ID: id, Subject: selector.Subject{Name: name}}, byName)
	if same {
		i++
	}
	return all[i:]
}

// mostStrings is how many texts are kept once: devices that invent new ones do not fill the memory.
const mostStrings = 1 << 16

func (r *Roster) intern(s string) string {
	if kept, ok := r.strings[s]; ok {
		return kept
	}
	s = strings.Clone(s)
	if len(r.strings) < mostStrings {
		r.strings[s] = s
	}
	return s
}

func (r *Roster) entry(d *Row) *Entry {
	e := &Entry{ID: d.ID, Subject: d.Subject, software: d.Software}
	s := &e.Subject
	for _, text := range []*string{&s.Organisation, &s.Site, &s.OS, &s.OSName, &s.OSVersion, &s.Arch, &s.Model, &s.Condition,
		&s.AgentVersion, &s.Vendor, &s.Kernel, &s.CPUModel, &s.TimeZone} {
		*text = r.intern(*text)
	}
	if len(d.Readings) > 0 {
		own := slices.Clone(d.Readings) // without the room that it grew by
		for i := range own {
			own[i].Name = r.intern(own[i].Name)
		}
		s.Readings = readings(own)
	}
	s.Capabilities = slices.Clone(s.Capabilities)
	for i := range s.Capabilities {
		s.Capabilities[i] = r.intern(s.Capabilities[i])
	}
	e.Place = health.Place{Device: s.ID, Site: r.intern(d.Site.String()), Organisation: r.intern(d.Organisation.String())}
	if len(e.software) > 0 {
		s.Software = installed{&r.titles, e.software}
	}
	return e
}

// join finds the groups that a device is in.
func (r *Roster) join(e *Entry, now time.Time) {
	e.Place.Groups, e.Subject.Groups = nil, nil
	for _, g := range r.groups {
		if g.Organisation != "" && g.Organisation != e.Place.Organisation {
			continue
		}
		in := g.Members[e.ID]
		if g.Match != nil {
			in, _ = g.Match.Match(&e.Subject, now) // one that cannot be decided is not in
		}
		if in {
			e.Place.Groups = append(e.Place.Groups, g.ID.String())
			e.Subject.Groups = append(e.Subject.Groups, g.Name)
		}
	}
}

// SetGroups takes the groups as they are now, and returns the devices that are in others than before, or in ones of
// other names.
func (r *Roster) SetGroups(groups []Group, now time.Time) (moved []uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.groups = groups
	for id, old := range r.entries {
		e := *old
		r.join(&e, now)
		if !slices.Equal(e.Place.Groups, old.Place.Groups) || !slices.Equal(e.Subject.Groups, old.Subject.Groups) {
			moved = append(moved, id)
			r.entries[id] = &e
			r.replace(old, &e)
		}
	}
	return moved
}

// HasGroup tells whether there is a group.
func (r *Roster) HasGroup(id uuid.UUID) bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.ContainsFunc(r.groups, func(g Group) bool { return g.ID == id })
}

// All lists the devices by name, as they are now. The list is the caller's.
func (r *Roster) All() []*Entry {
	r.mu.RLock()
	order := slices.Clone(r.order)
	r.mu.RUnlock()
	if order != nil {
		return order
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.order == nil {
		r.order = make([]*Entry, 0, len(r.entries))
		for _, e := range r.entries {
			r.order = append(r.order, e)
		}
		slices.SortFunc(r.order, byName)
	}
	return slices.Clone(r.order)
}

// Find finds a device; nil where there is none.
func (r *Roster) Find(id uuid.UUID) *Entry {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.entries[id]
}

// GroupsWith lists the groups that hold a device for which a function says yes.
func (r *Roster) GroupsWith(want func(*Entry) bool) []uuid.UUID {
	found, known := []uuid.UUID{}, map[string]bool{}
	for _, e := range r.All() {
		if !want(e) {
			continue
		}
		for _, id := range e.Place.Groups {
			if !known[id] {
				known[id] = true
				found = append(found, uuid.MustParse(id))
			}
		}
	}
	return found
}

// Matching are the devices for which an expression holds. Undecided is how many it cannot be decided for, and Why the
// reason for one of them.
type Matching struct {
	Found     []*Entry
	Of        int // how many were asked
	Undecided int
	Why       error
}

// Match lists the devices of a list for which an expression holds, in their order.
func Match(match *selector.Selector, all []*Entry, now time.Time) (out Matching) {
	out.Of = len(all)
	for _, e := range all {
		ok, err := match.Match(&e.Subject, now)
		if err != nil {
			out.Undecided, out.Why = out.Undecided+1, err
		}
		if ok {
			out.Found = append(out.Found, e)
		}
	}
	return out
}

// Learn takes names and versions of software by their numbers.
func (r *Roster) Learn(number int32, name, version string) { r.titles.add(number, name, version) }

// Forget takes away software that no device has any more.
func (r *Roster) Forget(numbers []int32) { r.titles.forget(numbers) }

// Unknown lists the numbers of software in rows that is to be learned first.
func (r *Roster) Unknown(rows []Row) []int32 { return r.titles.unknown(rows) }
