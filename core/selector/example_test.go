package selector_test

import (
	"fmt"
	"time"

	"moorwatch.example/core/selector"
)

// An expression chooses devices.
func Example() {
	s, _ := selector.Compile(`os == "windows" && disk > 80.0`)
	fmt.Println(s.Match(&selector.Subject{OS: "windows", Disk: 91}, time.Time{}))
	// Output:
	// true <nil>
}
