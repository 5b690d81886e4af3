package response

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

var restart = Response{Name: "Restart it", Check: "service", Subject: "records-*",
	Steps: []Step{{Do: RestartService, Watch: 600}, {Do: RestartDevice, Windows: true, Watch: 300}}, Attempts: 2, Hours: 1}

func TestProgress(t *testing.T) {
	t0 := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return t0.Add(time.Duration(s) * time.Second) }
	type action struct {
		at      int
		job     bool // the job of the step is over; else it is looked at
		good    bool // the job succeeded, or the check does not fail
		state   State
		step    int
		changed bool
	}
	for name, actions := range map[string][]action{
		"the first step heals": {{1, true, true, Watching, 0, true}, {30, false, true, Watching, 0, true},
			{600, false, true, Watching, 0, false}, {601, false, true, Healed, 0, true}},
		"it fails again within its watch": {{1, true, true, Watching, 0, true}, {30, false, true, Watching, 0, true},
			{400, false, false, Due, 1, true},
			{401, true, true, Watching, 1, true}, {702, false, false, GaveUp, 1, true}},
		"it goes on failing": {{1, true, true, Watching, 0, true}, {300, false, false, Watching, 0, false},
			{601, false, false, Due, 1, true}},
		"the job fails": {{1, true, false, Watching, 0, true}, {601, false, false, Due, 1, true},
			{602, true, false, Watching, 1, true}, {902, false, false, GaveUp, 1, true}},
		"a job that failed may help": {{1, true, false, Watching, 0, true}, {601, false, true, Healed, 0, true}},
	} {
		c := Begin(restart, 1, t0)
		for i, d := range actions {
			changed := true
			if d.job {
				c.State = Doing // the job was begun
				c.Did(d.good, "no such service", at(d.at))
			} else {
				changed = c.Check(!d.good, at(d.at)) // good: it does not fail
			}
			if c.State != d.state || c.Step != d.step || changed != d.changed {
				t.Errorf("%s, %d: %s at step %d, changed %v", name, i, c.State, c.Step, changed)
			}
		}
	}
	c := Begin(restart, 0, t0)
	if !c.Check(false, at(1)) || c.State != Healed {
		t.Errorf("what recovers by itself is %s", c.State)
	}
	if c := Begin(restart, 2, t0); c.State != Held || !strings.Contains(c.Said[0], "2 times within 1 hours") {
		t.Errorf("%+v", c)
	}
}

// Whatever happens, a response does each of its steps once at most, and comes to an end.
func TestProgressEnd(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 1))
		now := time.Unix(0, 0)
		c := Begin(restart, 0, now)
		done := map[int]int{}
		for range 2000 {
			now = now.Add(time.Duration(r.IntN(100)) * time.Second)
			switch {
			case c.State == Due && r.IntN(2) == 0:
				done[c.Step]++
				c.State = Doing
			case c.State == Doing && r.IntN(2) == 0:
				c.Did(r.IntN(2) == 0, "x", now)
			default:
				c.Check(r.IntN(2) == 0, now)
			}
		}
		if !c.State.Over() {
			t.Fatalf("seed %d: it is %s still", seed, c.State)
		}
		for step, n := range done {
			if n > 1 {
				t.Fatalf("seed %d: step %d was done %d times", seed, step, n)
			}
		}
	}
}

func TestResponsesRefused(t *testing.T) {
	for words, change := range map[string]func(*Response){
		"a name":         func(r *Response) { r.Name = " " },
		"which check":    func(r *Response) { r.Check = "" },
		"1 to 10 steps":  func(r *Response) { r.Steps = nil },
		"cannot be read": func(r *Response) { r.Subject = "[" },
		"which script":   func(r *Response) { r.Steps = []Step{{Do: Script}} },
		"which package":  func(r *Response) { r.Steps = []Step{{Do: Install}} },
		"one of":         func(r *Response) { r.Steps = []Step{{Do: "pray"}} },
		"watched":        func(r *Response) { r.Steps = []Step{{Do: Wait, Watch: -1}} },
		"tried":          func(r *Response) { r.Attempts = 99 },
	} {
		r := restart
		change(&r)
		if err := r.Validate(); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", words, err)
		}
	}
	if err := restart.Validate(); err != nil {
		t.Error(err)
	}
	if !restart.Matches("service", "records-sync") || restart.Matches("service", "ssh") || restart.Matches("disk", "records-sync") {
		t.Error("it matches what it should not")
	}
}
