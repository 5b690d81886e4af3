package health

import (
	"fmt"
	"time"
)

// AlertState is where an alert stands in its life.
type AlertState string

// The states of an alert. Acknowledged means that a person has taken notice; snoozed, that it is
// put off until a time; resolved, that it is over.
const (
	Open         AlertState = "open"
	Acknowledged AlertState = "acknowledged"
	Snoozed      AlertState = "snoozed"
	Over         AlertState = "resolved"
)

// EventKind is something that happens to an alert.
type EventKind string

// What happens to alerts: by findings, by people, and by the passing of time.
const (
	Opened     EventKind = "opened"
	Reopened   EventKind = "reopened"
	Raised     EventKind = "raised"
	Lowered    EventKind = "lowered"
	Ended      EventKind = "resolved"
	Escalated  EventKind = "escalated"
	Ack        EventKind = "acknowledged"
	Snooze     EventKind = "snoozed"
	Woke       EventKind = "woke"
	Assigned   EventKind = "assigned"
	Noted      EventKind = "noted"
	Unmuted    EventKind = "unmuted"    // a maintenance window or a response ended, and it goes on
	Responding EventKind = "responding" // what a policy does by itself
)

// Alert is what a finding is to people: it has a life of its own, and ends once.
type Alert struct {
	Check, Subject string
	Level          Level
	Message        string
	State          AlertState
	Since          time.Time // when the state began that it is about
	OpenedAt       time.Time
	ResolvedAt     time.Time // zero until then
	ByPerson       bool      // a person resolved it, though its finding may go on
	SnoozedUntil   time.Time
	Flaps          int       // how often it came back within ReopenWithin
	QuietSince     time.Time // of a flapping alert: when its finding was last seen to end
}

// How flapping is damped.
const (
	// ReopenWithin is how soon after its end a finding that comes back is the same alert.
	ReopenWithin = 15 * time.Minute
	// FlapsAfter is how many returns make an alert flapping. Then it stays open, and tells nobody,
	// until its finding was away for QuietFor.
	FlapsAfter = 3
	QuietFor   = 30 * time.Minute
)

// Flapping tells whether the alert comes and goes too often to be told each time.
func (a *Alert) Flapping() bool { return a.Flaps >= FlapsAfter }

// Follow brings an alert up to date with its finding at now: a is nil where there is none yet, or
// none lately; f is nil where the finding is gone or pending. It returns the alert as it is then,
// nil for none, and what happened to it, if anything.
func Follow(a *Alert, f *Finding, now time.Time) (*Alert, []EventKind) {
	if a == nil {
		if f == nil {
			return nil, nil
		}
		return &Alert{Check: f.Check, Subject: f.Subject, Level: f.Level, Message: f.Message, State: Open, Since: f.Since, OpenedAt: now},
			[]EventKind{Opened}
	}
	next := *a
	var events []EventKind
	if next.State == Snoozed && !now.Before(next.SnoozedUntil) {
		next.State, next.SnoozedUntil = Open, time.Time{}
		events = append(events, Woke)
	}
	if f == nil {
		switch {
		case next.State == Over:
		case !next.Flapping():
			next.end(now)
			events = append(events, Ended)
		case next.QuietSince.IsZero():
			next.QuietSince = now
		case now.Sub(next.QuietSince) >= QuietFor:
			next.end(now)
			events = append(events, Ended)
		}
		return &next, events
	}
	if next.State == Over {
		switch {
		case next.ByPerson && !f.Since.After(next.ResolvedAt):
			return &next, nil // a person closed it, and nothing new has happened since
		case now.Sub(next.ResolvedAt) > ReopenWithin:
			return Follow(nil, f, now)
		}
		next.Flaps++
		next.State, next.ResolvedAt, next.ByPerson = Open, time.Time{}, false
		next.Level, next.Message = f.Level, f.Message
		return &next, append(events, Reopened)
	}
	if !next.QuietSince.IsZero() {
		next.Flaps, next.QuietSince = next.Flaps+1, time.Time{}
	}
	switch {
	case f.Level.Rank() > next.Level.Rank():
		next.State, next.SnoozedUntil = Open, time.Time{} // what a person took notice of was less
		events = append(events, Raised)
	case f.Level.Rank() < next.Level.Rank():
		events = append(events, Lowered)
	}
	next.Level, next.Message = f.Level, f.Message
	return &next, events
}

func (a *Alert) end(now time.Time) {
	a.State, a.ResolvedAt, a.QuietSince, a.SnoozedUntil = Over, now, time.Time{}, time.Time{}
}

// Due is when the passing of time alone changes the alert; zero for never.
func (a *Alert) Due() time.Time {
	switch {
	case a.State == Snoozed:
		return a.SnoozedUntil
	case a.State != Over && !a.QuietSince.IsZero():
		return a.QuietSince.Add(QuietFor)
	}
	return time.Time{}
}

// Presence is whether a device of a site is heard from, and since when.
type Presence struct {
	Online bool
	Since  time.Time
}

// How a site's silence is told from that of its devices.
const (
	siteWithin  = time.Minute // the devices went within this
	siteLeast   = 3           // devices
	siteMissing = 0.8         // share of those that were there until then
)

// SiteSilent tells whether a whole site went silent at once: at least three devices within a
// minute, and they are at least four fifths of those that were there until then. since is when the
// first of them went.
func SiteSilent(devices []Presence) (since time.Time, ok bool) {
	var latest time.Time
	for _, d := range devices {
		if !d.Online && d.Since.After(latest) {
			latest = d.Since
		}
	}
	gone, there := 0, 0
	for _, d := range devices {
		switch {
		case d.Online:
			there++
		case latest.Sub(d.Since) <= siteWithin:
			gone++
			if since.IsZero() || d.Since.Before(since) {
				since = d.Since
			}
		}
	}
	return since, gone >= siteLeast && float64(gone) >= siteMissing*float64(gone+there)
}

// SiteBack tells whether a site that went silent is heard from again: half of its devices are.
func SiteBack(devices []Presence) bool {
	there := 0
	for _, d := range devices {
		if d.Online {
			there++
		}
	}
	return 2*there >= len(devices)
}

// SiteMessage says that a site is silent.
func SiteMessage(devices []Presence) string {
	gone := 0
	for _, d := range devices {
		if !d.Online {
			gone++
		}
	}
	if gone == len(devices) {
		return fmt.Sprintf("The whole site is silent: all %d devices, at once. Its router or line is the likely cause.", gone)
	}
	return fmt.Sprintf("The site is silent: %d of %d devices, at once. Its router or line is the likely cause.", gone, len(devices))
}
