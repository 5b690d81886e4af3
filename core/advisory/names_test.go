package advisory

import (
	"strings"
	"testing"
	"time"
)

// The same package has the same key, however it is written.
func TestKeys(t *testing.T) {
	p, ok := Parse("pkg:pypi/Moss_Tools@1.0", "", "")
	a := Affected{Type: "pypi", Name: "moss.tools"}
	if !ok || p.Keys()[0] != a.Key() {
		t.Errorf("%v, and %q", p.Keys(), a.Key())
	}
	p, ok = Parse("pkg:deb/debian/libheath1@1.0?arch=amd64", "heath", "1.0")
	if !ok || len(p.Keys()) != 2 || p.Keys()[1] != (&Affected{Type: "deb", Namespace: "Debian", Name: "Heath"}).Key() {
		t.Errorf("%+v: %q", p, p.Keys())
	}
	for _, none := range []string{"", "no URL", "pkg:deb/debian/heath", "pkg:deb/debian/heath@" + strings.Repeat("1", maxVersion+1)} {
		if _, ok := Parse(none, "", ""); ok {
			t.Errorf("%.40q was read", none)
		}
	}
	if !Mends("deb", "1.10", "1.9") || Mends("deb", "1.8", "1.9") || Mends("deb", "1.8", "") {
		t.Error("an update mends what it does not")
	}
}

// A weakness of what a package was built from is the package's own, once a release.
func TestMatch(t *testing.T) {
	all := []Advisory{{ID: "M-1", Affected: []Affected{
		{Type: "deb", Namespace: "debian", Name: "heath", Release: "12", Spans: []Span{{Fixed: "2.0"}}},
		{Type: "deb", Namespace: "debian", Name: "libheath1", Release: "12", Spans: []Span{{Fixed: "2.0"}}}}},
		{ID: "M-2", Withdrawn: true, Affected: []Affected{{Type: "deb", Namespace: "debian", Name: "heath", Spans: []Span{{Fixed: "9"}}}}}}
	x := NewIndex(all)
	p, _ := Parse("pkg:deb/debian/libheath1@1.0", "heath", "")
	if hits := x.Match(p); len(hits) != 1 || hits[0] != (Hit{0, "12", "2.0"}) {
		t.Errorf("%+v", hits)
	}
	p.Version = "2.1"
	if hits := x.Match(p); len(hits) != 0 {
		t.Errorf("%+v", hits)
	}
}

func TestNamesOfOSV(t *testing.T) {
	for name, c := range map[string]struct {
		ecosystem, name, purl string
		want                  Affected
		none                  bool
	}{
		"Debian": {"Debian:12", "heath", "", Affected{Type: "deb", Namespace: "debian", Name: "heath", Release: "12"}, false},
		"Ubuntu": {"Ubuntu:22.04:LTS", "heath", "", Affected{Type: "deb", Namespace: "ubuntu", Name: "heath", Release: "22.04"},
			false},
		"Alpine": {"Alpine:v3.20", "heath", "", Affected{Type: "apk", Namespace: "alpine", Name: "heath", Release: "3.20"},
			false},
		"Go":              {"Go", "moor.example/peat", "", Affected{Type: "golang", Namespace: "moor.example", Name: "peat"}, false},
		"npm, with scope": {"npm", "@peat/moss", "", Affected{Type: "npm", Namespace: "@peat", Name: "moss"}, false},
		"Maven":           {"Maven", "example.moor:peat", "", Affected{Type: "maven", Namespace: "example.moor", Name: "peat"}, false},
		"by URL": {"Debian:12", "x", "pkg:deb/debian/heath",
			Affected{Type: "deb", Namespace: "debian", Name: "heath", Release: "12"}, false},
		"by URL's release": {"", "", "pkg:deb/debian/heath?distro=debian-11",
			Affected{Type: "deb", Namespace: "debian", Name: "heath", Release: "11"}, false},
		"unknown":    {"Peat", "moss", "", Affected{}, true},
		"no name":    {"npm", "", "", Affected{}, true},
		"no URL":     {"", "", "pkg:", Affected{}, true},
		"a long URL": {"", "", "pkg:deb/debian/" + strings.Repeat("x", 1000), Affected{}, true},
	} {
		got, ok := osvPackage(c.ecosystem, c.name, c.purl)
		if ok == c.none || ok && (got.Key() != c.want.Key() || got.Release != c.want.Release) {
			t.Errorf("%s: %+v, %v", name, got, ok)
		}
	}
}

// said keeps what reading told.
type said struct {
	exploited []Exploited
	refused   []string
}

func (s *said) sink() Sink {
	return Sink{Exploited: func(e Exploited) error { s.exploited = append(s.exploited, e); return nil },
		Refused: func(_ int, why error) { s.refused = append(s.refused, why.Error()) }}
}

func TestListsOfWhatIsExploited(t *testing.T) {
	var s said
	if err := readExploited(1, []byte(`[{"cveID": "CVE-2026-0001", "dateAdded": "2026-11-30", "dueDate": "2026-12-20T00:00:00Z",
		"vulnerabilityName": "Peat"},
		{"cve": "CVE-2026-0002"}, {"cveID": "<script>"}, {"cveID": "CVE-2026-0003", "dateAdded": "soon"}]`), s.sink()); err != nil {
		t.Fatal(err)
	}
	if len(s.exploited) != 2 || !s.exploited[0].Since.Equal(time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)) ||
		s.exploited[0].Note != "Peat" ||
		s.exploited[0].Due.Day() != 20 || s.exploited[1].Name != "CVE-2026-0002" {
		t.Errorf("%+v", s.exploited)
	}
	if len(s.refused) != 2 || !strings.Contains(s.refused[0], "no name of a weakness") || !strings.Contains(s.refused[1], "no date") {
		t.Errorf("%q", s.refused)
	}
	for _, odd := range []string{`{}`, `"x"`, `[1]`, `[`} {
		s = said{}
		if err := readExploited(1, []byte(odd), s.sink()); err != nil || len(s.exploited) != 0 || len(s.refused) != 1 && odd != `[` {
			t.Errorf("%s: %+v, %v", odd, s, err)
		}
	}
}
