// Package wait has tests wait for what is to happen, and fail with its name where it does not. A test
// that sleeps waits too long on a fast machine and not long enough on a busy one.
package wait

import (
	"testing"
	"time"
)

// every is how often a condition is tried.
const every = 20 * time.Millisecond

// Until waits until something holds, and fails the test where it does not within a time. It must be
// called from the test's own goroutine.
func Until(t testing.TB, within time.Duration, what string, holds func() bool) {
	t.Helper()
	if !Holds(t, within, holds) {
		t.Fatalf("not within %s: %s", within, what)
	}
}

// Holds tells whether something came to hold within a time, or before the test ended.
func Holds(t testing.TB, within time.Duration, holds func() bool) bool {
	t.Helper()
	tick, over := time.NewTicker(every), time.NewTimer(within)
	defer tick.Stop()
	defer over.Stop()
	for !holds() {
		select {
		case <-tick.C:
		case <-over.C:
			return holds()
		case <-t.Context().Done():
			return false
		}
	}
	return true
}

// Pause lets time pass where the passing of time itself is what is tested, such as a user who comes at a
// moment of no choosing. It returns early when the test is over.
func Pause(t testing.TB, d time.Duration) {
	t.Helper()
	over := time.NewTimer(d)
	defer over.Stop()
	select {
	case <-over.C:
	case <-t.Context().Done():
	}
}
