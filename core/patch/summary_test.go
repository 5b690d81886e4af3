package patch

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/health"
	"moorwatch.example/core/report"
	"moorwatch.example/core/update"
)

func TestTally(t *testing.T) {
	at := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	ago := func(days int) time.Time { return at.AddDate(0, 0, -days) }
	missing := func(all ...update.Update) func(func(*update.Update, time.Time) bool) {
		return func(yield func(*update.Update, time.Time) bool) {
			for i := range all {
				if !yield(&all[i], ago(10)) {
					return
				}
			}
		}
	}
	var tally Tally
	if !math.IsNaN(tally.Share()) {
		t.Error("no device has a share")
	}
	tally.Count(missing(), false, at)
	tally.Count(missing(update.Update{Class: update.Feature, Released: ago(99)}), false, at)
	tally.Count(missing(update.Update{Class: update.Security, Severity: "high", Released: ago(-1)}), false, at) // which was to come
	tally.Count(missing(update.Update{Class: update.Security, Severity: "high", Released: ago(3)},
		update.Update{Class: update.Security, Severity: "low"}), true, at) // seen ten days ago
	tally.Count(missing(update.Update{Class: update.Security, Severity: "critical", Released: ago(31)},
		update.Update{Class: update.Security, Severity: "critical", Released: ago(100)}), false, at)
	want := Tally{Devices: 5, Current: 3, Late: 1, Exploited: 1, Missing: 4}
	grid := map[update.Severity][4]int{"high": {1, 0, 0, 0}, "low": {0, 1, 0, 0}, "critical": {0, 0, 1, 1}}
	same := func(a Tally) bool {
		return a.Devices == want.Devices && a.Current == want.Current && a.Late == want.Late && a.Exploited == want.Exploited &&
			a.Missing == want.Missing
	}
	if !same(tally) || tally.Share() != 60 {
		t.Errorf("%+v", tally)
	}
	for s, row := range grid {
		if tally.Grid[s] != row {
			t.Errorf("%s: %v", s, tally.Grid[s])
		}
	}
	var both Tally
	both.Merge(tally)
	both.Merge(Tally{})
	if !same(both) || both.Grid["critical"] != grid["critical"] {
		t.Errorf("%+v", both)
	}
	both.Merge(tally)
	if both.Devices != 10 || both.Grid["critical"] != [4]int{0, 0, 2, 2} {
		t.Errorf("%+v", both)
	}
}

// cells are all texts of a table.
func cells(t *report.Table) string {
	var b strings.Builder
	for _, row := range t.Rows {
		b.WriteString(strings.Join(row, " | ") + "\n")
	}
	return b.String()
}

func TestSummary(t *testing.T) {
	day := time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)
	s := Summary{About: "Larkmoor Libraries", From: day.AddDate(0, 0, -30), To: day, Maker: "Moorwatch",
		Now: Tally{Devices: 4, Current: 2, Late: 1, Exploited: 1, Missing: 3,
			Grid: map[update.Severity][4]int{"high": {1, 0, 1, 0}, "": {0, 0, 0, 1}}},
		Days: []DayTally{{Day: day.AddDate(0, 0, -2)}, {Day: day.AddDate(0, 0, -1), Tally: Tally{Devices: 4, Current: 1, Late: 2}},
			{Day: day, Tally: Tally{Devices: 4, Current: 2, Late: 1}}},
		Sites: []NamedTally{{"Haywater branch", Tally{Devices: 2, Current: 2}}, {"Gorse Hill", Tally{Devices: 2, Missing: 3}}},
		Rings: []NamedTally{{"first", Tally{Devices: 1, Current: 1}}, {"", Tally{Devices: 9}}},
		Rollouts: []Outcome{{Name: "November", Begun: day.AddDate(0, 0, -3), Phase: PhaseHeld, Why: "held now",
			Devices: map[string]int{"patched": 2, "failed": 1},
			Held:    []string{"One of three failed."}, Without: []string{"moss-tools"}},
			{Name: "Odd", Phase: "waiting for tea", Why: "It rained."}},
		Installed: []Installed{{"heathssl", "1.1", map[string]int{"installed": 2, "failed": 1}}},
		Behind: []Behind{{Device: "gor-kiosk", Site: "Gorse Hill",
			Exposure: Exposure{Security: 3, Worst: "high", Oldest: day.AddDate(0, 0, -40)}, Exploited: 1},
			{Device: "gor-desk-01", Site: "Gorse Hill"}},
		Exploited: []Attacked{{"M-1", "heathssl reads too far", "heathssl 1.0", 2, ""},
			{"M-2", "boards start anything", "fell 2", 1, "fell 3"}},
		Rules: []Rule{{Name: "Drivers", Do: Hold, Reason: "Black screens.", Classes: []update.Class{update.Driver},
			Until: day.AddDate(0, 1, 0),
			Scope: health.Scope{Kind: health.Everywhere}}, {Name: "Old", Do: Exclude, Reason: "Never."}},
	}
	d := s.Document()
	if d.Title != "Updates: Larkmoor Libraries" || d.Subtitle != "31 October to 30 November 2026" || len(d.Parts) != 8 {
		t.Fatalf("%q, %q, %d parts", d.Title, d.Subtitle, len(d.Parts))
	}
	if f := d.Parts[0].Figures; f[0].Value != "50 %" || f[0].Tone != report.Bad || f[1].Value != "2" || f[2].Value != "1" ||
		f[3].Tone != report.Bad {
		t.Errorf("%+v", f)
	}
	if w := strings.Join(d.Parts[0].Words, " "); !strings.Contains(w, "On 29 November it was 25 % of the devices; it is 50 % now.") {
		t.Error(w)
	}
	charts := d.Parts[1].Charts
	if len(charts) != 2 || !math.IsNaN(charts[0].Series[0].Values[0]) || charts[0].Series[1].Values[1] != 50 ||
		charts[1].Series[0].Values[2] != 1 ||
		charts[1].Series[2].Values[3] != 1 || !strings.Contains(charts[0].About, "from – to 50 %") {
		t.Errorf("%+v", charts)
	}
	for i, want := range map[int][]string{
		2: {"Gorse Hill | 2 | 0 | 0 % | 0 | 3\n", "Ring: first | 1 | 1 | 100 % | 0 | 0\n"},
		3: {"November | 27 Nov 00:00 | is held | 2 patched, 1 failed | Held: One of three failed. It went on without moss-tools.\n",
			"waiting for tea |  | It rained."},
		4: {"heathssl | 1.1 | 2 | 1 | 0\n"},
		5: {"heathssl reads too far (M-1) | heathssl 1.0 | 2 | no update is offered\n", "| 1 | fell 3\n"},
		6: {"gor-kiosk | Gorse Hill | 3, the worst high | 40 days | 1\n", "gor-desk-01 | Gorse Hill | 0 | – | 0\n"},
		7: {"Drivers | holds | driver | Black screens. | 30 December 2026\n", "Old | excludes | all | Never. | further notice\n"},
	} {
		for _, text := range want {
			if got := cells(d.Parts[i].Table); !strings.Contains(got, text) {
				t.Errorf("part %d lacks %q:\n%s", i, text, got)
			}
		}
	}
	if got := cells(d.Parts[2].Table); strings.Index(got, "Gorse") > strings.Index(got, "Haywater") || strings.Contains(got, "9") {
		t.Errorf("the least current is not first, or a ring without a name is listed:\n%s", got)
	}
	for _, want := range []string{"Updates of Larkmoor Libraries, 31 October to 30 November 2026.", "50 % of 4 devices",
		`The rollout "November" was held: One of three failed.`} {
		if !strings.Contains(s.Letter(), want) {
			t.Errorf("the letter lacks %q:\n%s", want, s.Letter())
		}
	}
}

