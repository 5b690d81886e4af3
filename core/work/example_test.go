package work_test

import (
	"fmt"

	"moorwatch.example/core/work"
)

// Steps are done in order, and what a device has done is kept on its disk.
func Example() {
	steps := []work.Step{{Do: work.Run, Argv: []string{"true"}}, {Do: work.Restart}}
	var p work.Progress
	for {
		m, ok := p.Next(steps)
		if !ok {
			break
		}
		p.Begin()
		p.End(steps, work.Done, "", "")
		fmt.Println(steps[m.Step].Heading())
	}
	// Output:
	// Run true
	// Restart the device
}
