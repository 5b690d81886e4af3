package windows

import (
	"testing"
	"time"

	"moorwatch.example/core/update"
)

// Made for the test after the documentation of the Windows Update Agent; not recorded on Windows.
func TestRecords(t *testing.T) {
	at := time.Date(2026, 11, 10, 18, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		in   Record
		want update.Update
	}{
		"cumulative": {Record{Title: "2026-11 Cumulative Update", ID: "8b1c", Revision: 201, Severity: "Critical", Size: 7 << 20,
			Changed: at, Categories: []string{"Security Updates"}, Articles: []string{"5070001"}, Weaknesses: []string{"CVE-2026-70118"},
			Restart: 2},
			update.Update{Name: "KB5070001", To: "8b1c.201", Class: update.Security, Severity: "critical", Restart: update.RestartDevice}},
		"driver": {Record{Title: "Fennick - Net - 12.19", ID: "d", Categories: []string{"Drivers"}, Hidden: true},
			update.Update{Name: "Fennick - Net - 12.19", To: "d.0", Class: update.Driver, Blocked: "It is hidden at the device."}},
		"definition": {Record{Title: "Definitions", ID: "e", Revision: 1, Categories: []string{"Definition Updates", "Hedge"}},
			update.Update{Name: "Definitions", To: "e.1", Class: update.Definition}},
		"feature": {Record{Title: "Runtime", ID: "f", Categories: []string{"Updates"}},
			update.Update{Name: "Runtime", To: "f.0", Class: update.Feature}},
		"unknown": {Record{Title: "x", ID: "g"}, update.Update{Name: "x", To: "g.0", Class: update.Other}},
	} {
		got := c.in.Offer()
		if got.Source != "windows" || got.Name != c.want.Name || got.To != c.want.To || got.Class != c.want.Class ||
			got.Severity != c.want.Severity || got.Restart != c.want.Restart || got.Blocked != c.want.Blocked ||
			len(got.Advisories) != len(c.in.Weaknesses) || !got.Released.Equal(c.in.Changed) {
			t.Errorf("%s is offered as %+v", name, got)
		}
	}
	for code, well := range map[int32]bool{0: false, 1: false, 2: true, 3: false, 4: false, 5: false} {
		if (Outcome(code) == "") != well {
			t.Errorf("the result %d is %q", code, Outcome(code))
		}
	}
}
