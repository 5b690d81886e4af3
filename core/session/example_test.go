package session_test

import (
	"fmt"

	"moorwatch.example/core/health"
	"moorwatch.example/core/session"
)

// A rule says whether the person at a device is asked.
func Example() {
	rule := session.Resolve(nil, "screen", &health.Place{})
	step, why := session.Begin(rule, session.Present{Known: true, Someone: true})
	fmt.Println(rule.Mode, step, why)
	// Output:
	// ask ask
}
