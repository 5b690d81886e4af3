package calendar

import (
	"strings"
	"testing"
	"time"
)

func TestHoursOfAWeek(t *testing.T) {
	office := Hours{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "08:00", To: "18:00"}
	night := Hours{Days: []string{"SU"}, From: "22:00", To: "06:00"}
	evening := Hours{Days: []string{"SA"}, From: "18:00", To: "24:00"}
	for _, c := range []struct {
		hours Hours
		at    string // 2026-11-30 is a Monday
		want  bool
	}{
		{office, "2026-11-30T08:00:00Z", true}, {office, "2026-11-30T07:59:59Z", false}, {office, "2026-11-30T17:59:00Z", true},
		{office, "2026-11-30T18:00:00Z", false}, {office, "2026-11-29T12:00:00Z", false},
		{night, "2026-11-29T23:00:00Z", true}, {night, "2026-11-30T05:59:00Z", true}, {night, "2026-11-30T06:00:00Z", false},
		{night, "2026-11-30T23:00:00Z", false}, {night, "2026-11-29T05:00:00Z", false},
		{evening, "2026-11-28T23:59:59Z", true}, {evening, "2026-11-29T00:00:00Z", false},
	} {
		if err := c.hours.Validate(); err != nil {
			t.Fatal(err)
		}
		if got := c.hours.Contain(at(c.at)); got != c.want {
			t.Errorf("%+v at %s: %v", c.hours, c.at, got)
		}
	}
	for want, h := range map[string]Hours{
		"at least one day": {From: "08:00", To: "18:00"},
		"there is no day":  {Days: []string{"MONDAY"}, From: "08:00", To: "18:00"},
		"write it as 08":   {Days: []string{"MO"}, From: "8", To: "18:00"},
		"the time \"25":    {Days: []string{"MO"}, From: "08:00", To: "25:00"},
	} {
		if err := h.Validate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", h, err)
		}
		if want != "at least one day" && want != "there is no day" && h.Contain(at("2026-11-30T12:00:00Z")) {
			t.Errorf("%+v contain noon", h)
		}
	}
}

// What cannot be read is never open, and has no next.
func TestWindowsThatCannotBeRead(t *testing.T) {
	now := at("2026-11-30T12:00:00Z")
	for name, w := range map[string]Window{
		"no start":        {Minutes: 5},
		"no rule":         {Start: "2026-11-30T11:59", Minutes: 5, Rule: "sometimes"},
		"an odd rule":     {Start: "2026-11-30T11:59", Minutes: 5, Rule: "FREQ=DAILY;INTERVAL=-1;BYMONTH=99"},
		"not yet":         {Start: "2026-12-24T11:59", Minutes: 5, Rule: "FREQ=DAILY"},
		"once, in a year": {Start: "2027-11-30T11:59", Minutes: 5},
	} {
		if _, ok := w.Contains(now, time.UTC); ok {
			t.Errorf("%s: it is open", name)
		}
		next := w.Next(now, time.UTC)
		if late := name == "not yet" || strings.HasPrefix(name, "once"); late == next.IsZero() {
			t.Errorf("%s: the next is %s", name, next)
		}
	}
	once := Window{Start: "2026-11-30T11:59", Minutes: 5}
	if next := once.Next(now, time.UTC); !next.IsZero() {
		t.Errorf("what was once comes again at %s", next)
	}
	zoned := Window{Start: "2026-11-30T08:00", Minutes: 5, Zone: "America/New_York"}
	if next := zoned.Next(now, time.UTC); !next.Equal(at("2026-11-30T13:00:00Z")) {
		t.Errorf("the next is %s", next)
	}
}
