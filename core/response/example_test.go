package response_test

import (
	"fmt"
	"time"

	"moorwatch.example/core/response"
)

// A response tries one step after another until its check is well.
func Example() {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	p := response.Begin(response.Response{Steps: []response.Step{{Do: response.RestartService, Service: "catalogue"}}}, 0, now)
	fmt.Println(p.State, p.Response.Steps[p.Step])
	p.Check(false, now.Add(time.Minute))
	fmt.Println(p.State, p.Said)
	// Output:
	// due restart the service catalogue
	// healed [It recovered by itself.]
}
