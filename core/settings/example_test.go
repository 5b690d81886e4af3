package settings_test

import (
	"fmt"

	"moorwatch.example/core/settings"
)

// One value of a configuration file changes, and not a byte beside it.
func Example() {
	d, _ := settings.Parse("catalogue.conf", []byte("# by hand\nport = 80\n"))
	err := d.Set("", "port", "81")
	fmt.Printf("%q %v\n", d.Bytes(), err)
	// Output:
	// "# by hand\nport = 81\n" <nil>
}
