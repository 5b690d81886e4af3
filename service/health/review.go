package health

import (
	"cmp"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/health"
)

// review is one judgement of several devices: what is worked out in memory between the reading of
// their state and the writing of what follows from it.
type review struct {
	now    time.Time
	places map[uuid.UUID]*health.Place
	rules  *Rules
	// software tells what a device has installed.
	software func(uuid.UUID) health.Software
	events   []happened
	changed  []uuid.UUID // alerts
	told     bool
	acted    bool        // a response has a step to do
	moved    []uuid.UUID // devices whose responses came further
}

// judged is a device with what it was judged by, and how.
type judged struct {
	device    uuid.UUID
	name      string
	site      uuid.UUID
	zone      string
	state     health.State
	before    []health.Finding
	condition health.Condition
	findings  []health.Finding
	alerts    []*alert
	responses []*responding // the latest first
}

// alert is an alert with what only this column knows of it.
type alert struct {
	health.Alert
	id      uuid.UUID
	device  uuid.UUID // nil for a site's
	site    uuid.UUID
	name    string // of the device or site
	parent  uuid.UUID
	muted   time.Time // until when
	place   *health.Place
	isNew   bool
	touched bool
}

// happened is an event of an alert.
type happened struct {
	alert  *alert
	kind   health.EventKind
	detail string // the alert's message where it is empty
}

// judge fills in a device's condition and findings, and brings its alerts up to date.
func (r *review) judge(j *judged) {
	place := r.places[j.device]
	j.state.NewestAgent = r.rules.newestAgent()
	set := r.rules.set(place).set
	if set.Judges(health.CheckSoftware) {
		j.state.Software = r.software(j.device)
	}
	j.condition, j.findings = health.Judge(&j.state, set, j.before, r.now)
	muted := r.rules.WindowUntil(place, j.zone, r.now)
	var done []string
	for i := range j.findings {
		f := &j.findings[i]
		done = append(done, key(f.Check, f.Subject))
		if !f.Pending {
			// While a policy puts it right nobody is told.
			quiet := muted
			if until := r.respond(j, set, f); until.After(quiet) {
				quiet = until
			}
			r.follow(j, j.alert(f.Check, f.Subject), f, place, quiet)
		} else if a := j.alert(f.Check, f.Subject); a != nil {
			r.follow(j, a, nil, place, muted)
		}
	}
	r.recover(j)
	for _, a := range slices.Clone(j.alerts) {
		if !slices.Contains(done, key(a.Check, a.Subject)) {
			r.follow(j, a, nil, place, muted)
		}
	}
}

func key(check, subject string) string { return check + "\n" + subject }

// alert finds the latest alert of a check and subject.
func (j *judged) alert(check, subject string) *alert {
	for _, a := range j.alerts { // the latest first
		if a.Check == check && a.Subject == subject {
			return a
		}
	}
	return nil
}

func (r *review) follow(j *judged, a *alert, f *health.Finding, place *health.Place, muted time.Time) {
	var before *health.Alert
	if a != nil {
		before = &a.Alert
	}
	next, events := health.Follow(before, f, r.now)
	if next == nil {
		return
	}
	if a == nil || (len(events) > 0 && events[0] == health.Opened) {
		a = &alert{id: uuid.New(), device: j.device, site: j.site, name: j.name, isNew: true}
		j.alerts = append([]*alert{a}, j.alerts...)
	}
	a.touched = a.touched || a.isNew || before == nil || *next != *before
	a.Alert, a.place = *next, place
	for _, e := range events {
		r.note(a, e)
	}
	// What a window muted, and still goes on after it, is told then.
	if wasMuted := !a.muted.IsZero(); a.State != health.Over && wasMuted != !muted.IsZero() {
		a.muted, a.touched = muted, true
		if wasMuted {
			r.note(a, health.Unmuted)
		}
	} else if !a.muted.Equal(muted) && a.State != health.Over {
		a.muted, a.touched = muted, true
	}
}

