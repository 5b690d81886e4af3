package script_test

import (
	"fmt"

	"moorwatch.example/core/script"
)

// A script carries what is to be known of it in its first comments.
func Example() {
	s, err := script.Parse([]byte("# --- moorwatch\n# name: Free space\n# interpreter: bash\n# ---\ndf -h\n"))
	fmt.Println(s.Name, s.Interpreter, err)
	// Output:
	// Free space bash <nil>
}
