package pack_test

import (
	"fmt"

	"moorwatch.example/core/pack"
)

// What a package needs is installed before it.
func Example() {
	library := map[string]pack.Package{"runtime": {Name: "runtime"}, "viewer": {Name: "viewer", Needs: []string{"runtime"}}}
	parts, err := pack.Plan(library["viewer"], func(name string) (pack.Package, bool) { p, ok := library[name]; return p, ok })
	for _, p := range parts {
		fmt.Println(p.Package.Name, err)
	}
	// Output:
	// runtime <nil>
	// viewer <nil>
}
