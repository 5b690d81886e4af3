package patch_test

import (
	"fmt"

	"moorwatch.example/core/patch"
)

// A gate holds a rollout when what was patched does worse than what was not.
func Example() {
	v := patch.Gate{}.Judge(patch.Facts{Installs: patch.Share{Bad: 9, Of: 20}})
	fmt.Println(v.Go, v.Why)
	// Output:
	// false 9 of 20 installations failed, and 5 % may.
}
