package advisory_test

import (
	"fmt"

	"moorwatch.example/core/advisory"
)

// An index finds the weaknesses of an installed package by its package URL.
func Example() {
	index := advisory.NewIndex([]advisory.Advisory{{ID: "MOOR-2026-0112", Affected: []advisory.Affected{{Type: "deb", Namespace: "debian",
		Name: "heathssl", Spans: []advisory.Span{{Fixed: "1.1"}}}}}})
	p, _ := advisory.Parse("pkg:deb/debian/heathssl@1.0", "", "")
	for _, hit := range index.Match(p) {
		fmt.Println(index.All[hit.Advisory].ID, "is mended in", hit.Fixed)
	}
	// Output:
	// MOOR-2026-0112 is mended in 1.1
}
