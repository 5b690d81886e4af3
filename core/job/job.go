// Package job is how one thing is done on many devices: how many at once, when to stop, and what the
// outcomes come to. It has no clock, asks no device, and keeps nothing.
package job

import (
	"fmt"
	"slices"
	"time"
)

// State is how far a run, which is a job at one device, has come.
type State string

// The states of a run.
const (
	Waiting     State = "waiting"     // for the device, its turn, or the job's begin
	Sent        State = "sent"        // the device has been told, or may have been
	Succeeded   State = "succeeded"   // exit status 0
	Failed      State = "failed"      // another exit status, or it could not be started
	TimedOut    State = "timed-out"   // it was ended at its time limit
	Interrupted State = "interrupted" // it began, and how it ended is not known
	Missed      State = "missed"      // the device did not come back before the deadline
	Cancelled   State = "cancelled"   // before it began, or while it ran
	Unfit       State = "unfit"       // the device has no such system, or does not offer jobs
)

// Over tells whether nothing more comes of a run.
func (s State) Over() bool { return s != Waiting && s != Sent }

// Bad tells whether a run counts against the job.
func (s State) Bad() bool { return s == Failed || s == TimedOut || s == Interrupted }

// Limits of a job. Zero values are without limit.
type Limits struct {
	AtOnce    int `json:"at_once,omitempty"`
	PerSite   int `json:"per_site,omitempty"`   // at once
	PerSecond int `json:"per_second,omitempty"` // that begin
	StopAfter int `json:"stop_after,omitempty"` // bad runs
	StopShare int `json:"stop_share,omitempty"` // percent of those that are over, once stopLeast are
	Spread    int `json:"spread,omitempty"`     // seconds over which the starts are spread
	WaitHours int `json:"wait_hours,omitempty"` // for devices that are away; 0 is for none
}

// stopLeast is how many runs must be over before a share of them is judged.
const stopLeast = 10

// Bounds of limits.
const (
	most          = 100_000
	mostSpread    = 24 * 3600
	mostWaitHours = 90 * 24
)

// Validate refuses limits that cannot be.
func (l Limits) Validate() error {
	for _, one := range []struct {
		name        string
		value, most int
	}{{"how many at once", l.AtOnce, most}, {"how many at once at a site", l.PerSite, most},
		{"how many begin in a second", l.PerSecond, most}, {"after how many failures it stops", l.StopAfter, most},
		{"at which share of failures it stops", l.StopShare, 100}, {"over how many seconds the starts are spread", l.Spread, mostSpread},
		{"for how many hours devices are awaited", l.WaitHours, mostWaitHours}} {
		if one.value < 0 || one.value > one.most {
			return fmt.Errorf("%s is 0 to %d, and not %d", one.name, one.most, one.value)
		}
	}
	return nil
}

// Counts are how many runs of a job are in which state.
type Counts map[State]int

// Over is how many are over, and Bad how many of them count against the job.
func (c Counts) Over() (n int) {
	for s, k := range c {
		if s.Over() {
			n += k
		}
	}
	return n
}
func (c Counts) Bad() int { return c[Failed] + c[TimedOut] + c[Interrupted] }

// Stops tells whether a job is to begin no more runs, and why.
func (l Limits) Stops(c Counts) (reason string) {
	bad, ran := c.Bad(), c.Bad()+c[Succeeded]
	switch {
	case l.StopAfter > 0 && bad >= l.StopAfter:
		return fmt.Sprintf("%d runs failed, and it was to stop after %d", bad, l.StopAfter)
	case l.StopShare > 0 && ran >= stopLeast && 100*bad >= l.StopShare*ran:
		return fmt.Sprintf("%d of %d runs failed, and it was to stop at %d %%", bad, ran, l.StopShare)
	}
	return ""
}

// Candidate is a run that waits, of a device that could be told now.
type Candidate struct {
	Run  int // the caller's
	Site string
	// Place is where in the order of all the job's runs it stands, from 0 to 1, by which its start is
	// spread.
	Place float64
}

// Pace remembers what a job began of late. The zero value began nothing.
type Pace struct {
	began  time.Time
	tokens float64
	last   time.Time
}

// Choose picks the runs that may begin now, in the order of the candidates. running is how many of the
// job run, by site and in all.
func (p *Pace) Choose(l Limits, now time.Time, candidates []Candidate, running map[string]int) (chosen []int) {
	if p.began.IsZero() {
		p.began, p.last, p.tokens = now, now, 1
	}
	all := 0
	for _, n := range running {
		all += n
	}
	if l.PerSecond > 0 {
		p.tokens = min(p.tokens+now.Sub(p.last).Seconds()*float64(l.PerSecond), float64(l.PerSecond))
	}
	p.last = now
	here := map[string]int{}
	for _, c := range candidates {
		switch {
		case l.AtOnce > 0 && all >= l.AtOnce:
			return chosen
		case l.PerSecond > 0 && p.tokens < 1:
			return chosen
		case l.PerSite > 0 && running[c.Site]+here[c.Site] >= l.PerSite:
			continue
		case l.Spread > 0 && now.Sub(p.began).Seconds() < c.Place*float64(l.Spread):
			continue
		}
		chosen = append(chosen, c.Run)
		all++
		here[c.Site]++
		p.tokens--
	}
	return chosen
}

// Group is how often an output came.
type Group struct {
	Output string `json:"output"`
	State  State  `json:"state"`
	Runs   int    `json:"runs"`
}

// Grouped counts outputs that are alike, the most frequent first.
func Grouped(outputs []Group) []Group {
	at := map[[2]string]int{}
	var out []Group
	for _, o := range outputs {
		key := [2]string{string(o.State), o.Output}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, Group{Output: o.Output, State: o.State})
		}
		out[i].Runs += max(o.Runs, 1)
	}
	slices.SortStableFunc(out, func(a, b Group) int { return b.Runs - a.Runs })
	return out
}
