package screen

import (
	"testing"
	"time"
)

// Over links of many kinds, a pace fills the link and lets nothing queue for long; when the link
// grows poor it follows within two seconds and twenty round trips.
func TestPace(t *testing.T) {
	type kind struct {
		rate float64 // bytes a second
		trip time.Duration
	}
	for name, kinds := range map[string][]kind{
		"loopback": {{1e9, time.Millisecond}}, "office": {{12e6, 5 * time.Millisecond}}, "poor": {{250e3, 100 * time.Millisecond}},
		"satellite": {{1e6, 600 * time.Millisecond}}, "grows poor": {{5e6, 40 * time.Millisecond}, {250e3, 40 * time.Millisecond}},
		"grows better": {{250e3, 100 * time.Millisecond}, {5e6, 100 * time.Millisecond}},
	} {
		t.Run(name, func(t *testing.T) {
			var p Pace
			type flight struct {
				n     uint64
				drawn time.Time
			}
			var under []flight
			now := time.Unix(0, 0)
			free := now // when the link has carried all that it was given
			n := uint64(0)
			for _, k := range kinds {
				carried, worst := 0, time.Duration(0)
				settled := now.Add(2*time.Second + 20*k.trip)
				for ; now.Before(settled.Add(5 * time.Second)); now = now.Add(time.Millisecond) {
					for len(under) > 0 && !under[0].drawn.After(now) {
						p.Drawn(under[0].n, now)
						under = under[1:]
					}
					room := p.Room()
					if room == 0 {
						continue
					}
					size := min(room, 2<<20)
					n++
					if free.Before(now) {
						free = now
					}
					free = free.Add(time.Duration(float64(size) / k.rate * 1e9))
					p.Sent(n, size, now)
					under = append(under, flight{n, free.Add(k.trip)})
					if now.After(settled) {
						carried += size
						worst = max(worst, free.Sub(now))
					}
				}
				if used := float64(carried) / 5 / k.rate; used < least(k.trip) && k.rate < 1e8 {
					t.Errorf("at %.0f kB/s, %s: %.0f %% of the link is used", k.rate/1e3, k.trip, 100*used)
				}
				if worst > 150*time.Millisecond+k.trip/2 {
					t.Errorf("at %.0f kB/s, %s: updates queue for %s", k.rate/1e3, k.trip, worst)
				}
			}
		})
	}
}

// least is the part of a link that must be used: over long trips a pace takes longer to find out.
func least(trip time.Duration) float64 {
	if trip > 300*time.Millisecond {
		return 0.2
	}
	return 0.75
}

// TestCoarse makes pictures coarser for a narrow link alone, and not back and forth at its edge.
func TestCoarse(t *testing.T) {
	for _, one := range []struct {
		rate       float64
		proved     bool
		fewer      bool
		scale      int
		wantFewer  bool
		wantScaled int
	}{
		{rate: 1000, proved: false, scale: 1, wantScaled: 1},
		{rate: 1e6, proved: true, scale: 1, wantScaled: 1},
		{rate: 30e3, proved: true, scale: 1, wantFewer: true, wantScaled: 1},
		{rate: 50e3, proved: true, scale: 1, wantScaled: 1},
		{rate: 50e3, proved: true, fewer: true, scale: 1, wantFewer: true, wantScaled: 1},
		{rate: 10e3, proved: true, scale: 1, wantFewer: true, wantScaled: 2},
		{rate: 20e3, proved: true, fewer: true, scale: 2, wantFewer: true, wantScaled: 2},
		{rate: 70e3, proved: true, fewer: true, scale: 2, wantScaled: 1},
	} {
		p := Pace{rate: one.rate, proved: one.proved}
		if fewer, scale := p.Coarse(one.fewer, one.scale); fewer != one.wantFewer || scale != one.wantScaled {
			t.Errorf("%+v: %v, %d", one, fewer, scale)
		}
	}
}
