package job

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

// TestChoose runs jobs of random size under random limits to their end, and holds each moment against
// the limits.
func TestChoose(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		l := Limits{AtOnce: r.IntN(20), PerSite: r.IntN(6), PerSecond: r.IntN(40), Spread: r.IntN(3) * 10}
		n := 50 + r.IntN(400)
		type run struct {
			site  string
			until time.Time
			begun time.Time
		}
		runs := make([]run, n)
		for i := range runs {
			runs[i].site = fmt.Sprint("site ", r.IntN(7))
		}
		var p Pace
		start := time.Unix(1000, 0)
		began := 0
		for now := start; began < n; now = now.Add(time.Duration(50+r.IntN(200)) * time.Millisecond) {
			if now.Sub(start) > 2*time.Hour {
				t.Fatalf("seed %d, %+v: %d of %d began", seed, l, began, n)
			}
			var candidates []Candidate
			running := map[string]int{}
			for i := range runs {
				switch one := &runs[i]; {
				case one.begun.IsZero():
					candidates = append(candidates, Candidate{i, one.site, float64(i) / float64(n)})
				case one.until.After(now):
					running[one.site]++
				}
			}
			for _, i := range p.Choose(l, now, candidates, running) {
				one := &runs[i]
				if !one.begun.IsZero() {
					t.Fatal("a run began twice")
				}
				one.begun, one.until = now, now.Add(time.Duration(r.IntN(3000))*time.Millisecond)
				running[one.site]++
				began++
				if place := float64(i) / float64(n); l.Spread > 0 && now.Sub(start).Seconds() < place*float64(l.Spread)-0.001 {
					t.Fatalf("run %d began after %s of %d s", i, now.Sub(start), l.Spread)
				}
			}
			all := 0
			for site, k := range running {
				all += k
				if l.PerSite > 0 && k > l.PerSite {
					t.Fatalf("seed %d: %d run at %s, and %d may", seed, k, site, l.PerSite)
				}
			}
			if l.AtOnce > 0 && all > l.AtOnce {
				t.Fatalf("seed %d: %d run, and %d may", seed, all, l.AtOnce)
			}
			if most := now.Sub(start).Seconds()*float64(l.PerSecond) + 1.01; l.PerSecond > 0 && float64(began) > most {
				t.Fatalf("seed %d: %d began within %s at %d a second", seed, began, now.Sub(start), l.PerSecond)
			}
		}
	}
}

// TestStops stops at the failures that are too many, and not before.
func TestStops(t *testing.T) {
	for _, one := range []struct {
		l     Limits
		c     Counts
		words string
	}{
		{Limits{}, Counts{Failed: 1000}, ""},
		{Limits{StopAfter: 3}, Counts{Failed: 1, TimedOut: 1, Missed: 5, Cancelled: 2, Succeeded: 90}, ""},
		{Limits{StopAfter: 3}, Counts{Failed: 1, TimedOut: 1, Interrupted: 1}, "3 runs failed"},
		{Limits{StopShare: 20}, Counts{Failed: 5, Succeeded: 4}, ""}, // too few to tell
		{Limits{StopShare: 20}, Counts{Failed: 2, Succeeded: 8}, "2 of 10"},
		{Limits{StopShare: 20}, Counts{Failed: 2, Succeeded: 9}, ""},
	} {
		if got := one.l.Stops(one.c); (got == "") != (one.words == "") || !strings.Contains(got, one.words) {
			t.Errorf("%+v of %v: %q", one.l, one.c, got)
		}
	}
	if (Limits{StopShare: 101}).Validate() == nil || (Limits{AtOnce: -1}).Validate() == nil ||
		(Limits{AtOnce: 5, WaitHours: 48}).Validate() != nil {
		t.Error("limits are refused, or taken, wrongly")
	}
	groups := Grouped([]Group{{Output: "a", State: Succeeded}, {Output: "b", State: Succeeded}, {Output: "b", State: Succeeded},
		{Output: "b", State: Failed}})
	if len(groups) != 3 || groups[0].Runs != 2 || groups[0].Output != "b" {
		t.Errorf("%+v", groups)
	}
}

// What devices tell of how a run ended are states of it.
func TestToldStates(t *testing.T) {
	for told, state := range map[string]State{link.RunSucceeded: Succeeded, link.RunFailed: Failed, link.RunTimedOut: TimedOut,
		link.RunMissed: Missed, link.RunCancelled: Cancelled} {
		if State(told) != state {
			t.Errorf("%q is told, and the state is %q", told, state)
		}
	}
}
