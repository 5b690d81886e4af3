package device_test

import (
	"fmt"

	"moorwatch.example/core/device"
)

// What a device says of itself is cleaned before anybody sees it.
func Example() {
	fmt.Println(device.CleanText("hay-desk-01\x1b[2J"))
	fmt.Println(device.JoinReading("disk", "/srv"), device.Rank([]float64{10, 20, 90, 95}, 90))
	// Output:
	// hay-desk-01[2J
	// disk /srv 0.5
}
