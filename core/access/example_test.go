package access_test

import (
	"fmt"

	"moorwatch.example/core/access"
)

// A role grants permissions; a secret is kept as its hash alone.
func Example() {
	fmt.Println(access.Helper.BuiltIn(), len(access.Owner.Permissions()) > len(access.Helper.Permissions()))
	fmt.Println(access.Common("Password2026!"), access.Common("four quiet moor words"))
	// Output:
	// true true
	// true false
}
