package eventlog_test

import (
	"fmt"

	"moorwatch.example/core/eventlog"
)

// A line of a log becomes an event, whatever wrote it.
func Example() {
	e, ok := eventlog.Journal([]byte(`{"__REALTIME_TIMESTAMP":"1795000000000000","PRIORITY":"3","_SYSTEMD_UNIT":"catalogue.service","MESSAGE":"disk full"}`))
	fmt.Println(ok, e.At.UTC().Year(), e.Level, e.Unit, e.Message)
	// Output:
	// true 2026 error catalogue.service disk full
}
