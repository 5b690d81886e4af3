package patch

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/update"

	"moorwatch.example/core/health"
	"moorwatch.example/core/selector"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func TestDecide(t *testing.T) {
	all := health.Scope{Kind: health.Everywhere}
	libraries := health.Scope{Kind: health.Organisation, ID: "larkmoor"}
	place := &health.Place{Device: "d", Organisation: "larkmoor"}
	fix := update.Update{Source: "apt", Name: "tarnlib", To: "2", Class: update.Security, Severity: "high", Released: now.AddDate(0, 0, -3),
		Vendor: "Heath Tools"}
	for _, c := range []struct {
		name  string
		rules []Rule
		u     update.Update
		want  string
		from  time.Time
	}{
		{"no rule", nil, fix, Undecided, time.Time{}},
		{"approved", []Rule{{Do: Approve, Scope: all, Classes: []update.Class{update.Security}}}, fix, Approved, time.Time{}},
		{"another class", []Rule{{Do: Approve, Scope: all, Classes: []update.Class{update.Feature}}}, fix, Undecided, time.Time{}},
		{"another place", []Rule{{Do: Approve, Scope: health.Scope{Kind: health.Site, ID: "elsewhere"}}}, fix, Undecided, time.Time{}},
		{"deferred", []Rule{{Do: Approve, Scope: all, DeferDays: 7}}, fix, Deferred, now.AddDate(0, 0, 4)},
		{"deferred long enough", []Rule{{Do: Approve, Scope: all, DeferDays: 3}}, fix, Approved, time.Time{}},
		{"the earlier of two", []Rule{{Do: Approve, Scope: all, DeferDays: 14}, {Do: Approve, Scope: libraries, DeferDays: 5}}, fix,
			Deferred, now.AddDate(0, 0, 2)},
		{"not severe enough", []Rule{{Do: Approve, Scope: all, Severity: "critical"}}, fix, Undecided, time.Time{}},
		{"severe enough", []Rule{{Do: Approve, Scope: all, Severity: "medium"}}, fix, Approved, time.Time{}},
		{"held goes before", []Rule{{Do: Hold, Scope: libraries, Vendor: "heath", Reason: "x"}, {Do: Approve, Scope: all}}, fix, Held,
			time.Time{}},
		{"held, the other way round", []Rule{{Do: Approve, Scope: all}, {Do: Hold, Scope: libraries, Title: "TARN", Reason: "x"}}, fix,
			Held, time.Time{}},
		{"excluded goes before all", []Rule{{Do: Hold, Scope: all, Reason: "x"}, {Do: Approve, Scope: all},
			{Do: Exclude, Scope: all, Names: []string{"tarnlib"}, Reason: "y"}}, fix, Excluded, time.Time{}},
		{"ended by itself", []Rule{{Do: Exclude, Scope: all, Reason: "y", Until: now}, {Do: Approve, Scope: all}}, fix, Approved,
			time.Time{}},
		{"release not known", []Rule{{Do: Approve, Scope: all, DeferDays: 2}}, update.Update{Name: "x", Source: "apt"}, Deferred,
			now.AddDate(0, 0, 1)},
	} {
		if d := Decide(c.rules, &c.u, place, now.AddDate(0, 0, -1), now); d.State != c.want || !d.From.Equal(c.from) {
			t.Errorf("%s: %+v", c.name, d)
		}
	}
}

func TestExposed(t *testing.T) {
	if e := Exposed(nil, now); e.Score != 0 || e.Missing != 0 {
		t.Errorf("%+v", e)
	}
	u := []update.Update{{Class: update.Security, Severity: "medium", Released: now.AddDate(0, 0, -40)},
		{Class: update.Security, Severity: "critical", Released: now.AddDate(0, 0, -2)}, {Class: update.Feature, Blocked: "held"}}
	e := Exposed(u, now)
	if e.Missing != 3 || e.Security != 2 || e.Blocked != 1 || e.Worst != "critical" || !e.Oldest.Equal(now.AddDate(0, 0, -40)) {
		t.Errorf("%+v", e)
	}
	for i, r := 0, rand.New(rand.NewPCG(3, 3)); i < 200; i++ { // more to mend, or older, is never less exposed
		v := update.Update{Class: update.Security, Severity: update.Severities[r.IntN(5)], Released: now.AddDate(0, 0, -r.IntN(200))}
		more := Exposed(append(slices.Clone(u), v), now)
		if v.Released = v.Released.AddDate(0, 0, -1); more.Score <= e.Score ||
			Exposed(append(slices.Clone(u), v), now).Score < more.Score || more.Score >= 100 {
			t.Fatalf("%+v adds to %v: %v", v, e.Score, more.Score)
		}
	}
}

