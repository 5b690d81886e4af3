package job_test

import (
	"fmt"
	"time"

	"moorwatch.example/core/job"
)

// A job that recurs says when it comes next.
func Example() {
	daily := job.When{Rule: "FREQ=DAILY", Start: "2026-11-01T07:00"}
	fmt.Println(daily.Standing(), daily.Next(time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC), time.UTC))
	// Output:
	// true 2026-12-01 07:00:00 +0000 UTC
}
