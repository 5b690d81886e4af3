package health_test

import (
	"fmt"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// A set of checks judges what a device last told.
func Example() {
	warning := 80.0
	set := health.Resolve([]health.Policy{{Name: "all", Scope: health.Scope{Kind: health.Everywhere},
		Settings: []health.Setting{{Check: "disk", Above: &health.Limits{Warning: &warning}}}}}, &health.Place{})
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	state := health.State{Online: true, Vitals: &device.Vitals{At: now,
		Disks: []device.Disk{{Mount: "/srv", TotalBytes: 100e9, UsedBytes: 91e9}}}}
	condition, findings := health.Judge(&state, set, nil, now)
	fmt.Println(condition, findings[0].Message)
	// Output:
	// degraded Disk /srv is 91 % full: 9.0 GB of 100 GB left.
}
