package secret_test

import (
	"bytes"
	"fmt"

	"moorwatch.example/core/secret"
)

// What is sealed for one purpose is read for that purpose alone.
func Example() {
	box, _ := secret.New(bytes.Repeat([]byte{7}, 32), "consoles")
	sealed := box.Seal("a password", "console 1")
	text, _ := box.Open(sealed, "console 1")
	_, err := box.Open(sealed, "console 2")
	fmt.Println(text, "/", err)
	// Output:
	// a password / the secret cannot be read with the service's key: give it again
}
