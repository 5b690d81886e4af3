package pack

import (
	"slices"
	"strings"
	"testing"

	"moorwatch.example/core/work"
)

func TestPackagesThatCannotBe(t *testing.T) {
	digest := strings.Repeat("ab", 32)
	good := func() Package {
		return Package{Name: "marks", Version: "1.0", Files: []File{{Name: "marks.deb", SHA256: digest, Size: 9}},
			There:   There{Condition: work.Condition{Kind: work.OfFile, Of: "/etc/marks"}, Pattern: "v([0-9]+)"},
			Install: []work.Step{{Do: work.Install, File: "marks.deb"}}, Remove: []work.Step{{Do: work.Uninstall, Name: "marks"}}}
	}
	if err := good().Validate(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(p *Package){
		"give the package a name": func(p *Package) { p.Name = " " },
		"version":                 func(p *Package) { p.Version = "-" },
		"description":             func(p *Package) { p.Description = strings.Repeat("x", maxText+1) },
		"at most 10":              func(p *Package) { p.Files = slices.Repeat(p.Files, MaxFiles+1) },
		"others":                  func(p *Package) { p.Needs = slices.Repeat([]string{"a"}, maxOthers+1) },
		"itself":                  func(p *Package) { p.Replaces = []string{"marks"} },
		"system":                  func(p *Package) { p.Systems = []string{"beos"} },
		"no name of a file":       func(p *Package) { p.Files[0].Name = "../x" },
		"twice":                   func(p *Package) { p.Files = append(p.Files, p.Files[0]) },
		"no SHA-256":              func(p *Package) { p.Files[0].SHA256 = "ab" },
		"a size of":               func(p *Package) { p.Files[0].Size = -1 },
		"there: ":                 func(p *Package) { p.There.Kind = "feeling" },
		"not that it is not":      func(p *Package) { p.There.Not = true },
		"one group":               func(p *Package) { p.There.Pattern = "v[0-9]+" },
		"there: pattern":          func(p *Package) { p.There.Pattern = "(" },
		"install: ":               func(p *Package) { p.Install = nil },
		"remove: ":                func(p *Package) { p.Remove = []work.Step{{Do: "guess"}} },
	} {
		p := good()
		if change(&p); p.Validate() == nil || !strings.Contains(p.Validate().Error(), strings.Replace(want, "at most 10", "at most", 1)) {
			t.Errorf("%s: %v", want, p.Validate())
		}
	}
	p := good()
	if one := (Part{Package: p}); len(one.Steps()) != 1 || one.Steps()[0].Do != work.Install {
		t.Errorf("%+v", one.Steps())
	}
	if one := (Part{Package: p, Remove: true}); one.Steps()[0].Do != work.Uninstall {
		t.Errorf("%+v", one.Steps())
	}
	text, err := p.File()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := Parse(text); err != nil || again.Name != p.Name || again.There.Pattern != p.There.Pattern ||
		again.Install[0].File != "marks.deb" {
		t.Errorf("%+v, %v", again, err)
	}
}

// The quick digest is BLAKE3 of 256 bits: its authors' own test vectors.
func TestQuick(t *testing.T) {
	q := NewQuick()
	if got := q.String(); got != "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262" {
		t.Errorf("of nothing: %s", got)
	}
	q.Write([]byte{0})
	q.Write([]byte{1})
	if got := q.String(); got != "7b7015bb92cf0b318037702a6cdd81dee41224f734684c2c122cd6359cb1ee63" {
		t.Errorf("of two bytes: %s", got)
	}
}
