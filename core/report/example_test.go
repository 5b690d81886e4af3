package report_test

import (
	"fmt"
	"strings"

	"moorwatch.example/core/report"
)

// A report is a page that needs nothing else.
func Example() {
	d := report.Document{Title: "Updates", Parts: []report.Part{{Figures: []report.Figure{{Value: "93 %", About: "are current"}}}}}
	var page strings.Builder
	err := d.WriteHTML(&page)
	fmt.Println(strings.Contains(page.String(), "93 %"), err)
	// Output:
	// true <nil>
}