func (r *review) note(a *alert, e health.EventKind) {
	a.touched = true
	r.events = append(r.events, happened{alert: a, kind: e})
	if !slices.Contains(r.changed, a.id) {
		r.changed = append(r.changed, a.id)
	}
}

// tells lists what rules say is to be told of the events, and to which channel.
func (r *review) tells() (all []telling) {
	for _, e := range r.events {
		if e.alert.parent != uuid.Nil {
			continue // the alert of its site speaks for it
		}
		for _, x := range r.rules.all() {
			if x.Tells(&e.alert.Alert, e.kind, e.alert.place, !e.alert.muted.IsZero(), r.now) {
				all = append(all, telling{x, x.channel, e})
			}
		}
	}
	return all
}

// telling is an event that a rule tells a channel.
type telling struct {
	rule    rule
	channel uuid.UUID
	happened
}

// sites works out which sites are silent as a whole: presences are those of the sites in which
// a device's silence began or ended, current their open alerts, silent the current alerts of their
// devices' silence, those of this review among them.
func (r *review) sites(sites map[uuid.UUID]*site) {
	for _, s := range sites {
		since, silent := health.SiteSilent(s.presences)
		switch a := s.alert; {
		case a == nil && silent:
			a = &alert{id: uuid.New(), site: s.id, name: s.name, isNew: true, place: s.place()}
			a.Alert = health.Alert{Check: health.CheckSilent, Level: health.Critical, State: health.Open, Since: since, OpenedAt: r.now,
				Message: health.SiteMessage(s.presences)}
			a.muted = r.rules.WindowUntil(a.place, "", r.now)
			s.alert = a
			r.note(a, health.Opened)
			r.adopt(s)
		case a == nil:
		case health.SiteBack(s.presences):
			a.place = s.place()
			a.State, a.ResolvedAt = health.Over, r.now
			r.note(a, health.Ended)
			for _, part := range s.silent {
				if part.parent == a.id && part.State != health.Over {
					part.parent, part.place = uuid.Nil, s.place() // those that stay away speak for themselves again
					r.note(part, health.Opened)
				}
			}
		default:
			a.place = s.place()
			if text := health.SiteMessage(s.presences); text != a.Message {
				a.Message, a.touched = text, true
			}
			r.adopt(s)
		}
	}
}

// adopt makes the alerts of a site's silent devices parts of the site's own.
func (r *review) adopt(s *site) {
	for _, part := range s.silent {
		if part.State != health.Over && part.parent != s.alert.id && !part.Since.Before(s.alert.Since.Add(-time.Minute)) {
			part.parent, part.touched = s.alert.id, true
		}
	}
}

// site is a site in which devices fell silent or came back.
type site struct {
	id, organisation uuid.UUID
	name             string
	presences        []health.Presence
	alert            *alert
	silent           []*alert
}

func (s *site) place() *health.Place {
	return &health.Place{Site: s.id.String(), Organisation: s.organisation.String()}
}

// stirred lists the sites in which a device's silence began or ended in this review.
func (r *review) stirred() (sites []uuid.UUID) {
	for _, e := range r.events {
		if e.alert.Check == health.CheckSilent && e.alert.device != uuid.Nil && !slices.Contains(sites, e.alert.site) {
			sites = append(sites, e.alert.site)
		}
	}
	return sites
}

// differ tells whether findings are not what they were.
func differ(a, b []health.Finding) bool {
	order := func(x, y health.Finding) int {
		return cmp.Or(cmp.Compare(x.Check, y.Check), cmp.Compare(x.Subject, y.Subject))
	}
	a, b = slices.SortedFunc(slices.Values(a), order), slices.SortedFunc(slices.Values(b), order)
	return !slices.EqualFunc(a, b, func(x, y health.Finding) bool {
		return x.Check == y.Check && x.Subject == y.Subject && x.Level == y.Level && x.Message == y.Message && x.Pending == y.Pending &&
			x.Rising == y.Rising && x.Since.Equal(y.Since) && x.RisingSince.Equal(y.RisingSince) && x.Due.Equal(y.Due)
	})
}
