package device

import (
	"encoding/json"
	"math"
	"testing"
	"time"
	"unicode/utf8"
)

// FuzzVitals reads a device's reading: what is taken is within its bounds, and may be written and read again.
func FuzzVitals(f *testing.F) {
	f.Add([]byte(`{"at":"2026-11-27T08:00:00Z","cpu":12.5,"memory":80,"disks":[{"mount":"/","total_bytes":100,"used_bytes":50}]}`))
	f.Add([]byte(`{"cpu":1e999,"disks":[{"mount":"\u0000"}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var v Vitals
		if json.Unmarshal(text, &v) != nil {
			return
		}
		v, err := v.Check()
		if err != nil {
			return
		}
		v.Readings(func(name string, value float64) {
			if math.IsNaN(value) || math.IsInf(value, 0) || !utf8.ValidString(name) {
				t.Errorf("%q is %g", name, value)
			}
		})
		if _, err := json.Marshal(v); err != nil {
			t.Error(err)
		}
	})
}

// FuzzFacts reads what a device says of itself: no text is longer than it may be, or not to be shown.
func FuzzFacts(f *testing.F) {
	f.Add([]byte(`{"host_name":"hay-desk-01","os":"linux","addresses":["192.0.2.1"],"hardware":["board:1"],"capabilities":["shell"]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var in Facts
		if json.Unmarshal(text, &in) != nil {
			return
		}
		out := in.Clean()
		for _, s := range append(append([]string{out.HostName, out.OS, out.OSName, out.Model, out.Serial, out.TimeZone}, out.Addresses...),
			out.Capabilities...) {
			if utf8.RuneCountInString(s) > MaxText || CleanText(s) != s {
				t.Errorf("%q is taken", s)
			}
		}
	})
}

// FuzzOnOurClock puts readings of a device whose clock is anywhere right: none comes to lie in the future.
func FuzzOnOurClock(f *testing.F) {
	f.Add(int64(0), int64(0))
	f.Add(int64(math.MaxInt32), int64(-5))
	f.Fuzz(func(t *testing.T, at, sent int64) {
		received := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
		if at > 1<<40 || at < -1<<40 || sent > 1<<40 || sent < -1<<40 {
			return
		}
		if got, _ := OnOurClock(time.Unix(at, 0), time.Unix(sent, 0), received); got.After(received.Add(time.Minute)) {
			t.Errorf("taken at %d, sent at %d: it becomes %s", at, sent, got)
		}
	})
}
