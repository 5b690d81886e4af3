package front

import (
	"fmt"
	"testing"
	"time"
)

// What is refused again and again fills no log.
func TestRefusalsAreRecordedSeldom(t *testing.T) {
	f := refusals{last: map[refusal]*refused{}}
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	key := refusal{address: "192.0.2.7", method: "GET", path: "/people"}
	for i, want := range []struct {
		after  time.Duration
		n      int
		record bool
	}{{0, 1, true}, {time.Second, 0, false}, {time.Second, 0, false}, {time.Minute, 3, true}, {time.Second, 0, false},
		{2 * time.Minute, 2, true}} {
		now = now.Add(want.after)
		if n, record := f.times(key, now); n != want.n || record != want.record {
			t.Errorf("step %d: %d, %t", i, n, record)
		}
	}
	recorded := 0
	for i := range 2 * mostRefusals {
		if _, record := f.times(refusal{address: fmt.Sprint(i)}, now); record {
			recorded++
		}
	}
	if recorded >= mostRefusals || len(f.last) > mostRefusals {
		t.Errorf("%d are recorded, %d remembered", recorded, len(f.last))
	}
	if f.times(refusal{address: "later"}, now.Add(2*time.Hour)); len(f.last) > mostRefusals/2 {
		t.Errorf("%d are still remembered", len(f.last))
	}
}
