package advisory

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/update"
)

const heath = `{"id":"MOOR-2026-0112","modified":"2026-11-14T08:00:00Z","published":"2026-11-14T07:00:00Z","aliases":["CVE-2026-70112"],
	"summary":"heathssl reads beyond a buffer",
 "severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N"}],"references":[{"type":"WEB","url":"https://heath-tools.example/0112"},{"url":"javascript:alert(1)"}],
 "affected":[{"package":{"ecosystem":"Debian:12","name":"heathssl","purl":"pkg:deb/debian/heathssl?arch=source"},"ranges":[{"type":"ECOSYSTEM","events":[{"fixed":"3.0.15-1"},{"introduced":"0"}]},{"type":"GIT","events":[{"introduced":"abc"}]}]}]}`

const fell = `{"document":{"title":"Fell boards start what they should not","aggregate_severity":{"text":"Important"},
	"tracking":{"id":"HT-2026-7","initial_release_date":"2026-10-20T00:00:00Z","current_release_date":"2026-10-21T00:00:00Z"},"notes":[{"category":"summary","text":"The kernel takes an image\u001b[31m that is not signed."}]},
 "product_tree":{"branches":[{"category":"vendor","name":"Heath Tools","branches":[
   {"category":"product_version_range","name":"vers:deb/>=6.0|<6.1.38-1","product":{"product_id":"A","product_identification_helper":{"purl":"pkg:deb/debian/fellcore-image"}}},
   {"category":"product_version","name":"9","product":{"product_id":"B","product_identification_helper":{"purl":"pkg:rpm/moor/fellcore@9-1?distro=moor-9.2"}}},
   {"category":"product_name","name":"all","product":{"product_id":"C","product_identification_helper":{"purl":"pkg:rpm/moor/fellboot"}}}]}],
  "relationships":[{"product_reference":"C","full_product_name":{"product_id":"P:C"}}]},
 "vulnerabilities":[{"cve":"CVE-2026-70107","product_status":{"known_affected":["A","P:C"],"fixed":["B"]},"scores":[{"cvss_v3":{"vectorString":"CVSS:3.1/AV:L/AC:L/PR:L/UI:N/S:U/C:N/I:H/A:N"}}]}]}`

func read(t *testing.T, text string) (all []Advisory, known []Exploited, refused []string) {
	t.Helper()
	err := Read(strings.NewReader(text), Sink{func(a Advisory) error { all = append(all, a); return nil },
		func(e Exploited) error { known = append(known, e); return nil },
		func(n int, why error) { refused = append(refused, fmt.Sprintf("%d: %v", n, why)) }})
	if err != nil {
		refused = append(refused, err.Error())
	}
	return all, known, refused
}

func TestReadAndMatch(t *testing.T) {
	all, _, refused := read(t, heath+"\n"+fell)
	if len(all) != 2 || len(refused) > 0 {
		t.Fatalf("%d advisories, refused %q", len(all), refused)
	}
	if a := all[0]; a.Score != 7.5 || a.Severity != "high" || !slices.Equal(a.Links, []string{"https://heath-tools.example/0112"}) ||
		a.Aliases[0] != "CVE-2026-70112" {
		t.Errorf("the OSV document is read as %+v", a)
	}
	if a := all[1]; a.ID != "HT-2026-7" || a.Score != 5.5 || a.Severity != "medium" || strings.Contains(a.Details, "\x1b") ||
		a.Published.Day() != 20 {
		t.Errorf("the CSAF document is read as %+v", a)
	}
	x := NewIndex(all)
	for purl, want := range map[string]string{
		"pkg:deb/debian/heathssl@3.0.14-1?arch=amd64": "MOOR-2026-0112 12 3.0.15-1", "pkg:deb/debian/heathssl@3.0.15-1": "",
		"pkg:deb/ubuntu/heathssl@3.0.14-1":       "",
		"pkg:deb/debian/fellcore-image@6.1.31-1": "HT-2026-7  6.1.38-1", "pkg:deb/debian/fellcore-image@5.9": "",
		"pkg:deb/debian/fellcore-image@6.1.38-1": "",
		"pkg:rpm/moor/fellcore@8-3":              "HT-2026-7 9.2 9-1", "pkg:rpm/moor/fellcore@9-1": "",
		"pkg:rpm/moor/fellboot@1": "HT-2026-7  ",
	} {
		p, ok := Parse(purl, "", "")
		got := ""
		for _, h := range x.Match(p) {
			got += fmt.Sprintf("%s %s %s", all[h.Advisory].ID, h.Release, h.Fixed)
		}
		if !ok || got != want {
			t.Errorf("%s has %q, want %q", purl, got, want)
		}
	}
	// A library that was built from the package.
	p, _ := Parse("pkg:deb/debian/libheath3@1:3.0.14-1", "heathssl", "3.0.14-1")
	if hits := x.Match(p); len(hits) != 1 {
		t.Errorf("the library built from heathssl has %v", hits)
	}
	for to, mends := range map[string]bool{"3.0.15-1": true, "3.0.15-1+deb12u1": true, "3.0.14-2": false} {
		if Mends("deb", to, "3.0.15-1") != mends {
			t.Errorf("the update to %s mends: %v", to, !mends)
		}
	}
}

