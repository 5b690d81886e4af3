package versions_test

import (
	"fmt"

	"moorwatch.example/core/versions"
)

// Each family of packages orders its own versions.
func Example() {
	fmt.Println(versions.Compare("gem", "1.0.0.rc1", "1.0.0"), versions.Compare("maven", "1.0", "1.0.Final"),
		versions.Debian("1:0.1", "2.0"))
	// Output:
	// -1 0 1
}
