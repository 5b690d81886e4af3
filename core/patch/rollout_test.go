package patch

import (
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/health"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// refusal is a change that makes something invalid, and what the error says of it.
type refusal[T any] struct {
	want   string
	change func(*T)
}

// refuses holds what a good value becomes against what is said of it.
func refuses[T any](t *testing.T, good func() T, validate func(T) error, all map[string]refusal[T]) {
	t.Helper()
	if err := validate(good()); err != nil {
		t.Fatal(err)
	}
	for name, c := range all {
		v := good()
		c.change(&v)
		if err := validate(v); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestRolloutsThatCannotBe(t *testing.T) {
	long := strings.Repeat("x", maxText+1)
	good := func() Rollout {
		return Rollout{Name: "November", Restart: RestartNeeded, Enough: 80, Classes: []update.Class{update.Security},
			Names: []string{"heathssl"},
			Rings: []Ring{{Name: "all"}}, Before: []work.Step{{Do: work.Run, Argv: []string{"true"}}}}
	}
	refuses(t, good, Rollout.Validate, map[string]refusal[Rollout]{
		"no name":        {"name", func(r *Rollout) { r.Name = " " }},
		"a long name":    {"name", func(r *Rollout) { r.Name = long }},
		"at a site":      {"at a site", func(r *Rollout) { r.PerSite = -1 }},
		"waiting":        {"awaited", func(r *Rollout) { r.WaitHours = maxWait + 1 }},
		"a share":        {"share", func(r *Rollout) { r.Enough = 101 }},
		"restart":        {"never, needed or asked", func(r *Rollout) { r.Restart = "often" }},
		"deferrals":      {"put off", func(r *Rollout) { r.Deferrals = -1 }},
		"a class":        {"class", func(r *Rollout) { r.Classes = []update.Class{"grave"} }},
		"an empty name":  {"no name", func(r *Rollout) { r.Names = []string{""} }},
		"many names":     {"1000", func(r *Rollout) { r.Without = slices.Repeat([]string{"a"}, 1001) }},
		"a step":         {"", func(r *Rollout) { r.After = []work.Step{{Do: "guess"}} }},
		"no ring":        {"ring", func(r *Rollout) { r.Rings = nil }},
		"failures":       {"percent", func(r *Rollout) { r.Gate.Failures = 101 }},
		"less than none": {"percent", func(r *Rollout) { r.Gate.Alerts = -1 }},
		"slower":         {"longer", func(r *Rollout) { r.Gate.Slower = 1001 }},
		"never sure":     {"sure", func(r *Rollout) { r.Gate.Sure = 50 }},
	})
}

func TestRulesThatCannotBe(t *testing.T) {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	good := func() Rule {
		return Rule{Name: "Drivers", Do: Hold, Reason: "The vendor's page tells of black screens.",
			Scope: health.Scope{Kind: health.Everywhere},
			Until: now.Add(time.Hour), Classes: []update.Class{update.Driver}, Sources: []string{"windows"}, Severity: "high"}
	}
	refuses(t, good, func(r Rule) error { return r.Validate(now) }, map[string]refusal[Rule]{
		"no name":             {"name", func(r *Rule) { r.Name = "" }},
		"another action":      {"approve, hold or exclude", func(r *Rule) { r.Do = "skip" }},
		"nowhere":             {"set for", func(r *Rule) { r.Scope.Kind = "planet" }},
		"everywhere there":    {"set for", func(r *Rule) { r.Scope.ID = "x" }},
		"no reason":           {"say why", func(r *Rule) { r.Reason = " " }},
		"a deferred hold":     {"only an approval", func(r *Rule) { r.DeferDays = 1 }},
		"deferred for ever":   {"deferred by", func(r *Rule) { r.Do, r.DeferDays = Approve, maxDefer+1 }},
		"over before":         {"past", func(r *Rule) { r.Until = now }},
		"a severity":          {"severity", func(r *Rule) { r.Severity = "awful" }},
		"a text without end":  {"longer", func(r *Rule) { r.Title = strings.Repeat("x", maxText+1) }},
		"an unknown class":    {"class", func(r *Rule) { r.Classes = []update.Class{"grave"} }},
		"an unknown source":   {"source", func(r *Rule) { r.Sources = []string{"the van"} }},
		"a name of an update": {"no name", func(r *Rule) { r.Names = []string{" "} }},
	})
	for want, r := range map[string]Rule{
		"all": {}, "a, b, security, driver, high or worse, from apt, by Fennick, named as board, 3 days after the release": {
			Names: []string{"a", "b"}, Classes: []update.Class{update.Security, update.Driver}, Severity: "high", Sources: []string{"apt"},
			Vendor: "Fennick", Title: "board", DeferDays: 3},
	} {
		if got := r.Which(); got != want {
			t.Errorf("%q, and not %q", got, want)
		}
	}
}

// What a rollout takes, and by which steps it installs that, and takes it back.
func TestWhatARolloutDoes(t *testing.T) {
	for name, c := range map[string]struct {
		r    Rollout
		want bool
	}{
		"all":               {Rollout{}, true},
		"its class":         {Rollout{Classes: []update.Class{update.Security}}, true},
		"another class":     {Rollout{Classes: []update.Class{update.Driver}}, false},
		"its name":          {Rollout{Names: []string{"heathssl"}}, true},
		"another name":      {Rollout{Names: []string{"moss-tools"}}, false},
		"left out":          {Rollout{Without: []string{"heathssl"}}, false},
		"named, left out":   {Rollout{Names: []string{"heathssl"}, Without: []string{"heathssl"}}, false},
		"name, wrong class": {Rollout{Names: []string{"heathssl"}, Classes: []update.Class{update.Driver}}, false},
	} {
		if got := c.r.Takes(&update.Update{Name: "heathssl", Class: update.Security}); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	refs := []update.Ref{{Source: "apt", Name: "heathssl", To: "1.1"}}
	do := func(steps []work.Step) string {
		var words []string
		for _, s := range steps {
			words = append(words, s.Do)
			if err := work.Validate([]work.Step{s}, nil); err != nil {
				t.Errorf("%+v: %v", s, err)
			}
		}
		return strings.Join(words, " ")
	}
	hook := []work.Step{{Do: work.Run, Argv: []string{"true"}}}
	for name, c := range map[string]struct {
		r                 Rollout
		refs              []update.Ref
		first, last, back string
	}{
		"never restarted": {Rollout{Restart: RestartNever}, refs, "update", "", "back refresh"},
		"where it asks":   {Rollout{Restart: RestartNeeded}, refs, "update", "refresh restart", "back refresh restart"},
		"with hooks":      {Rollout{Restart: RestartNever, Before: hook, After: hook}, refs, "run update", "run", "back refresh"},
		"packages alone":  {Rollout{Restart: RestartAsked}, nil, "", "refresh restart", "back refresh restart"},
	} {
		first, last := c.r.Steps(c.refs)
		if do(first) != c.first || do(last) != c.last || do(c.r.Back(refs)) != c.back || do(Fetch(refs)) != "fetch" {
			t.Errorf("%s: %s, then %s, back %s", name, do(first), do(last), do(c.r.Back(refs)))
		}
	}
	_, asked := Rollout{Restart: RestartAsked}.Steps(nil)
	if restart := asked[len(asked)-1]; restart.Deferrals != usualDeferrals || restart.Defer != usualDefer ||
		restart.Seconds <= 3*usualDefer*60 {
		t.Errorf("%+v leaves no time to put it off", restart)
	}
	_, own := Rollout{Restart: RestartAsked, Deferrals: 1, Defer: 5}.Steps(nil)
	if restart := own[len(own)-1]; restart.Deferrals != 1 || restart.Defer != 5 {
		t.Errorf("%+v", restart)
	}
	if v := Fetch(refs)[0].Updates; len(v) != 1 || v[0] != (work.Version{Source: "apt", Name: "heathssl", Version: "1.1"}) {
		t.Errorf("%+v", v)
	}
}

// What a person may do to a rollout depends on where it stands.
func TestWhatAPersonMayDo(t *testing.T) {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	rings := func() []RingState { return []RingState{{Devices: 2, Job: "a"}, {Devices: 2}} }
	for name, c := range map[string]struct {
		state  State
		action string
		by     string
		want   Phase
		why    string // of the refusal
	}{
		"agree":                   {State{Phase: Asking}, ActionAgree, "ines", Patching, ""},
		"agree with oneself":      {State{Phase: Asking}, ActionAgree, "robin", Asking, "another than who began"},
		"agree to what goes on":   {State{Phase: Patching}, ActionAgree, "ines", Patching, "second person"},
		"pause":                   {State{Phase: Soaking}, ActionPause, "ines", Paused, ""},
		"pause what is held":      {State{Phase: PhaseHeld}, ActionPause, "ines", PhaseHeld, "paused while"},
		"resume":                  {State{Phase: Paused, Before: Soaking}, ActionResume, "ines", Soaking, ""},
		"resume what goes on":     {State{Phase: Patching}, ActionResume, "ines", Patching, "not paused"},
		"release":                 {State{Phase: PhaseHeld}, ActionRelease, "ines", Patching, ""},
		"release what goes on":    {State{Phase: Soaking}, ActionRelease, "ines", Soaking, "not held"},
		"again":                   {State{Phase: PhaseHeld}, ActionAgain, "ines", Patching, ""},
		"again what goes on":      {State{Phase: Patching}, ActionAgain, "ines", Patching, "not held"},
		"revert":                  {State{Phase: Patching}, ActionRevert, "ines", Reverting, ""},
		"revert what is reverted": {State{Phase: Reverting}, ActionRevert, "ines", Reverting, "reverting"},
		"revert what is not yet":  {State{Phase: Asking}, ActionRevert, "ines", Asking, "asking"},
		"cancel":                  {State{Phase: Soaking}, ActionCancel, "ines", Cancelled, ""},
		"after it is over":        {State{Phase: Done}, ActionCancel, "ines", Done, "is over"},
		"guess":                   {State{Phase: Patching}, "guess", "ines", Patching, "agree, pause"},
	} {
		s := c.state
		s.Rings = rings()
		err := Rollout{Rings: []Ring{{}, {}}}.Do(&s, c.action, c.by, "robin", now)
		if s.Phase != c.want || (err == nil) != (c.why == "") || err != nil && !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: %s, %v", name, s.Phase, err)
		}
	}
	// A ring that was taken back is not released, and where nothing was installed nothing is taken back.
	s := State{Phase: PhaseHeld, Rings: []RingState{{Devices: 1, Job: "a", Reverted: true}}}
	if err := (Rollout{}).Do(&s, ActionRelease, "ines", "robin", now); err == nil || !strings.Contains(err.Error(), "taken back") {
		t.Error(err)
	}
	if err := (Rollout{}).Do(&s, ActionRevert, "ines", "robin", now); err == nil || !strings.Contains(err.Error(), "nothing to take back") {
		t.Error(err)
	}
	s = State{Phase: Patching, Rings: []RingState{{Devices: 1}}}
	if err := (Rollout{}).Do(&s, ActionRevert, "ines", "robin", now); err == nil {
		t.Error("what was not installed is taken back")
	}
	// What is held by its gate goes back by itself where it is to.
	s = State{Phase: Soaking, Rings: rings()}
	Rollout{Gate: Gate{Rollback: true}}.Judged(&s, Verdict{Why: "Two of two failed."})
	if s.Phase != Reverting || s.Why == "" {
		t.Errorf("%+v", s)
	}
	// An urgent one, agreed to, watches no ring; a rollout that has no ring left is over, once.
	s = State{Phase: Patching, Agreed: "ines", Rings: []RingState{{Devices: 1, Job: "a"}}}
	urgent := Rollout{Urgent: true, Rings: []Ring{{SoakMinutes: 60}}}
	if do := next(urgent, &s, Runs{1, 1, 0}, now); do != DoJudge {
		t.Errorf("%q, %+v", do, s)
	}
	s.At = 1
	if first, then := next(urgent, &s, Runs{}, now), next(urgent, &s, Runs{}, now); first != DoFinish || then != DoNothing ||
		s.Phase != Done {
		t.Errorf("%q, then %q", first, then)
	}
}
