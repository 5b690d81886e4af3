package job

import (
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/calendar"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/script"
	"moorwatch.example/core/work"
)

// A job that recurs falls due once each time, by the clock of the device, across the change of that clock.
func TestRecurring(t *testing.T) {
	w := When{Start: "2026-10-20T22:00", Rule: "FREQ=DAILY"}
	london, began := calendar.Zone("Europe/London"), time.Date(2026, 10, 24, 12, 0, 0, 0, time.UTC)
	var due []string
	last := time.Time{}
	for now := began; now.Before(began.AddDate(0, 0, 4)); now = now.Add(7 * time.Minute) {
		if at := w.Last(began, now, london); !at.IsZero() && !at.Equal(last) {
			due, last = append(due, at.UTC().Format("02 15:04")), at
		}
		if next := w.Next(now, london); !next.After(now) {
			t.Fatalf("after %s it falls due at %s", now, next)
		}
	}
	if got := strings.Join(due, ", "); got != "24 21:00, 25 22:00, 26 22:00, 27 22:00" { // clocks go back on the 25th
		t.Errorf("it fell due at %s", got)
	}
	if at := w.Last(began, began.Add(time.Hour), london); !at.IsZero() {
		t.Errorf("a job that has just begun fell due at %s", at)
	}
	tokyo := When{Start: "2026-10-20T22:00", Rule: "FREQ=DAILY", Zone: "Asia/Tokyo"}
	if at := tokyo.Last(began, began.Add(2*time.Hour), london); at.UTC().Format("15:04") != "13:00" {
		t.Errorf("in a zone of its own it fell due at %s", at.UTC())
	}
}

func TestWhenRefused(t *testing.T) {
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	for words, w := range map[string]When{
		"choose one":        {Rule: "FREQ=DAILY", Start: "2026-11-24T22:00", Follow: true},
		"belongs to a rule": {Start: "2026-11-24T22:00"},
		"an event is":       {Event: "eclipse"},
		"names a check":     {Check: "disk"},
		"has an end":        {Until: now.Add(time.Hour)},
		"in the past":       {Follow: true, Until: now},
		"cannot be read":    {Rule: "FREQ=NOW", Start: "2026-11-24T22:00"},
		"the start":         {Rule: "FREQ=DAILY", Start: "soon"},
		"undeclared":        {Needs: "moon == 'full'"},
	} {
		if err := w.Validate(now); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", words, err)
		}
	}
	for _, w := range []When{{}, {Follow: true}, {Event: Checked, Check: "disk", Until: now.Add(1)},
		{Windows: true, Needs: "size(people) == 0"}, {Rule: "FREQ=WEEKLY;BYDAY=SU", Start: "2026-11-24T22:00"}} {
		if err := w.Validate(now); err != nil {
			t.Errorf("%+v: %v", w, err)
		}
	}
	if got := (Limits{WaitHours: 2}).Awaited(now, true).Sub(now); got != 2*time.Hour {
		t.Errorf("awaited for %s", got)
	}
	if got := (Limits{}).Awaited(now, true).Sub(now); got != catchUp {
		t.Errorf("awaited for %s", got)
	}
}

func TestWork(t *testing.T) {
	find := func(string) (pack.Package, bool) { return pack.Package{}, false }
	p := pack.Package{Name: "Fonts", Version: "1", Systems: []string{"linux"}, Files: []pack.File{{SHA256: "ab"}},
		Install:    []work.Step{{Do: work.Restart, Seconds: 30}, {Do: work.Restart}},
		Parameters: []script.Parameter{{Name: "A", Kind: script.Text}}}
	w, err := OfPackage(p, false, find)
	if err != nil || w.String() != "install Fonts 1" || w.Seconds() != 630 || len(w.Files()) != 1 || len(w.Parameters()) != 1 {
		t.Errorf("%+v, %v", w, err)
	}
	if ok, why := w.Fits("windows"); ok || why != "the package Fonts is not for windows" {
		t.Error(why)
	}
	if _, err := OfPackage(p, true, find); err == nil {
		t.Error("what does not say how it is removed is removed")
	}
}
