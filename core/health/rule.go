package health

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"moorwatch.example/core/calendar"
)

// Rule says who is told of which alerts, and when.
type Rule struct {
	Name   string           `json:"name"`
	Scope  Scope            `json:"scope"`
	Least  Level            `json:"least"`            // the lowest level that is told
	Checks []string         `json:"checks,omitempty"` // only these; all when empty
	Ends   bool             `json:"ends"`             // the end of an alert is told too
	Hours  []calendar.Hours `json:"hours,omitempty"`  // only then; always when empty
	Zone   string           `json:"zone,omitempty"`   // of the hours, UTC when empty
	// Channel is who is told, by its id.
	Channel string `json:"channel"`
	// EscalateMinutes, when not 0, is how long an alert may stay unacknowledged before EscalateTo
	// is told as well.
	EscalateMinutes int    `json:"escalate_minutes,omitempty"`
	EscalateTo      string `json:"escalate_to,omitempty"`
	// DigestMinutes, when not 0, gathers what is told for so long into one message.
	DigestMinutes int `json:"digest_minutes,omitempty"`
}

// Bounds of a rule's times, in minutes.
const (
	maxEscalate = 7 * 24 * 60
	maxDigest   = 24 * 60
)

// Validate refuses a rule that tells nobody or cannot be read.
func (r Rule) Validate() error {
	if !r.Scope.Kind.Known() {
		return fmt.Errorf("the scope %q is none of everywhere, organisation, site, group and device", r.Scope.Kind)
	}
	if r.Least.Rank() < 0 {
		return fmt.Errorf("the level %q is none of notice, warning and critical", r.Least)
	}
	if r.Channel == "" {
		return errors.New("name the channel that is told")
	}
	for _, c := range r.Checks {
		if kindByName[c] == nil {
			return fmt.Errorf("there is no check %q", c)
		}
	}
	if r.Zone != "" {
		if _, err := time.LoadLocation(r.Zone); err != nil {
			return fmt.Errorf("there is no time zone %q: write it as Europe/London", r.Zone)
		}
	}
	for _, h := range r.Hours {
		if err := h.Validate(); err != nil {
			return err
		}
	}
	if r.EscalateMinutes < 0 || r.EscalateMinutes > maxEscalate || r.DigestMinutes < 0 || r.DigestMinutes > maxDigest {
		return errors.New("an alert escalates within 7 days, and a digest is sent at least once a day")
	}
	if r.EscalateMinutes > 0 && r.EscalateTo == "" {
		return errors.New("name the channel to escalate to")
	}
	return nil
}

// told are the events that rules tell of; the rest stay on the alert's own page.
var told = []EventKind{Opened, Reopened, Raised, Unmuted, Ended}

// Tells is whether the rule tells of what happened to an alert at a place, at now. What is muted by a
// maintenance window, or flaps, is told to nobody.
func (r Rule) Tells(a *Alert, e EventKind, p *Place, muted bool, now time.Time) bool {
	if muted || a.Flapping() || !slices.Contains(told, e) || (e == Ended && !r.Ends) {
		return false
	}
	return r.Covers(a, p) && r.onCall(now)
}

// Covers tells whether an alert is among those that the rule tells of, whatever the hour.
func (r Rule) Covers(a *Alert, p *Place) bool {
	return a.Level.Rank() >= r.Least.Rank() && (len(r.Checks) == 0 || slices.Contains(r.Checks, a.Check)) && r.Scope.Covers(p)
}

// Escalates tells whether an open alert has gone unacknowledged too long.
func (r Rule) Escalates(a *Alert, p *Place, muted bool, now time.Time) bool {
	return r.EscalateMinutes > 0 && a.State == Open && !muted && !a.Flapping() && r.Covers(a, p) &&
		now.Sub(a.OpenedAt) >= time.Duration(r.EscalateMinutes)*time.Minute
}

func (r Rule) onCall(now time.Time) bool {
	if len(r.Hours) == 0 {
		return true
	}
	zone := time.UTC
	if z, err := time.LoadLocation(r.Zone); err == nil {
		zone = z
	}
	return slices.ContainsFunc(r.Hours, func(h calendar.Hours) bool { return h.Contain(now.In(zone)) })
}