// A report on nothing says so, and one on much says how much it leaves out.
func TestSummaryOfNothingAndOfMuch(t *testing.T) {
	day := time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)
	empty := Summary{About: "all", From: day, To: day}
	d := empty.Document()
	if f := d.Parts[0].Figures[0]; f.Value != "–" || f.Tone != report.Plain || len(d.Parts[0].Words) != 0 || len(d.Parts[1].Charts) != 0 ||
		len(d.Parts[1].Words) != 1 {
		t.Errorf("%+v, %+v", d.Parts[0], d.Parts[1])
	}
	for i, p := range d.Parts {
		if p.Table != nil && (len(p.Table.Rows) != 0 || p.Table.None == "") {
			t.Errorf("part %d: %+v", i, p.Table)
		}
	}
	much := empty
	much.Behind, much.Rules = slices.Repeat([]Behind{{Device: "d"}}, 20), slices.Repeat([]Rule{{Name: "r"}}, 50)
	much.Rollouts, much.Installed, much.Exploited = make([]Outcome, 41), make([]Installed, 42), make([]Attacked, 43)
	more := map[int]int{3: 1, 4: 2, 5: 3, 6: 20 - mostBehind, 7: 10}
	for i, p := range much.Document().Parts {
		if p.Table != nil && p.Table.More != more[i] {
			t.Errorf("part %d leaves out %d, and not %d", i, p.Table.More, more[i])
		}
	}
	for _, c := range []struct {
		was, is int
		tone    report.Tone
		words   string
	}{{95, 95, report.Good, "As many devices are current as on 29 November."}, {70, 95, report.Good, "it is 95 % now."},
		{95, 70, report.Fair, "updates came out faster"}, {70, 20, report.Bad, "updates came out faster"}} {
		s := Summary{Now: Tally{Devices: 100, Current: c.is},
			Days: []DayTally{{Day: day.AddDate(0, 0, -1), Tally: Tally{Devices: 100, Current: c.was}}}}
		p := s.Document().Parts[0]
		if p.Figures[0].Tone != c.tone || !strings.Contains(strings.Join(p.Words, " "), c.words) {
			t.Errorf("%d, then %d: %v, %q", c.was, c.is, p.Figures[0].Tone, p.Words)
		}
	}
}

func TestOutcome(t *testing.T) {
	no := func(why string) *Verdict { return &Verdict{Why: why} }
	s := State{Phase: Done, Rings: []RingState{{Past: []Past{{Verdict: no("first")}, {}}, Verdict: no("second")},
		{Verdict: &Verdict{Go: true, Why: "fine"}}}}
	o := s.Outcome(Rollout{Name: "November", Without: []string{"a"}}, Outcome{Devices: map[string]int{"patched": 1}})
	if o.Name != "November" || o.Phase != Done || !slices.Equal(o.Held, []string{"first", "second"}) ||
		!slices.Equal(o.Without, []string{"a"}) || o.Devices["patched"] != 1 {
		t.Errorf("%+v", o)
	}
}
