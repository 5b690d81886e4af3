package selector

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"time"
)

var xray = &Subject{Name: "sal-xray", Organisation: "Sallowbrook Vets", OS: "windows", Online: true, Cores: 12, MemoryGiB: 64, Disk: 91.5,
	Tags: []string{"loan"}, Software: installed{"curl": "8.5"}, Readings: read{"log-on": 71}, Kernel: "10.0",
	People: []string{"Nell Harrow"}, LastPeople: []string{"Nell Harrow"},
	Addresses: []string{"198.51.100.16"}, Since: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)}

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

type installed map[string]string

func (i installed) Version(name string) (string, bool) { v, ok := i[name]; return v, ok }
func (i installed) Names() []string                    { return slices.Sorted(maps.Keys(i)) }

type read map[string]float64

func (r read) Value(name string) (float64, bool) { v, ok := r[name]; return v, ok }
func (r read) Names() []string                   { return slices.Sorted(maps.Keys(r)) }

func TestMatch(t *testing.T) {
	for expression, want := range map[string]bool{
		`os == "windows" && disk > 90`: true,
		`disk > 90.5 && cores >= 12`:   true,
		`!online`:                      false,
		`"loan" in tags`:               true,
		`"curl" in software && software["curl"].startsWith("8.")`: true,
		`readings["log-on"] > 60 && kernel == "10.0"`:             true,
		`"fan rear" in readings && readings["fan rear"] < 200.0`:  false,
		`readings.exists(r, r.startsWith("log"))`:                 true,
		`"wget" in software`:                                      false,
		`software.exists(n, n.startsWith("cu"))`:                  true,
		`size(software) == 1`:                                     true,
		`"Nell Harrow" in last_people && !("Kiosks" in groups)`:   true,
		`text.contains("harrow") && text.contains("sal-xray")`:    true,
		`text.contains("nobody")`:                                 false,
		`since < now - duration("24h")`:                           true,
		`name.startsWith("sal-")`:                                 true,
		`name.matches("^sal-x.*y$")`:                              true,
		`"Nell Harrow" in people`:                                 true,
		`addresses.exists(a, a.startsWith("203.0.113."))`:         false,
		`since < timestamp("2026-11-02T00:00:00Z")`:               true,
		`name.lowerAscii().contains("XRAY".lowerAscii())`:         true,
		`organisation == "Sallowbrook Vets" || serial==""`:        true,
	} {
		s, err := Compile(expression)
		if err != nil {
			t.Errorf("%s: %v", expression, err)
			continue
		}
		if got, err := s.Match(xray, now); err != nil || got != want {
			t.Errorf("%s gives %t, %v", expression, got, err)
		}
	}
}

// The expression of a group asks for no groups, which would depend on each other.
func TestCompileGroup(t *testing.T) {
	for expression, fits := range map[string]bool{`os == "linux"`: true, `"Kiosks" in groups`: false, `size(groups) > 0`: false,
		`text.contains("kiosk")`: false, `groups`: false, `os ==`: false} {
		if match, err := CompileGroup(expression); (err == nil) != fits || (match != nil) != fits {
			t.Errorf("%s: %v", expression, err)
		}
	}
}

func TestCompileRefuses(t *testing.T) {
	for expression, want := range map[string]string{
		"disk >":                       "Syntax error",
		"colour == 'red'":              "undeclared reference",
		"disk":                         "must give true or false",
		"name > 3":                     "no matching overload",
		strings.Repeat("a", 5000):      "at most 4096",
		"":                             "Syntax error",
		"online && nosuch(name, name)": "undeclared reference",
	} {
		if _, err := Compile(expression); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q gives %v, want %q in it", expression, err, want)
		}
	}
}

// An expression whose work grows without measure is cut off, not carried out.
func TestCostIsBounded(t *testing.T) {
	s, err := Compile(`people.all(a, people.all(b, people.all(c, people.all(d, a + b + c + d != name))))`)
	if err != nil {
		t.Fatal(err)
	}
	many := *xray
	many.People = make([]string, 200)
	began := time.Now()
	if _, err := s.Match(&many, now); err == nil || !strings.Contains(err.Error(), "cost") {
		t.Errorf("200⁴ steps give %v", err)
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("it took %s to give up", took)
	}
}

func FuzzCompile(f *testing.F) {
	f.Add(`os == "linux" && disk > 90`)
	f.Fuzz(func(t *testing.T, expression string) {
		if s, err := Compile(expression); err == nil {
			s.Match(xray, now)
		}
	})
}
