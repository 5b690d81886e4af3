package series_test

import (
	"fmt"
	"time"

	"moorwatch.example/core/series"
)

// Samples become equal buckets of time.
func Example() {
	from := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	r := series.NewRoller(from, from.Add(time.Hour), 2, 1)
	for i := range 60 {
		r.Add(from.Add(time.Duration(i)*time.Minute), float64(i))
	}
	for _, p := range r.Points() {
		fmt.Println(p.At.Format("15:04"), p.Count, *p.Values[0])
	}
	// Output:
	// 08:00 30 {0 14.5 29}
	// 08:30 30 {30 44.5 59}
}
