package session

import (
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/health"
)

func TestResolve(t *testing.T) {
	here := &health.Place{Device: "d", Site: "s", Organisation: "o", Groups: []string{"g"}}
	all := []Rule{
		{Scope: health.Scope{Kind: health.Everywhere}, Mode: Tell},
		{Scope: health.Scope{Kind: health.Everywhere}, Tool: "shell", Mode: Ask},
		{Scope: health.Scope{Kind: health.Site, ID: "s"}, Tool: "files", Mode: Ask, Seconds: 20},
		{Scope: health.Scope{Kind: health.Group, ID: "g"}, Mode: Silent, Seconds: 11},
		{Scope: health.Scope{Kind: health.Device, ID: "other"}, Mode: Ask},
	}
	for _, c := range []struct {
		rules []Rule
		tool  string
		mode  Mode
		wait  int
	}{
		{nil, "files", Silent, 0},
		{all[:1], "files", Tell, 0},
		{all[:2], "shell", Ask, 0},
		{all[:2], "files", Tell, 0},
		{all[:3], "files", Ask, 20},
		{all, "files", Silent, 11},
		{all[4:], "files", Silent, 0},
	} {
		if got := Resolve(c.rules, c.tool, here); got.Mode != c.mode || got.Seconds != c.wait {
			t.Errorf("%d rules, %s: %+v", len(c.rules), c.tool, got)
		}
	}
}

func TestConsent(t *testing.T) {
	someone, nobody, unknown := Present{Known: true, Someone: true}, Present{Known: true}, Present{}
	for _, c := range []struct {
		rule Rule
		at   Present
		want Step
	}{
		{Rule{Mode: Silent}, someone, Enter},
		{Rule{Mode: Tell}, someone, Enter},
		{Rule{Mode: Tell}, nobody, Enter},
		{Rule{Mode: Ask}, someone, AskNow},
		{Rule{Mode: Ask}, nobody, Refuse},
		{Rule{Mode: Ask}, unknown, Refuse},
		{Rule{Mode: Ask, Absent: true}, nobody, Enter},
		{Rule{Mode: Ask, Absent: true}, unknown, Enter},
		{Rule{Mode: Ask, Absent: true}, someone, AskNow},
	} {
		if got, why := Begin(c.rule, c.at); got != c.want || (got != AskNow) != (why != "") {
			t.Errorf("%+v at %+v: %s %q", c.rule, c.at, got, why)
		}
	}
	for _, c := range []struct {
		rule  Rule
		reply Reply
		want  bool
	}{
		{Rule{Mode: Ask}, Reply{Shown: true, Allowed: true}, true},
		{Rule{Mode: Ask, Unanswered: true, Absent: true}, Reply{Shown: true, Refused: true}, false},
		{Rule{Mode: Ask}, Reply{Shown: true}, false},
		{Rule{Mode: Ask, Unanswered: true}, Reply{Shown: true}, true},
		{Rule{Mode: Ask, Unanswered: true}, Reply{}, false},
		{Rule{Mode: Ask, Absent: true}, Reply{}, true},
	} {
		if ok, words := Decide(c.rule, c.reply); ok != c.want || words == "" {
			t.Errorf("%+v after %+v: %v %q", c.rule, c.reply, ok, words)
		}
	}
}

func TestRulesAreChecked(t *testing.T) {
	everywhere := health.Scope{Kind: health.Everywhere}
	for _, r := range []Rule{{}, {Scope: everywhere}, {Scope: everywhere, Mode: Ask, Tool: "no"},
		{Scope: everywhere, Mode: Ask, Seconds: 5}} {
		if r.Validate() == nil {
			t.Errorf("%+v is taken", r)
		}
	}
	if err := (Rule{Scope: everywhere, Mode: Ask, Tool: "files", Seconds: 30}).Validate(); err != nil {
		t.Error(err)
	}
}

// How long an answer is awaited and a recording kept, where nothing is said and where something is.
func TestRulesSayHowLong(t *testing.T) {
	if (Rule{}).Kept() != usualKept || (Rule{KeepDays: 9}).Kept() != 9 || (Rule{Seconds: 30}).Wait() != 30*time.Second ||
		(Rule{}).Wait() != usualWait*time.Second {
		t.Error("a rule keeps or waits too long")
	}
	good := func() Rule { return Rule{Scope: health.Scope{Kind: health.Everywhere}, Tool: "files", Mode: Ask} }
	if err := good().Validate(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(r *Rule){
		"the mode":    func(r *Rule) { r.Mode = "beg" },
		"is awaited":  func(r *Rule) { r.Seconds = 1 },
		"are kept":    func(r *Rule) { r.KeepDays = -1 },
		"kept for 1":  func(r *Rule) { r.KeepDays = mostKept + 1 },
		"no scope":    func(r *Rule) { r.Scope.Kind = "planet" },
		"there is no": func(r *Rule) { r.Tool = "crystal ball" },
	} {
		r := good()
		if change(&r); r.Validate() == nil || !strings.Contains(r.Validate().Error(), want) {
			t.Errorf("%s: %v", want, r.Validate())
		}
	}
}
