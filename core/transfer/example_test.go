package transfer_test

import (
	"fmt"

	"moorwatch.example/core/transfer"
)

// A name that no system takes is refused before anything is sent.
func Example() {
	fmt.Println(transfer.CheckName("nul.txt", true))
	fmt.Println(transfer.CheckName("report.pdf", true))
	// Output:
	// nul.txt is the name of a device on Windows
	// <nil>
}
