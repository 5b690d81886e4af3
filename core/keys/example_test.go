package keys_test

import (
	"fmt"

	"moorwatch.example/core/keys"
)

// A key of a browser is a keysym to a desktop.
func Example() {
	fmt.Printf("%#x %#x\n", keys.Of("Enter", "Enter"), keys.Of("é", "KeyE"))
	// Output:
	// 0xff0d 0xe9
}
