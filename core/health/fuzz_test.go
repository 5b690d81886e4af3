package health

import (
	"encoding/json"
	"testing"
	"time"

	"moorwatch.example/core/device"
)

// FuzzSettings reads the settings of a policy as people send them: what is taken judges any device.
func FuzzSettings(f *testing.F) {
	f.Add([]byte(`[{"check":"disk","above":{"warning":80},"back":2}]`))
	f.Add([]byte(`[{"check":"cpu","subject":"*","above":{"warning":-1e308},"for_seconds":-5}]`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var all []Setting
		if json.Unmarshal(text, &all) != nil {
			return
		}
		for _, s := range all {
			if s.Validate() != nil {
				return
			}
		}
		set := Resolve([]Policy{{Name: "x", Scope: Scope{Kind: Everywhere}, Settings: all}}, &Place{})
		now := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
		v := &device.Vitals{At: now, CPU: 99, Memory: 99, Disks: []device.Disk{{Mount: "/", TotalBytes: 100, UsedBytes: 99}}}
		_, found := Judge(&State{Online: true, Vitals: v}, set, nil, now)
		for _, one := range found {
			if one.Message == "" || one.Level == "" {
				t.Errorf("%s: %+v", text, one)
			}
		}
	})
}
