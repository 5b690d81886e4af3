package transfer

import (
	"strings"
	"testing"
	"time"
)

func TestCheckName(t *testing.T) {
	for name, c := range map[string]struct{ elsewhere, windows string }{
		"report.pdf": {}, "naïve €.txt": {}, "COM": {}, "console": {}, ".profile": {},
		"":         {"no name", "no name"},
		".":        {"no name", "no name"},
		"..":       {"no name", "no name"},
		"a/b":      {"slash", "slash"},
		"a\x00b":   {"slash", "slash"},
		"con":      {"", "device"},
		"NUL.txt":  {"", "device"},
		"lpt1.a.b": {"", "device"},
		"COM²":     {"", "device"},
		"aux .txt": {"", "device"},
		"a:b":      {"", "none of"},
		"a\tb":     {"", "none of"},
		`a\b`:      {"", "none of"},
		"what?":    {"", "none of"},
		"end.":     {"", "at the end"},
		"end ":     {"", "at the end"},

		strings.Repeat("x", 256): {"at most 255", "at most 255"},
		strings.Repeat("x", 255): {},
	} {
		for windows, want := range map[bool]string{false: c.elsewhere, true: c.windows} {
			if err := CheckName(name, windows); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
				t.Errorf("%.20q, windows %v: %v", name, windows, err)
			}
		}
	}
}

// What was allowed and did not leave, or will never arrive, no longer counts as under way.
func TestPacerLetsGo(t *testing.T) {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	for name, away := range map[string]func(p *Pacer, n int){"spare": (*Pacer).Spare, "lost": (*Pacer).Lost} {
		var p Pacer
		allowed := 0
		for range 10_000 {
			ok, wait := p.Allow(1<<10, now)
			if !ok {
				if wait < 0 {
					t.Fatalf("%s: it waits for %s", name, wait)
				}
				break
			}
			allowed += 1 << 10
		}
		if allowed == 0 || allowed >= 10_000<<10 {
			t.Fatalf("%s: %d bytes are allowed at once", name, allowed)
		}
		away(&p, allowed)
		if ok, _ := p.Allow(1<<10, now.Add(time.Minute)); !ok {
			t.Errorf("%s: nothing is under way, and nothing is allowed", name)
		}
	}
}
