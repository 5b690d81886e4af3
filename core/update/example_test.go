package update_test

import (
	"fmt"

	"moorwatch.example/core/update"
)

// What a device offers is told by which newer version replaces it.
func Example() {
	old, fresh := &update.Update{Source: "apt", Name: "heathssl", To: "1.9"}, &update.Update{Source: "apt", Name: "heathssl", To: "1.10"}
	update.Replace([]*update.Update{old, fresh})
	fmt.Printf("%q %q\n", old.ReplacedBy, fresh.ReplacedBy)
	// Output:
	// "1.10" ""
}
