package calendar

import (
	"testing"
	"time"
)

// FuzzWindow reads windows as people write them: whatever is taken answers soon when it comes next, and not before it is
// asked for.
func FuzzWindow(f *testing.F) {
	f.Add("2026-11-24T22:00", "FREQ=WEEKLY;BYDAY=TU", "Europe/Berlin", 60)
	f.Add("2026-02-29T00:00", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "", 1)
	f.Add("2026-03-29T02:30", "FREQ=SECONDLY;INTERVAL=1", "Europe/London", 1440)
	f.Fuzz(func(t *testing.T, start, rule, zone string, minutes int) {
		w := Window{Start: start, Rule: rule, Zone: zone, Minutes: minutes}
		if w.Validate() != nil {
			return
		}
		at, began := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC), time.Now()
		if next := w.Next(at, time.UTC); !next.IsZero() && next.Add(time.Duration(minutes)*time.Minute).Before(at) {
			t.Errorf("%+v comes at %s", w, next)
		}
		if took := time.Since(began); took > 2*time.Second {
			t.Errorf("%+v took %s", w, took)
		}
	})
}