func members(n int) (all []Member) {
	for i := range n {
		all = append(all, Member{fmt.Sprintf("device-%d", i), &selector.Subject{Name: fmt.Sprintf("hay-desk-%02d", i), OS: "linux"}})
	}
	return all
}

func TestAssign(t *testing.T) {
	rings := []Ring{{Name: "first", Devices: []string{"device-3", "device-7"}}, {Name: "tenth", Share: 10},
		{Name: "named", Where: "name.endsWith('-05')"}, {Name: "rest"}}
	if err := ValidateRings(rings); err != nil {
		t.Fatal(err)
	}
	all := members(500)
	at, err := Assign("seed", rings, all, now)
	if err != nil {
		t.Fatal(err)
	}
	counts := make([]int, 4)
	for _, n := range at {
		counts[n]++
	}
	if !slices.Equal(counts, []int{2, 50, 1, 447}) || at[3] != 0 || at[7] != 0 || at[5] != 2 {
		t.Errorf("%v", counts)
	}
	again, _ := Assign("seed", rings, all, now)
	other, _ := Assign("another", rings, all, now)
	if !slices.Equal(at, again) || slices.Equal(at, other) {
		t.Error("the draw is not the seed's")
	}
	for i, bad := range [][]Ring{nil, {{Name: "a"}, {Name: "b"}}, {{Name: "a", Share: 60}, {Name: "b", Share: 60}},
		{{Name: "a", Share: 10, Where: "online"}}, {{Name: "a", Where: "no such"}}, {{Share: 5}}, {{Name: "a", SoakMinutes: -1}}} {
		if ValidateRings(bad) == nil {
			t.Errorf("rings %d are taken", i)
		}
	}
}

// The tests of shares and levels against what can be counted out.
func TestStatistics(t *testing.T) {
	for _, c := range []struct {
		bad1, n1, bad0, n0 int
		want               float64
	}{{1, 2, 0, 4, 1.0 / 3}, {2, 2, 0, 4, 1.0 / 15}, {3, 4, 1, 4, 17.0 / 70}, {0, 5, 3, 5, 1}} {
		if p := fisher(c.bad1, c.n1, c.bad0, c.n0); math.Abs(p-c.want) > 1e-9 {
			t.Errorf("%v: %v", c, p)
		}
	}
	if z := quantile(0.975); math.Abs(z-1.959964) > 1e-5 {
		t.Error(z)
	}
	a, b := []float64{9, 10, 11, 12, 13, 14}, []float64{1, 2, 3, 4, 5, 6}
	if p, q := rankSum(a, b), rankSum(b, a); p > 0.01 || q < 0.99 {
		t.Error(p, q)
	}
	if p := rankSum([]float64{5, 5}, []float64{5, 5}); p < 0.5 {
		t.Error(p)
	}
	// The power that is told is about that with which differences are found.
	r := rand.New(rand.NewPCG(5, 5))
	found := 0
	const n1, n0, p0, more, alpha = 250, 4000, 0.02, 0.05, 0.005
	draw := func(n int, p float64) (bad int) {
		for range n {
			if r.Float64() < p {
				bad++
			}
		}
		return bad
	}
	for range 1000 {
		if fisher(draw(n1, p0+more), n1, draw(n0, p0), n0) < alpha {
			found++
		}
	}
	if told := sharePower(p0, more, n1, n0, alpha); math.Abs(told-float64(found)/1000) > 0.08 {
		t.Errorf("a power of %.3f is told, and %d of 1000 were found", told, found)
	}
}

func TestJudge(t *testing.T) {
	slow := func(n int, at float64) (all []float64) {
		for i := range n {
			all = append(all, at+float64(i%10))
		}
		return all
	}
	for _, c := range []struct {
		name string
		gate Gate
		f    Facts
		go_  bool
		why  string
	}{
		{"nothing to see", Gate{}, Facts{}, true, "nothing to judge by"},
		{"well", Gate{}, Facts{Installs: Share{1, 250}, Alerts: Share{5, 250}, Others: Share{90, 4750}}, true, "Nothing bad was found"},
		{"installations fail", Gate{}, Facts{Installs: Share{30, 250}}, false, "30 of 250 installations failed, and 5 % may"},
		{"alerts", Gate{}, Facts{Installs: Share{0, 250}, Alerts: Share{40, 250}, Others: Share{90, 4750}}, false,
			"which comes by chance less than once in 10,000 times"},
		{"too few to tell", Gate{}, Facts{Installs: Share{0, 2}, Alerts: Share{0, 2}, Others: Share{0, 4}}, true, ""},
		{"too few, and a sign", Gate{}, Facts{Installs: Share{0, 2}, Alerts: Share{1, 2}, Others: Share{0, 4}}, false,
			"There are not enough devices to tell"},
		{"too few, careful", Gate{Careful: true}, Facts{Installs: Share{0, 2}, Alerts: Share{0, 2}, Others: Share{0, 4}}, false,
			"is to be careful"},
		{"log-on slower", Gate{}, Facts{LogOn: slow(60, 60), LogOn0: slow(400, 30)}, false, "median log-on takes 64 s"},
		{"a little slower", Gate{}, Facts{LogOn: slow(60, 32), LogOn0: slow(400, 30)}, true, ""},
		{"more may be allowed", Gate{Alerts: 20}, Facts{Alerts: Share{40, 250}, Others: Share{90, 4750}}, true, ""},
	} {
		v := c.gate.Judge(c.f)
		if v.Go != c.go_ || !strings.Contains(v.Why, c.why) {
			t.Errorf("%s: %+v", c.name, v)
		}
	}
	if v := (Gate{}).Judge(Facts{Alerts: Share{0, 3}, Others: Share{0, 3}}); !strings.Contains(v.Evidence[0].Why,
		"not enough devices to tell") {
		t.Errorf("%+v", v)
	}
}