func TestScores(t *testing.T) {
	for vector, want := range map[string]float64{
		"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:C/C:H/I:H/A:H": 10, "CVSS:3.0/AV:N/AC:L/PR:N/UI:R/S:U/C:L/I:L/A:N": 5.4,
		"AV:N/AC:L/Au:N/C:P/I:P/A:P":                                      7.5,
		"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N": 9.3, "CVSS:3.1/AV:X": 0, "critical": 0,
	} {
		a := Advisory{}
		if a.scored(vector); a.Score != want || (want > 0) != (a.Severity == Word(want) && a.Severity != "") {
			t.Errorf("%s scores %v, %s; want %v", vector, a.Score, a.Severity, want)
		}
	}
	a := Advisory{}
	a.scored("AV:N/AC:L/Au:N/C:C/I:C/A:C", "CVSS:3.1/AV:L/AC:L/PR:L/UI:N/S:U/C:N/I:H/A:N")
	if a.Score != 5.5 {
		t.Errorf("of two versions of CVSS %s is taken", a.Vector)
	}
}

func TestReadsOtherFiles(t *testing.T) {
	day := func(s string) time.Time { d, _ := time.Parse(time.DateOnly, s); return d }
	for text, want := range map[string][]Exploited{
		`{"title":"exploited","vulnerabilities":[{"cveID":"CVE-2026-70112","dateAdded":"2026-11-15","dueDate":"2026-12-06","vulnerabilityName":"heathssl"}]}`: {{"CVE-2026-70112", day("2026-11-15"), day("2026-12-06"), "heathssl"}},
		"cve,since\r\nCVE-2026-70112,2026-11-15\r\nCVE-2026-1,\r\n": {{"CVE-2026-70112", day("2026-11-15"), time.Time{}, ""},
			{Name: "CVE-2026-1"}},
	} {
		if _, got, refused := read(t, text); !slices.Equal(got, want) || len(refused) > 0 {
			t.Errorf("%s is read as %v, refused %q", text, got, refused)
		}
	}
	for text, want := range map[string]string{
		"":                              "the file is empty",
		"hello":                         "nor CSV with a column cve",
		`[` + heath:                     "ends early after 1 documents",
		`{"id":`:                        "document 1 is no JSON",
		`{"name":"x"}`:                  "1: it is neither",
		`{"id":"X","affected":3}`:       "1: it is no OSV document",
		"cve,since\nCVE-1,yesterday\n":  `CVE-1: "yesterday" is no date`,
		"cve\n<script>\n":               "is no name of a weakness",
		`{"affected":[],"id":"\u0007"}`: "1: it has no id",
	} {
		if _, _, refused := read(t, text); len(refused) != 1 || !strings.Contains(refused[0], want) {
			t.Errorf("%.40s is refused with %q, want %q", text, refused, want)
		}
	}
	if all, _, refused := read(t, "["+heath+","+`{"id":"B"}`+","+fell+"]"); len(all) != 2 || len(refused) != 1 {
		t.Errorf("of three documents, one bad, %d are read, refused %q", len(all), refused)
	}
}

func TestRanges(t *testing.T) {
	for text, want := range map[string][]Span{
		"vers:deb/*": {{}}, "vers:deb/>=1|<2|>3": {{From: "1", Fixed: "2"}, {After: "3"}},
		"vers:npm/1.0|<=0.9": {{From: "1.0", Last: "1.0"}, {Last: "0.9"}}, "1.0": nil, "vers:deb": nil,
		"vers:deb/~1": {{From: "~1", Last: "~1"}},
	} {
		if got := versRange(text); !slices.Equal(got, want) {
			t.Errorf("%s is %v, want %v", text, got, want)
		}
	}
}

// A version lies in a range of events just if the last event that is not later than it introduces.
func TestSpansProperty(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 2000 {
		n := r.IntN(5)
		var events []osvEvent
		at, open := r.IntN(3), true
		affected := map[int]bool{}
		for range n {
			if open {
				events = append(events, osvEvent{Introduced: fmt.Sprint(at)})
			} else {
				events = append(events, osvEvent{Fixed: fmt.Sprint(at)})
			}
			next := at + 1 + r.IntN(4)
			for v := at; v < 30; v++ {
				affected[v] = open
			}
			at, open = next, !open
		}
		r.Shuffle(len(events), func(i, j int) { events[i], events[j] = events[j], events[i] })
		a := Affected{Type: "npm", Name: "x", Spans: spans("npm", slices.Clone(events))}
		for v := range 30 {
			if has, _ := a.Has(fmt.Sprint(v)); has != affected[v] {
				t.Fatalf("%v: version %d has it: %v", events, v, has)
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(heath + fell)
	f.Add("cve\nCVE-2026-1\n")
	f.Fuzz(func(t *testing.T, text string) {
		var all []Advisory
		Read(strings.NewReader(text), Sink{func(a Advisory) error { all = append(all, a); return nil },
			func(Exploited) error { return nil }, func(int, error) {}})
		x := NewIndex(all)
		for _, a := range all {
			if a.ID == "" || len([]rune(a.Summary)) > maxSummary || !slices.Contains(update.Severities, a.Severity) {
				t.Errorf("kept as %+v", a)
			}
			for _, p := range a.Affected {
				x.Match(Package{Type: p.Type, Namespace: p.Namespace, Name: p.Name, Version: "1.0"})
			}
			if _, err := json.Marshal(a); err != nil {
				t.Error(err)
			}
		}
	})
}
