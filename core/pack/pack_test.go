package pack

import (
	"reflect"
	"strings"
	"testing"

	"moorwatch.example/core/work"
)

const screen = `package: Catalogue Screen
version: "2.1"
systems: [linux]
files:
- {name: catalogue.deb, sha256: aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa, size: 7}
there: {kind: software, of: catalogue-screen}
needs: [Fonts]
install:
- {do: install, file: catalogue.deb, on_error: undo}
- do: script
  interpreter: sh
  body: |
    set -e
    echo "hello: world"
remove:
- {do: uninstall, name: catalogue-screen}
`

func TestParse(t *testing.T) {
	p, err := Parse([]byte(screen))
	if err != nil {
		t.Fatal(err)
	}
	file, err := p.File()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse(file)
	if err != nil || !reflect.DeepEqual(p, again) {
		t.Errorf("%v\n%s\n%+v\n%+v", err, file, p, again)
	}
	if p.Install[1].Body != "set -e\necho \"hello: world\"\n" || p.There.Of != "catalogue-screen" || !p.Fits("linux") || p.Fits("windows") {
		t.Errorf("%+v", p)
	}
	for words, change := range map[string][2]string{
		"give the package a name": {"package: Catalogue Screen", `package: " "`},
		"the version":             {`version: "2.1"`, `version: "a b"`},
		"a system is":             {"[linux]", "[beos]"},
		"is no name of a file":    {"{name: catalogue.deb", `{name: "../x.deb"`},
		"no SHA-256":              {strings.Repeat("a", 64), "abc"},
		"0 to":                    {"size: 7", "size: -7"},
		"install: step 1":         {"do: install, file", "do: copy, file"},
		"remove: step 1":          {"name: catalogue-screen}\n", "name: \"\"}\n"},
		"needs and replaces":      {"needs: [Fonts]", "needs: [" + strings.Repeat("x, ", 40) + "y]"},
		"neither needs":           {"needs: [Fonts]", "needs: [Catalogue Screen]"},
		"cannot be read":          {"needs:", "wants:"},
		"there:":                  {"kind: software, of: catalogue-screen", "kind: luck"},
		"pattern is":              {"of: catalogue-screen}", "of: catalogue-screen, pattern: '(x)'}"},
	} {
		if _, err := Parse([]byte(strings.Replace(screen, change[0], change[1], 1))); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", words, err)
		}
	}
	if _, err := Parse(make([]byte, MaxBytes+1)); err == nil {
		t.Error("a file too large is taken")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(screen))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		file, err := p.File()
		if err != nil {
			t.Fatal(err)
		}
		if again, err := Parse(file); err != nil || !reflect.DeepEqual(p.Install, again.Install) {
			t.Errorf("%v\n%s", err, file)
		}
	})
}

// What a package needs comes before it, once, and what it replaces is removed before that; circles and
// what is missing are told.
func TestPlan(t *testing.T) {
	step := []work.Step{{Do: work.Restart}}
	library := map[string]Package{}
	add := func(name string, remove bool, replaces string, needs ...string) Package {
		p := Package{Name: name, Needs: needs, Install: step}
		if replaces != "" {
			p.Replaces = []string{replaces}
		}
		if remove {
			p.Remove = step
		}
		library[name] = p
		return p
	}
	find := func(name string) (Package, bool) { p, ok := library[name]; return p, ok }
	add("Fonts", true, "")
	add("Old", true, "")
	add("Runtime", true, "", "Fonts")
	app := add("App", true, "Old", "Runtime", "Fonts")
	parts, err := Plan(app, find)
	var got []string
	for _, p := range parts {
		name := p.Package.Name
		if p.Remove {
			name = "-" + name
		}
		got = append(got, name)
	}
	if err != nil || strings.Join(got, " ") != "-Old Fonts Runtime App" {
		t.Errorf("%v, %v", got, err)
	}
	for words, p := range map[string]Package{"does not have": add("Lonely", true, "", "Nowhere"), "circle": add("Snake", true, "", "Tail"),
		"does not say how": add("Usurper", true, "Stone")} {
		add("Tail", true, "", "Snake")
		add("Stone", false, "")
		if _, err := Plan(p, find); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", words, err)
		}
	}
}
