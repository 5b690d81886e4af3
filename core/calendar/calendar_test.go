package calendar

import (
	"strings"
	"testing"
	"time"
)

func at(s string) time.Time {
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		panic(err)
	}
	return t
}

// A window holds in the device's own time, over the change of its clocks too.
func TestWindow(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	weekly := Window{Start: "2026-10-06T22:00", Rule: "FREQ=WEEKLY;BYDAY=TU", Minutes: 120}
	once := Window{Start: "2026-11-24T22:00", Minutes: 60}
	for _, c := range []struct {
		window Window
		zone   *time.Location
		at     string
		want   bool
	}{
		{weekly, time.UTC, "2026-11-24T22:00:00Z", true}, {weekly, time.UTC, "2026-11-24T23:59:59Z", true},
		{weekly, time.UTC, "2026-11-25T00:00:00Z", false},
		{weekly, time.UTC, "2026-11-23T22:30:00Z", false}, {weekly, time.UTC, "2026-09-29T22:30:00Z", false},
		{weekly, london, "2026-10-20T21:30:00Z", true}, {weekly, london, "2026-10-27T21:30:00Z", false},
		{weekly, london, "2026-10-27T22:30:00Z", true},
		{once, time.UTC, "2026-11-24T22:30:00Z", true}, {once, time.UTC, "2026-12-01T22:30:00Z", false},
		{Window{Start: once.Start, Minutes: 60, Zone: "America/New_York"}, time.UTC, "2026-11-25T03:30:00Z", true},
	} {
		if err := c.window.Validate(); err != nil {
			t.Fatal(err)
		}
		until, got := c.window.Contains(at(c.at), c.zone)
		if got != c.want || (got && !until.After(at(c.at))) {
			t.Errorf("%+v in %s at %s: %t until %s", c.window, c.zone, c.at, got, until)
		}
	}
	if got := weekly.Next(at("2026-11-23T09:00:00Z"), time.UTC); !got.Equal(at("2026-11-24T22:00:00Z")) {
		t.Errorf("the next window is at %s", got)
	}
}

func TestValidate(t *testing.T) {
	for text, w := range map[string]Window{
		"write it as 2026":  {Start: "tomorrow", Minutes: 5},
		"lasts 1 to":        {Start: "2026-11-24T22:00"},
		"FREQ=WEEKLY":       {Start: "2026-11-24T22:00", Minutes: 5, Rule: "sometimes"},
		"by the day":        {Start: "2026-11-24T22:00", Minutes: 5, Rule: "FREQ=SECONDLY"},
		"there is no time":  {Start: "2026-11-24T22:00", Minutes: 5, Zone: "Moor/Peat"},
		"must be one line ": {Start: "2026-11-24T22:00", Minutes: 5, Rule: "FREQ=DAILY\nRDATE:1"},
	} {
		if err := w.Validate(); err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%+v: %v, want %q", w, err, text)
		}
	}
}

func TestZone(t *testing.T) {
	for name, want := range map[string]int{"Europe/London": 0, "Asia/Kathmandu": 5*3600 + 45*60, "CET +01:00": 3600, "": 0, "nonsense": 0,
		"../../etc/passwd": 0} {
		if _, got := at("2026-11-23T09:00:00Z").In(Zone(name)).Zone(); got != want {
			t.Errorf("%q is %d s east", name, got)
		}
	}
}

func TestHours(t *testing.T) {
	night := Hours{Days: []string{"FR"}, From: "22:00", To: "06:00"}
	day := Hours{Days: []string{"MO", "TU"}, From: "08:00", To: "18:00"}
	for _, c := range []struct {
		h    Hours
		at   string
		want bool
	}{{day, "2026-11-23T08:00:00Z", true}, {day, "2026-11-23T18:00:00Z", false}, {day, "2026-11-25T12:00:00Z", false},
		{night, "2026-11-27T23:00:00Z", true}, {night, "2026-11-28T05:59:00Z", true}, {night, "2026-11-27T05:00:00Z", false},
		{night, "2026-11-28T23:00:00Z", false}} {
		if got := c.h.Contain(at(c.at)); got != c.want {
			t.Errorf("%+v at %s: %t", c.h, c.at, got)
		}
	}
}
