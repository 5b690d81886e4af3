package rfb_test

import (
	"bytes"
	"fmt"

	"moorwatch.example/core/rfb"
)

// A console is asked for its picture, which becomes one of a desktop.
func Example() {
	server := bytes.NewBufferString("SSH-2.0-something else\n")
	_, err := rfb.Begin(server, "")
	fmt.Println(err)
	// Output:
	// the console's server does not keep to RFB: it begins with "SSH-2.0-some"
}
