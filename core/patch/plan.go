package patch

import (
	"time"
)

// Earliest tells when devices of a rollout are patched at the earliest, if nothing holds it: those of a ring once
// the ring before began everywhere that it can and was watched for its time. ring is the ring of each device; open
// returns when a device may be patched at or after a time, zero where it never may. A device that may not be patched
// within wait of its ring's beginning is zero: it would be given up.
func Earliest(rings []Ring, ring []int, wait time.Duration, now time.Time, open func(device int, from time.Time) time.Time) []time.Time {
	out := make([]time.Time, len(ring))
	begins := now
	for r := range rings {
		last := begins
		for i, of := range ring {
			if of != r {
				continue
			}
			at := open(i, begins)
			if at.IsZero() || at.Sub(begins) > wait {
				continue
			}
			if out[i] = at; at.After(last) {
				last = at
			}
		}
		begins = last.Add(time.Duration(rings[r].SoakMinutes) * time.Minute)
	}
	return out
}
