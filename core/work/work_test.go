package work

import (
	"math/rand/v2"
	"strings"
	"testing"
)

func TestStepsRefused(t *testing.T) {
	good := map[string]Step{
		"run": {Do: Run, Argv: []string{"true"}}, "script": {Do: Script, Interpreter: "sh", Body: "true\n"},
		"copy":    {Do: Copy, File: "a.conf", To: "/etc/a.conf"},
		"install": {Do: Install, File: "a.conf"}, "uninstall": {Do: Uninstall, Name: "a"},
		"edit": {Do: Edit, Path: `C:\a\b.ini`, Find: "^x=", Line: "x=1"}, "set": {Do: Set, Path: "kernel/vm/swappiness", Value: "10"},
		"service": {Do: Service, Name: "cron", Action: "restart"}, "delete": {Do: Delete, Path: "/var/tmp/x"}, "restart": {Do: Restart},
		"wait":          {Do: Wait, Seconds: 5, If: []Condition{{Kind: OfService, Of: "cron"}, {Kind: OfRestart, Not: true}}},
		"check updates": {Do: CheckUpdates}, "refresh": {Do: Refresh}, "fetch": {Do: Fetch, Updates: []Version{{"apt", "tarnlib", "1.1"}}},
		"update": {Do: Update, Updates: []Version{{"windows", "Cumulative update", "2026-11"}}},
		"back":   {Do: Back, Updates: []Version{{"apt", "tarnlib", "1.0"}}},
	}
	if len(good) != len(Kinds) {
		t.Errorf("%d kinds of %d are tried", len(good), len(Kinds))
	}
	for name, s := range good {
		if err := Validate([]Step{s}, []string{"a.conf"}); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if s.Heading() == "" {
			t.Errorf("%s has no heading", name)
		}
	}
	for words, s := range map[string]Step{
		"one of run":          {Do: "hope"},
		"on_error":            {Do: Restart, OnError: "cry"},
		"time limit":          {Do: Restart, Seconds: -1},
		"argv":                {Do: Run},
		"no interpreter":      {Do: Script, Interpreter: "cobol", Body: "x"},
		"script's lines":      {Do: Script, Interpreter: "sh"},
		"file of the package": {Do: Install, File: "b.deb"},
		"no whole path":       {Do: Copy, File: "a.conf", To: "etc/a.conf"},
		"is no whole":         {Do: Delete, Path: "/var/../etc"},
		"top of a disk":       {Do: Delete, Path: "/etc"},
		"regular expression":  {Do: Edit, Path: "/etc/a", Find: "["},
		"one line":            {Do: Edit, Path: "/etc/a", Find: "a", Line: "a\nb"},
		"which setting":       {Do: Set},
		"which service":       {Do: Service, Name: "cron", Action: "annoy"},
		"for how long":        {Do: Wait},
		"names 1 to":          {Do: Update},
		"\"--force\" is no":   {Do: Update, Updates: []Version{{"apt", "--force", "1"}}},
		"\"a b\" is no":       {Do: Back, Updates: []Version{{"apt", "a b", "1"}}},
		"NUL":                 {Do: Uninstall, Name: "a\x00b"},
		"does not say of":     {Do: Restart, If: []Condition{{Kind: OfFile}}},
		"number of MiB":       {Do: Restart, If: []Condition{{Kind: OfSpace, Of: "/", Is: "much"}}},
		"a system is":         {Do: Restart, If: []Condition{{Kind: OfSystem, Is: "plan9"}}},
	} {
		if err := Validate([]Step{s}, []string{"a.conf"}); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", words, err)
		}
	}
	if Validate(nil, nil) == nil || Validate(make([]Step, MaxSteps+1), nil) == nil {
		t.Error("no steps, and too many, are taken")
	}
}

// Steps are done in order; one that fails stops, is skipped, or has all before it undone, the last first.
func TestProgress(t *testing.T) {
	for name, c := range map[string]struct {
		onError string
		fails   int // which step; -1 for none
		want    string
	}{
		"all well": {"", -1, "do0 do1 do2 | done done done"}, "it stops": {OnStop, 1, "do0 do1 | done failed"},
		"it goes on": {OnContinue, 1, "do0 do1 do2 | done failed done"},
		"it undoes":  {OnUndo, 2, "do0 do1 do2 undo1 undo0 | undone undone failed"},
	} {
		steps := []Step{{Do: Run}, {Do: Run}, {Do: Run}}
		for i := range steps {
			steps[i].OnError = c.onError
		}
		var progress Progress
		var did []string
		for {
			m, ok := progress.Next(steps)
			if !ok {
				break
			}
			if m.Undo {
				did = append(did, "undo"+string(rune('0'+m.Step)))
				progress.Undid(m.Step, "")
				continue
			}
			did = append(did, "do"+string(rune('0'+m.Step)))
			progress.Begin()
			if m.Step == c.fails {
				progress.End(steps, Failed, "x", "it broke")
			} else {
				progress.End(steps, Done, "x", "")
			}
		}
		did = append(did, "|")
		for _, e := range progress.Ends {
			did = append(did, string(e))
		}
		if got := strings.Join(did, " "); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
		if bad := c.fails >= 0; (progress.Bad > 0) != bad || (progress.Why != "") != bad {
			t.Errorf("%s: %+v", name, progress)
		}
	}
}

// Whenever a device dies, a step that must not be done twice is done once at most, and all others are
// come to.
func TestResume(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		steps := make([]Step, 1+r.IntN(6))
		kinds := []string{Run, Copy, Restart, Service, Script}
		for i := range steps {
			steps[i] = Step{Do: kinds[r.IntN(len(kinds))], Repeatable: r.IntN(4) == 0, OnError: []string{"", OnContinue, OnUndo}[r.IntN(3)]}
		}
		var disk Progress // what is kept
		done := make([]int, len(steps))
		interrupted := false
		for deaths := 0; ; {
			progress := disk
			if deaths > 0 && !progress.Resume(steps) {
				interrupted = true
				break
			}
			disk = progress
			died := false
			for {
				m, ok := progress.Next(steps)
				if !ok {
					break
				}
				if m.Undo {
					progress.Undid(m.Step, "")
					disk = progress
					continue
				}
				progress.Begin()
				disk = progress
				disk.Ends, disk.Backs = append([]State(nil), progress.Ends...), append([]string(nil), progress.Backs...)
				if died = r.IntN(5) == 0 && deaths < 10; died && r.IntN(2) == 0 {
					break // before it had any effect
				}
				done[m.Step]++
				if died {
					break
				}
				progress.End(steps, []State{Done, Done, Failed}[r.IntN(3)], "", "why")
				disk = progress
			}
			if !died {
				break
			}
			deaths++
		}
		for i, n := range done {
			if n > 1 && !steps[i].Again() {
				t.Fatalf("seed %d: step %d of %+v was done %d times", seed, i, steps, n)
			}
		}
		if !interrupted && !disk.Undoing && disk.Bad == 0 && disk.At != len(steps) {
			t.Fatalf("seed %d: it ended at step %d of %d", seed, disk.At, len(steps))
		}
	}
}
