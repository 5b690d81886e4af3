package job

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"moorwatch.example/core/calendar"
	"moorwatch.example/core/selector"
)

// When is when a job's runs may begin. The zero value is once, at once.
type When struct {
	// Start and Rule make it recur: a local time as calendar.LocalTime, and an RRULE (RFC 5545), in Zone
	// or, where that is empty, in each device's own time.
	Start string `json:"start,omitempty"`
	Rule  string `json:"rule,omitempty"`
	Zone  string `json:"zone,omitempty"`
	// Event has a device run it each time that something happens to it.
	Event string `json:"event,omitempty"`
	Check string `json:"check,omitempty"` // of the event check: which; any where it is empty
	// Follow has every device run it once that comes to be meant later.
	Follow bool `json:"follow,omitempty"`
	// Windows has runs begin in the device's maintenance windows alone.
	Windows bool `json:"windows,omitempty"`
	// Needs is an expression of core/selector that must hold of the device before a run begins.
	Needs string `json:"needs,omitempty"`
	// Until is when a job that recurs, follows or waits for events ends by itself; zero for never.
	Until time.Time `json:"until,omitzero"`
}

// The events that a job may wait for.
const (
	Enrolled = "enrolled" // a device was enrolled
	Online   = "online"   // a device connected
	SignedIn = "signed-in"
	Checked  = "check" // a check began to fail
)

// Events lists them.
var Events = []string{Enrolled, Online, SignedIn, Checked}

// Standing tells whether a job is not over when its runs are.
func (w When) Standing() bool { return w.Rule != "" || w.Event != "" || w.Follow }

// MostAhead is how far ahead a job may be told to begin.
const MostAhead = 366 * 24 * time.Hour

// CheckBegin refuses a begin that lies too far ahead: nobody would remember it, or answer for it.
func CheckBegin(at, now time.Time) error {
	if at.Sub(now) > MostAhead {
		return errors.New("a job begins within a year")
	}
	return nil
}

// window is the recurrence as the calendar reads it.
func (w When) window() calendar.Window {
	return calendar.Window{Start: w.Start, Rule: w.Rule, Minutes: 1, Zone: w.Zone}
}

// Validate refuses what cannot be kept to, and says how to write it.
func (w When) Validate(now time.Time) error {
	kinds := 0
	for _, set := range []bool{w.Rule != "", w.Event != "", w.Follow} {
		if set {
			kinds++
		}
	}
	switch {
	case kinds > 1:
		return errors.New("a job recurs, or waits for an event, or follows devices: choose one")
	case w.Rule == "" && (w.Start != "" || w.Zone != ""):
		return errors.New("a start in local time belongs to a rule: for once give the time at which it begins")
	case w.Event != "" && !slices.Contains(Events, w.Event):
		return fmt.Errorf("an event is enrolled, online, signed-in or check, and not %q", w.Event)
	case w.Check != "" && w.Event != Checked:
		return errors.New("only the event check names a check")
	case !w.Until.IsZero() && !w.Standing():
		return errors.New("only a job that recurs, follows or waits for events has an end: say how long devices are awaited")
	case !w.Until.IsZero() && !w.Until.After(now):
		return errors.New("its end lies in the past")
	}
	if w.Rule != "" {
		if err := w.window().Validate(); err != nil {
			return err
		}
	}
	if w.Needs != "" {
		if _, err := selector.Compile(w.Needs); err != nil {
			return err
		}
	}
	return nil
}

// Last is the latest moment at or before now at which it recurred in a zone, after began; zero where
// there was none yet.
func (w When) Last(began, now time.Time, zone *time.Location) time.Time {
	until, _ := w.window().Contains(now, zone)
	if until.IsZero() {
		return time.Time{}
	}
	at := until.Add(-time.Minute)
	if at.Before(began) || at.After(now) {
		return time.Time{}
	}
	return at
}

// Next is the first moment after now at which it recurs in a zone; zero where there is none.
func (w When) Next(now time.Time, zone *time.Location) time.Time {
	if w.Rule == "" {
		return time.Time{}
	}
	return w.window().Next(now, zone)
}

// catchUp is for how long a run of a job that recurs may begin late though devices are not awaited.
const catchUp = 10 * time.Minute

// Awaited is until when a run may begin that was due at a time.
func (l Limits) Awaited(due time.Time, standing bool) time.Time {
	wait := time.Duration(l.WaitHours)*time.Hour + time.Duration(l.Spread)*time.Second
	if standing {
		wait = max(wait, catchUp)
	}
	return due.Add(wait)
}
