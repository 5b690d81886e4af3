package calendar_test

import (
	"fmt"
	"time"

	"moorwatch.example/core/calendar"
)

// A window recurs in its own time zone.
func Example() {
	w := calendar.Window{Start: "2026-10-06T22:00", Rule: "FREQ=WEEKLY;BYDAY=TU", Minutes: 120, Zone: "Europe/London"}
	fmt.Println(w.Next(time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC), time.UTC).UTC())
	// Output:
	// 2026-12-01 22:00:00 +0000 UTC
}
