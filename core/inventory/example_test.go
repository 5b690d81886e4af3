package inventory_test

import (
	"fmt"

	"moorwatch.example/core/inventory"
)

// Two snapshots differ in what a person would call a change.
func Example() {
	before := inventory.Of([]inventory.Item{{Section: "software", Key: "heathssl", Name: "heathssl",
		Fields: map[string]string{"version": "1.0"}}})
	after := inventory.Of([]inventory.Item{{Section: "software", Key: "heathssl", Name: "heathssl",
		Fields: map[string]string{"version": "1.1"}}})
	for _, c := range inventory.Changes(before, after) {
		fmt.Println(c.Kind, c.Name, c.Summary)
	}
	// Output:
	// changed heathssl heathssl updated from 1.0 to 1.1
}
