package release_test

import (
	"fmt"

	"moorwatch.example/core/release"
)

// Agents believe a release that is newer.
func Example() {
	fmt.Println(release.Newer("1.10.0", "1.9.0"), release.Newer("1.0.0-rc.1", "1.0.0"))
	// Output:
	// true false
}
