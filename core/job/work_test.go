package job

import (
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/pack"
	"moorwatch.example/core/script"
	"moorwatch.example/core/work"
)

func TestWorkSays(t *testing.T) {
	step := work.Step{Do: work.Run, Argv: []string{"true"}, Seconds: 30}
	p := pack.Package{Name: "marks", Version: "1.0", Systems: []string{"linux"}, Install: []work.Step{step}}
	removable := p
	removable.Remove = []work.Step{step, step}
	none := func(string) (pack.Package, bool) { return pack.Package{}, false }
	install, err := OfPackage(p, false, none)
	if err != nil {
		t.Fatal(err)
	}
	remove, err := OfPackage(removable, true, none)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := OfPackage(p, true, none); err == nil || !strings.Contains(err.Error(), "does not say how it is removed") {
		t.Errorf("%v", err)
	}
	run := OfScript(script.Script{Name: "Date", Interpreter: "bash", Systems: []string{"linux"}, Seconds: 90}, 3)
	for name, c := range map[string]struct {
		w       Work
		says    string
		linux   bool
		windows string // why not
		seconds int
	}{
		"a script":  {run, "Date", true, "the script is not for windows", 90},
		"installed": {install, "install marks 1.0", true, "the package marks is not for windows", 60},
		"removed":   {remove, "remove marks", true, "the package marks is not for windows", 60},
		"steps":     {OfSteps("Restart", step, step), "Restart", true, "", 60},
		"parts": {OfParts("November", pack.Part{Package: p, Having: &pack.There{}},
			pack.Part{Package: pack.Package{Install: []work.Step{step}}}),
			"November", true, "", 60},
	} {
		if got := c.w.String(); got != c.says {
			t.Errorf("%s: %q", name, got)
		}
		if ok, _ := c.w.Fits("linux"); ok != c.linux {
			t.Errorf("%s fits linux: %v", name, ok)
		}
		if ok, why := c.w.Fits("windows"); ok != (c.windows == "") || !ok && why != c.windows {
			t.Errorf("%s fits windows: %v, %q", name, ok, why)
		}
		if got := c.w.Seconds(); got != c.seconds {
			t.Errorf("%s: %d s", name, got)
		}
	}
	if run.Version != "3" || run.Action != RunIt || run.Files() != nil {
		t.Errorf("%+v", run)
	}
}

// Each state is over or not, and bad or not, and counts add them up.
func TestStates(t *testing.T) {
	all := Counts{Waiting: 1, Sent: 2, Succeeded: 4, Failed: 8, TimedOut: 16, Interrupted: 32, Missed: 64, Cancelled: 128, Unfit: 256}
	if all.Over() != 4+8+16+32+64+128+256 || all.Bad() != 8+16+32 {
		t.Errorf("%d are over, %d bad", all.Over(), all.Bad())
	}
	for s := range all {
		if s.Bad() && !s.Over() {
			t.Errorf("%s is bad, and not over", s)
		}
	}
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	if CheckBegin(now.Add(MostAhead), now) != nil || CheckBegin(now.Add(MostAhead+1), now) == nil ||
		CheckBegin(now.Add(-time.Hour), now) != nil {
		t.Error("a job begins in the wrong year")
	}
	if at := (When{}).Next(now, time.UTC); !at.IsZero() {
		t.Errorf("what does not recur comes at %s", at)
	}
	daily := When{Rule: "FREQ=DAILY", Start: "2026-11-01T07:00"}
	if at := daily.Next(now, time.UTC); !at.Equal(now.Add(23 * time.Hour)) {
		t.Errorf("it comes at %s", at)
	}
	if at := daily.Last(now.Add(-2*time.Hour), now, time.UTC); !at.Equal(now.Add(-time.Hour)) {
		t.Errorf("it came at %s", at)
	}
	if at := daily.Last(now.Add(-time.Minute), now, time.UTC); !at.IsZero() {
		t.Errorf("it came before it was begun, at %s", at)
	}
	if at := (When{Rule: "FREQ=DAILY", Start: "2027-01-01T07:00"}).Last(now, now, time.UTC); !at.IsZero() {
		t.Errorf("it came before its start, at %s", at)
	}
}
