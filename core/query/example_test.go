package query_test

import (
	"fmt"

	"moorwatch.example/core/query"
)

// A query says which rows of management data it wants.
func Example() {
	q, err := query.Parse("disks where size > 100 show name, size most 5")
	fmt.Println(q.Class, q.Fields, err)
	// Output:
	// disks [name size] <nil>
}
