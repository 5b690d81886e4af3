package health

import (
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/device"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func disk(percent int64) *device.Vitals {
	return &device.Vitals{Memory: 40, Disks: []device.Disk{{Mount: "/srv", TotalBytes: 100e9, UsedBytes: percent * 1e9}}}
}

func TestJudge(t *testing.T) {
	for name, c := range map[string]struct {
		state State
		want  Condition
		texts []string
	}{
		"well":          {State{Online: true, Vitals: disk(50)}, Healthy, nil},
		"new":           {State{Online: true}, Healthy, nil},
		"silent":        {State{Vitals: disk(50)}, Silent, []string{"Not heard from"}},
		"silent, full":  {State{Vitals: disk(97)}, Silent, []string{"Disk /srv is 97 % full: 3.0 GB of 100 GB left.", "Not heard from"}},
		"nearly full":   {State{Online: true, Vitals: disk(91)}, Degraded, []string{"91 % full"}},
		"full":          {State{Online: true, Vitals: disk(96)}, Failing, []string{"96 % full"}},
		"memory":        {State{Online: true, Vitals: &device.Vitals{Memory: 98, MemoryBytes: 8 << 30, MemoryUsedBytes: 8<<30 - 150<<20}}, Failing, []string{"Memory is 98 % in use: 150 MiB of 8 GiB left."}},
		"wrong clock":   {State{Online: true, Skew: -370 * 24 * time.Hour}, Healthy, []string{"Its clock is 370 days behind."}},
		"second":        {State{Online: true, Conflict: now.Add(-time.Minute)}, Degraded, []string{"second computer"}},
		"second, ended": {State{Online: true, Conflict: now.Add(-time.Hour)}, Healthy, nil},
	} {
		got, found := Judge(c.state, nil, now)
		if got != c.want || len(found) != len(c.texts) {
			t.Errorf("%s: %s with %v", name, got, found)
			continue
		}
		for i, text := range c.texts {
			if !strings.Contains(found[i].Message, text) {
				t.Errorf("%s: finding %d says %q, want %q", name, i, found[i].Message, text)
			}
			if NextStep(found[i]) == "" {
				t.Errorf("%s: no next step", name)
			}
		}
	}
}

// A disk that swings about a limit has one finding, from when it first crossed it.
func TestHysteresis(t *testing.T) {
	var before []Finding
	at := now
	for i, step := range []struct {
		percent int64
		want    Level
	}{{89, ""}, {90, Warning}, {89, Warning}, {94, Warning}, {95, Critical}, {94, Critical}, {92, Warning}, {88, Warning}, {87, ""}, {89, ""}} {
		at = at.Add(time.Minute)
		_, found := Judge(State{Online: true, Vitals: disk(step.percent)}, before, at)
		var got Level
		if len(found) > 0 {
			got = found[0].Level
			if want := now.Add(2 * time.Minute); found[0].Since != want {
				t.Errorf("step %d: since %s, want %s", i, found[0].Since, want)
			}
		}
		if got != step.want {
			t.Errorf("step %d, %d %%: %q, want %q", i, step.percent, got, step.want)
		}
		before = found
	}
}

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1500: "1.5 kB", 99_400_000: "99.4 MB", 119e9: "119 GB", 1_900_000_000_000: "1.9 TB", -5: "0 B"} {
		if got := Bytes(n); got != want {
			t.Errorf("Bytes(%d) = %q, want %q", n, got, want)
		}
	}
}