// A rollout is held where an update breaks something, and seldom otherwise.
func TestHeld(t *testing.T) {
	for _, c := range []struct {
		broken      float64
		least, most int
	}{{0.12, 40, 40}, {0, 0, 3}} {
		held := 0
		for seed := range uint64(40) {
			if Rehearse(seed, 5000, c.broken) == 0 {
				held++
			}
		}
		if held < c.least || held > c.most {
			t.Errorf("broken at %v: held %d of 40", c.broken, held)
		}
	}
}

// said is a state in words that differ where states do.
func said(s State) string {
	text, _ := json.Marshal(s)
	return string(text)
}

// next is what is to be done next.
func next(r Rollout, s *State, runs Runs, at time.Time) string {
	do, _ := r.Next(s, runs, at)
	return do
}

func TestProgress(t *testing.T) {
	r := Rollout{Name: "x", Restart: RestartNever,
		Rings: []Ring{{Name: "a", Share: 10, SoakMinutes: 60}, {Name: "empty", Share: 1}, {Name: "b"}}}
	if err := r.Validate(); err != nil {
		t.Fatal(err)
	}
	s := r.Begun([]int{2, 0, 10})
	at := now
	step := func(runs Runs, want string, phase Phase) {
		t.Helper()
		was := said(s)
		got, changed := r.Next(&s, runs, at)
		if got != want || s.Phase != phase {
			t.Fatalf("%q in %s, want %q in %s: %+v", got, s.Phase, want, phase, s)
		}
		if changed != (said(s) != was) {
			t.Fatalf("changed is %v: from %s to %s", changed, was, said(s))
		}
	}
	do := func(action, by string) {
		t.Helper()
		if err := r.Do(&s, action, by, "robin", at); err != nil {
			t.Fatal(err)
		}
	}
	cannot := func(action, why string) {
		t.Helper()
		if err := r.Do(&s, action, "ines", "robin", at); err == nil || !strings.Contains(err.Error(), why) {
			t.Fatalf("%s: %v", action, err)
		}
	}
	step(Runs{}, DoBegin, Patching)
	s.Rings[0].Job = "one"
	step(Runs{2, 1, 0}, DoNothing, Patching)
	cannot(ActionRelease, "not held")
	step(Runs{2, 2, 0}, DoNothing, Soaking)
	do(ActionPause, "ines")
	at = at.Add(time.Hour)
	step(Runs{2, 2, 0}, DoNothing, Paused)
	do(ActionResume, "ines")
	step(Runs{2, 2, 0}, DoJudge, Soaking)
	r.Judged(&s, Verdict{Why: "bad"})
	step(Runs{2, 2, 0}, DoNothing, PhaseHeld)
	do(ActionRevert, "ines")
	step(Runs{}, DoRevert, Reverting)
	s.Rings[0].Back = "back"
	step(Runs{2, 1, 1}, DoNothing, Reverting)
	step(Runs{2, 2, 0}, DoNothing, PhaseHeld)
	cannot(ActionRelease, "taken back")
	do(ActionAgain, "ines")
	step(Runs{}, DoBegin, Patching)
	s.Rings[0].Job = "two"
	step(Runs{2, 2, 0}, DoNothing, Soaking)
	at = at.Add(time.Hour)
	step(Runs{2, 2, 0}, DoJudge, Soaking)
	r.Judged(&s, Verdict{Go: true})
	step(Runs{}, DoBegin, Patching)
	if s.At != 2 {
		t.Fatalf("an empty ring is not passed over: %+v", s)
	}
	s.Rings[2].Job = "three"
	step(Runs{10, 8, 2}, DoNothing, Patching) // too few
	step(Runs{10, 9, 0}, DoNothing, Patching) // one is under way
	step(Runs{10, 9, 1}, DoJudge, Soaking)    // one is away, and there is no soak
	r.Judged(&s, Verdict{Go: true})
	step(Runs{}, DoFinish, Done)
	cannot(ActionCancel, "over")

	u := r
	u.Urgent = true
	s = u.Begun([]int{2, 0, 10})
	if next(u, &s, Runs{}, at) != DoNothing || u.Do(&s, ActionAgree, "robin", "robin", at) == nil ||
		u.Do(&s, ActionAgree, "ines", "robin", at) != nil {
		t.Fatalf("%+v", s)
	}
	s.Rings[0].Job = "one"
	if next(u, &s, Runs{2, 2, 0}, at) != DoJudge {
		t.Errorf("an urgent one is watched: %+v", s)
	}
}

