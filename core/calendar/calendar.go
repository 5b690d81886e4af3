// Package calendar tells when: maintenance windows that recur by RRULE (RFC 5545) in a device's own
// time zone, and the hours in which people are on call. It asks no clock.
package calendar

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// MaxMinutes is the longest that a window may last: a week.
const MaxMinutes = 7 * 24 * 60

// LocalTime is how a window's first start is written: a local time without a zone (RFC 5545 form 1,
// in the way of RFC 3339).
const LocalTime = "2006-01-02T15:04"

// Window is a span of time that recurs.
type Window struct {
	Start   string `json:"start"`          // the first, as LocalTime
	Rule    string `json:"rule,omitempty"` // RRULE, such as FREQ=WEEKLY;BYDAY=TU; empty for a window that is once
	Minutes int    `json:"minutes"`
	Zone    string `json:"zone,omitempty"` // IANA name; the device's own when empty
}

// Validate refuses a window that cannot be read, and says how to write it.
func (w Window) Validate() error {
	if _, err := time.Parse(LocalTime, w.Start); err != nil {
		return fmt.Errorf("the start %q cannot be read: write it as 2026-11-24T22:00", w.Start)
	}
	if w.Minutes < 1 || w.Minutes > MaxMinutes {
		return fmt.Errorf("a window lasts 1 to %d minutes", MaxMinutes)
	}
	if w.Zone != "" {
		if _, err := time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
			return fmt.Errorf("there is no time zone %q: write it as Europe/London", w.Zone)
		}
	}
	if w.Rule == "" {
		return nil
	}
	if strings.ContainsAny(w.Rule, "\r\n") || len(w.Rule) > 500 {
		return errors.New("the rule must be one line of at most 500 characters")
	}
	option, err := rrule.StrToROption(w.Rule)
	if err == nil {
		_, err = rrule.NewRRule(*option)
	}
	if err != nil {
		return fmt.Errorf("the rule %q cannot be read (%v): write it as FREQ=WEEKLY;BYDAY=TU,TH", w.Rule, err)
	}
	if option.Freq > rrule.DAILY {
		return errors.New("a window recurs by the day at most: FREQ is DAILY, WEEKLY, MONTHLY or YEARLY")
	}
	return nil
}

// Contains tells whether at lies within the window where the device keeps its time in zone, and when
// that occurrence ends.
func (w Window) Contains(at time.Time, zone *time.Location) (until time.Time, ok bool) {
	if w.Zone != "" {
		if own, err := time.LoadLocation(w.Zone); err == nil {
			zone = own
		}
	}
	start, err := time.ParseInLocation(LocalTime, w.Start, zone)
	if err != nil {
		return until, false
	}
	lasts := time.Duration(w.Minutes) * time.Minute
	if w.Rule != "" {
		option, err := rrule.StrToROption(w.Rule)
		if err != nil {
			return until, false
		}
		option.Dtstart = start
		rule, err := rrule.NewRRule(*option)
		if err != nil {
			return until, false
		}
		if start = rule.Before(at, true); start.IsZero() {
			return until, false
		}
	}
	until = start.Add(lasts)
	return until, !at.Before(start) && at.Before(until)
}

// Next is the first start of the window after at, zero when there is none.
func (w Window) Next(at time.Time, zone *time.Location) time.Time {
	if w.Zone != "" {
		if own, err := time.LoadLocation(w.Zone); err == nil {
			zone = own
		}
	}
	start, err := time.ParseInLocation(LocalTime, w.Start, zone)
	if err != nil || w.Rule == "" {
		if start.After(at) {
			return start
		}
		return time.Time{}
	}
	option, err := rrule.StrToROption(w.Rule)
	if err != nil {
		return time.Time{}
	}
	option.Dtstart = start
	rule, err := rrule.NewRRule(*option)
	if err != nil {
		return time.Time{}
	}
	return rule.After(at, false)
}

// Zone finds a device's time zone by the name that it reports, which is an IANA name or ends in
// its offset, as "GMT +00:00" does. What cannot be read is UTC.
func Zone(name string) *time.Location {
	if name != "" && name != "Local" {
		if zone, err := time.LoadLocation(name); err == nil {
			return zone
		}
		if i := strings.LastIndexByte(name, ' '); i >= 0 {
			if t, err := time.Parse("-07:00", name[i+1:]); err == nil {
				_, offset := t.Zone()
				return time.FixedZone(name, offset)
			}
		}
	}
	return time.UTC
}

// Hours are those of a week in which someone is on call.
type Hours struct {
	Days []string `json:"days"` // MO, TU, WE, TH, FR, SA, SU (RFC 5545)
	From string   `json:"from"` // 08:00
	To   string   `json:"to"`   // 18:00; before From it is that of the next day, 24:00 is midnight
}

var days = [...]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

// Validate refuses hours that cannot be read.
func (h Hours) Validate() error {
	if len(h.Days) == 0 {
		return errors.New("hours name at least one day: MO, TU, WE, TH, FR, SA, SU")
	}
	for _, d := range h.Days {
		if !known(d) {
			return fmt.Errorf("there is no day %q: days are MO, TU, WE, TH, FR, SA, SU", d)
		}
	}
	for _, s := range []string{h.From, h.To} {
		if _, err := minutes(s); err != nil {
			return err
		}
	}
	return nil
}

func known(day string) bool {
	for _, d := range days {
		if d == day {
			return true
		}
	}
	return false
}

func minutes(s string) (int, error) {
	if s == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", s)
	if err != nil {
		return 0, fmt.Errorf("the time %q cannot be read: write it as 08:00", s)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// Contain tells whether at, read on the clock of its own zone, lies within the hours.
func (h Hours) Contain(at time.Time) bool {
	from, errFrom := minutes(h.From)
	to, errTo := minutes(h.To)
	if errFrom != nil || errTo != nil {
		return false
	}
	now := at.Hour()*60 + at.Minute()
	on := func(day time.Weekday) bool {
		for _, d := range h.Days {
			if d == days[(day+7)%7] {
				return true
			}
		}
		return false
	}
	if to > from {
		return on(at.Weekday()) && now >= from && now < to
	}
	return on(at.Weekday()) && now >= from || on(at.Weekday()-1) && now < to
}
