package update

import (
	"slices"
	"strings"
	"testing"
	"time"
)

func TestMending(t *testing.T) {
	for name, c := range map[string]struct {
		class      Class
		severity   Severity
		advisories []string
		severities []Severity
		exploited  bool
		want       Update
	}{
		"nothing": {Other, "low", nil, nil, false, Update{Class: Other, Severity: "low"}},
		"a weakness": {Other, "", []string{"M-1"}, []Severity{"high"}, false,
			Update{Class: Security, Severity: "high", Advisories: []string{"M-1"}}},
		"one that is lesser": {Security, "critical", []string{"M-1"}, []Severity{"low"}, true,
			Update{Class: Security, Severity: "critical", Advisories: []string{"M-1"}, Exploited: true}},
		"a driver stays one": {Driver, "", []string{"M-1"}, []Severity{""}, false, Update{Class: Driver, Advisories: []string{"M-1"}}},
		"the worst of several": {Feature, "medium", []string{"M-1", "M-2", "M-1"}, []Severity{"low", "critical", "high"}, false,
			Update{Class: Security, Severity: "critical", Advisories: []string{"M-1", "M-2"}}},
	} {
		u := Update{Class: c.class, Severity: c.severity}
		u.Mending(c.advisories, c.severities, c.exploited)
		if u.Class != c.want.Class || u.Severity != c.want.Severity || u.Exploited != c.want.Exploited ||
			!slices.Equal(u.Advisories, c.want.Advisories) {
			t.Errorf("%s: %+v", name, u)
		}
	}
	u := Update{}
	for i := range 2 * maxNames {
		u.Mending([]string{strings.Repeat("x", i+1)}, nil, false)
	}
	if len(u.Advisories) != maxNames {
		t.Errorf("%d advisories are kept", len(u.Advisories))
	}
}

// Of several versions the older tell which is newer, by the order of their source.
func TestReplace(t *testing.T) {
	all := []*Update{
		{Source: "apt", Name: "heathssl", To: "1.0~rc1"}, {Source: "apt", Name: "heathssl", To: "1.0"},
		{Source: "apt", Name: "heathssl", To: "1.0"},
		{Source: "dnf", Name: "heathssl", To: "1.10-1"}, {Source: "dnf", Name: "heathssl", To: "1.9-1"},
		{Source: "windows", Name: "KB1", To: "a"}, {Source: "windows", Name: "KB1", To: "b"},
		{Source: "apt", Name: "alone", To: "2"},
	}
	Replace(all)
	for i, want := range []string{"1.0", "", "", "", "1.10-1", "", "", ""} {
		if all[i].ReplacedBy != want {
			t.Errorf("%+v is replaced by %q, and not %q", all[i], all[i].ReplacedBy, want)
		}
	}
}

func TestSeveritiesRank(t *testing.T) {
	for s, want := range map[Severity]int{"critical": 4, "high": 3, "medium": 2, "low": 1, "": 0} {
		if s.Rank() != want {
			t.Errorf("%q ranks %d", s, s.Rank())
		}
	}
	u := Update{Source: "apt", Name: "a", To: "1"}
	if u.Ref() != (Ref{"apt", "a", "1"}) {
		t.Errorf("%+v", u.Ref())
	}
}

// What a device tells is made safe: nothing it says decides what is exploited or replaced.
func TestClean(t *testing.T) {
	at := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	long := strings.Repeat("x", 2*MaxText)
	out := Clean([]Update{
		{Source: "apt", Name: "b", To: "1", Class: "grave", Severity: "awful", Restart: "everything", Size: -5, Exploited: true,
			ReplacedBy: "9",
			Title:      "\x1b[2Jtitle\n" + long, Advisories: slices.Repeat([]string{long}, 2*maxNames), Released: at},
		{Source: "apt", Name: "", To: "1"}, {Source: "apt", Name: "x", To: ""}, {Source: "elsewhere", Name: "x", To: "1"},
		{Source: "apt", Name: "a", To: "1"}, {Source: "apt", Name: "a", To: "2", Restart: RestartDevice, Size: 1 << 50},
		{Source: "agent", Name: "z", To: "1", Class: Security, Severity: "high", Restart: RestartService},
	})
	if len(out) != 3 || out[0].Source != "agent" || out[1].Name != "a" || out[1].To != "2" || out[1].Size != 1<<40 ||
		out[1].Restart != RestartDevice {
		t.Fatalf("%+v", out)
	}
	b := out[2]
	if b.Class != Other || b.Severity != "" || b.Restart != "" || b.Size != 0 || b.Exploited || b.ReplacedBy != "" ||
		!b.Released.Equal(at) {
		t.Errorf("%+v", b)
	}
	if strings.ContainsAny(b.Title, "\x1b\n") || len(b.Title) > MaxText+3 || len(b.Advisories) != maxNames ||
		len(b.Advisories[0]) > maxNames+3 {
		t.Errorf("%q, %d advisories of %d", b.Title, len(b.Advisories), len(b.Advisories[0]))
	}
	many := make([]Update, MaxUpdates+10)
	for i := range many {
		many[i] = Update{Source: "apt", Name: strings.Repeat("n", i%200+1) + string(rune('a'+i%26)) + time.Duration(i).String(), To: "1"}
	}
	if n := len(Clean(many)); n != MaxUpdates {
		t.Errorf("%d are kept", n)
	}
}