func TestClean(t *testing.T) {
	got := update.Clean([]update.Update{{Source: "apt", Name: "b", To: "1\x1b[31m", Class: "odd", Severity: "dire", Size: -4,
		Restart: "later"}, {Source: "apt", Name: "a", To: "2"}, {Source: "floppy", Name: "x", To: "1"}, {Source: "apt", Name: "c"},
		{Source: "apt", Name: "a", To: "3", Class: update.Security, Severity: "high"}})
	if len(got) != 2 || got[0].To != "3" || got[1].Class != update.Other || got[1].Severity != "" || got[1].Size != 0 ||
		got[1].Restart != "" || strings.Contains(got[1].To, "\x1b") {
		t.Errorf("%+v", got)
	}
}

// Each ring begins once the one before was watched; who has no window in time is told.
func TestEarliest(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	hour := func(n int) time.Time { return now.Add(time.Duration(n) * time.Hour) }
	rings := []Ring{{SoakMinutes: 120}, {SoakMinutes: 60}, {}}
	// Device 3 has no window, and device 4 one that is too late.
	got := Earliest(rings, []int{0, 0, 1, 1, 1, 2, -1}, 24*time.Hour, now, func(i int, from time.Time) time.Time {
		switch i {
		case 1:
			return hour(10)
		case 2:
			return from.Add(8 * time.Hour)
		case 3:
			return time.Time{}
		case 4:
			return from.Add(25 * time.Hour)
		}
		return from
	})
	for i, want := range []time.Time{hour(0), hour(10), hour(20), {}, {}, hour(21), {}} {
		if !got[i].Equal(want) {
			t.Errorf("device %d is patched at %s, want %s", i, got[i], want)
		}
	}
}

func TestOverdue(t *testing.T) {
	for _, c := range []struct {
		away  time.Duration
		start float64
		want  string
	}{{time.Minute, 30, ""}, {2 * time.Minute, 30, ""},
		{3 * time.Minute, 30, "3 minutes ago in the middle of this, and has not come back; a start takes it 30 s."},
		{9 * time.Minute, 0, ""}, {11 * time.Minute, 0, "has not come back."}} {
		if got := Overdue(c.away, c.start); (got == "") != (c.want == "") || !strings.HasSuffix(got, c.want) {
			t.Errorf("away for %s, starting in %g s: %q", c.away, c.start, got)
		}
	}
}

func TestExcerpt(t *testing.T) {
	log := "Reading lists\nSetting up moss (2)\n\x1b[31mSetting up peat (2)\ndpkg: error\nmoss is restarted\nit failed\n"
	if got := Excerpt(log, "moss", false); got != "Setting up moss (2)\nmoss is restarted" {
		t.Errorf("of moss it tells %q", got)
	}
	if got := Excerpt(log, "bracken", true); !strings.HasSuffix(got, "moss is restarted\nit failed") || strings.Contains(got, "\x1b") ||
		strings.Contains(got, "Reading") {
		t.Errorf("of what failed it tells %q", got)
	}
	if got := Excerpt(strings.Repeat("moss\n", 99), "moss", false); strings.Count(got, "moss") != mostLines {
		t.Errorf("of much it tells %q", got)
	}
}

func TestReplace(t *testing.T) {
	all := []*update.Update{{Source: "apt", Name: "moss", To: "1.9-1"}, {Source: "apt", Name: "moss", To: "1.10-1"},
		{Source: "dnf", Name: "moss", To: "1.0-1"}, {Source: "windows", Name: "KB1", To: "b.1"},
		{Source: "windows", Name: "KB1", To: "a.2"}, {Source: "apt", Name: "peat", To: "2"}}
	update.Replace(all)
	for i, want := range []string{"1.10-1", "", "", "", "", ""} {
		if all[i].ReplacedBy != want {
			t.Errorf("%s %s of %s is replaced by %q, want %q", all[i].Name, all[i].To, all[i].Source, all[i].ReplacedBy, want)
		}
	}
}
