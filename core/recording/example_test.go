package recording_test

import (
	"fmt"

	"moorwatch.example/core/recording"
)

// The words that a terminal printed are found without what moved its cursor.
func Example() {
	fmt.Println(recording.Words([]byte("\x1b[31mdisk full\x1b[0m\r\n")))
	// Output:
	// disk full
}
