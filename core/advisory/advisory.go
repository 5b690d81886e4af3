// Package advisory is what is known of weaknesses in software: advisories as the world publishes them (OSV,
// CSAF, lists of what is known to be exploited), how bad each is, and which installed packages one is about.
// It keeps nothing and asks no network.
package advisory

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	cvss20 "github.com/pandatix/go-cvss/20"
	cvss30 "github.com/pandatix/go-cvss/30"
	cvss31 "github.com/pandatix/go-cvss/31"
	cvss40 "github.com/pandatix/go-cvss/40"

	"moorwatch.example/core/device"
	"moorwatch.example/core/update"
	"moorwatch.example/core/versions"
)

// Advisory is one weakness, or those that were made known together.
type Advisory struct {
	ID        string          `json:"id"`
	Aliases   []string        `json:"aliases,omitempty"` // other names, among them those of CVE
	Summary   string          `json:"summary"`
	Details   string          `json:"details,omitempty"`
	Published time.Time       `json:"published,omitzero"`
	Modified  time.Time       `json:"modified,omitzero"`
	Withdrawn bool            `json:"withdrawn,omitempty"`
	Vector    string          `json:"vector,omitempty"` // CVSS, of the latest version that is given
	Score     float64         `json:"score,omitempty"`  // 0 to 10; 0 where none is given
	Severity  update.Severity `json:"severity,omitempty"`
	Links     []string        `json:"links,omitempty"`
	Affected  []Affected      `json:"affected"`
}

// Affected is a package of which some versions have the weakness, named as a package URL names it (ECMA-427).
type Affected struct {
	Type      string   `json:"type"`
	Namespace string   `json:"namespace,omitempty"`
	Name      string   `json:"name"`
	Release   string   `json:"release,omitempty"` // of the distribution, such as 12; "" for all
	Spans     []Span   `json:"spans,omitempty"`
	Versions  []string `json:"versions,omitempty"` // exactly these too
}

// Span is a run of versions that have the weakness: from From on or later than After, where both are "" from
// the first; to before Fixed or to Last, where both are "" there is no version without it.
type Span struct {
	From  string `json:"from,omitempty"`
	After string `json:"after,omitempty"`
	Fixed string `json:"fixed,omitempty"`
	Last  string `json:"last,omitempty"`
}

// Bounds of an advisory. What is longer is cut.
const (
	maxID       = 80
	maxSummary  = 300
	maxDetails  = 4000
	maxNames    = 60 // aliases, and links
	maxAffected = 4000
	maxVersion  = 120
	maxVersions = 4000 // of one package
)

// Has tells whether a version has the weakness, and in which version it is mended; "" where none is known.
func (a *Affected) Has(version string) (has bool, fixed string) {
	for _, s := range a.Spans {
		if s.From != "" && versions.Compare(a.Type, version, s.From) < 0 ||
			s.After != "" && versions.Compare(a.Type, version, s.After) <= 0 ||
			s.Fixed != "" && versions.Compare(a.Type, version, s.Fixed) >= 0 ||
			s.Last != "" && versions.Compare(a.Type, version, s.Last) > 0 {
			continue
		}
		return true, s.Fixed
	}
	return slices.Contains(a.Versions, version), ""
}

// Key is what an index finds it by: equal for the same package, however it is written.
func (a *Affected) Key() string { return key(a.Type, a.Namespace, a.Name) }

func key(kind, namespace, name string) string {
	kind, name = strings.ToLower(kind), strings.ToLower(name)
	if kind == "pypi" { // PEP 503
		name = strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r == '-' || r == '_' || r == '.' }), "-")
	}
	return kind + "/" + strings.ToLower(namespace) + "/" + name
}

// rate scores a vector of CVSS 2.0, 3.0, 3.1 or 4.0. ok is false for any other text.
func rate(vector string) (score float64, ok bool) {
	switch {
	case strings.HasPrefix(vector, "CVSS:4.0/"):
		v, err := cvss40.ParseVector(vector)
		if err != nil {
			return 0, false
		}
		return v.Score(), true
	case strings.HasPrefix(vector, "CVSS:3.1/"):
		v, err := cvss31.ParseVector(vector)
		if err != nil {
			return 0, false
		}
		return v.BaseScore(), true
	case strings.HasPrefix(vector, "CVSS:3.0/"):
		v, err := cvss30.ParseVector(vector)
		if err != nil {
			return 0, false
		}
		return v.BaseScore(), true
	default:
		v, err := cvss20.ParseVector(strings.Trim(vector, "()"))
		if err != nil {
			return 0, false
		}
		return v.BaseScore(), true
	}
}

// scored takes the worst of some vectors among those of the latest version of CVSS.
func (a *Advisory) scored(vectors ...string) {
	newest := func(v string) string {
		if rest, ok := strings.CutPrefix(v, "CVSS:"); ok {
			return rest[:min(3, len(rest))]
		}
		return "2.0"
	}
	for _, v := range vectors {
		score, ok := rate(v)
		if !ok || len(v) > maxSummary {
			continue
		}
		if a.Vector == "" || cmp.Or(cmp.Compare(newest(v), newest(a.Vector)), cmp.Compare(score, a.Score)) > 0 {
			a.Vector, a.Score = v, score
		}
	}
	if a.Vector != "" {
		a.Severity = Word(a.Score)
	}
}

// Word is a score in words (CVSS 3.1, section 5; CVSS 4.0, section 6).
func Word(score float64) update.Severity {
	switch {
	case score >= 9:
		return "critical"
	case score >= 7:
		return "high"
	case score >= 4:
		return "medium"
	case score > 0:
		return "low"
	}
	return ""
}

// worded takes a severity that is told in words alone.
func (a *Advisory) worded(word string) {
	if a.Vector != "" {
		return
	}
	s := update.Severity(map[string]string{"important": "high", "moderate": "medium"}[strings.ToLower(word)])
	if s == "" {
		s = update.Severity(strings.ToLower(word))
	}
	if slices.Contains(update.Severities, s) && s.Rank() > a.Severity.Rank() {
		a.Severity = s
	}
}

// clean makes an advisory safe to keep and to show; it fails on one that nothing could be done with.
func (a *Advisory) clean() error {
	if a.ID = device.CleanLong(a.ID, maxID); a.ID == "" {
		return fmt.Errorf("it has no id")
	}
	texts := func(all []string, most int) []string {
		var out []string
		for _, s := range all {
			if s = device.CleanLong(s, most); s != "" && !slices.Contains(out, s) && len(out) < maxNames {
				out = append(out, s)
			}
		}
		return out
	}
	a.Aliases = slices.DeleteFunc(texts(a.Aliases, maxID), func(s string) bool { return s == a.ID })
	a.Links = slices.DeleteFunc(texts(a.Links, maxSummary), func(s string) bool {
		return !strings.HasPrefix(s, "https://") && !strings.HasPrefix(s, "http://")
	})
	a.Details = device.CleanLong(a.Details, maxDetails)
	if a.Summary = device.CleanLong(a.Summary, maxSummary); a.Summary == "" {
		a.Summary = device.CleanLong(a.Details, maxSummary)
	}
	if a.Summary == "" {
		a.Summary = a.ID
	}
	if !slices.Contains(update.Severities, a.Severity) {
		a.Severity = ""
	}
	for _, t := range []*time.Time{&a.Published, &a.Modified} {
		if y := t.Year(); y < 1970 || y > 2200 { // a database keeps no others
			*t = time.Time{}
		}
	}
	kept := []Affected{}
	for _, f := range a.Affected {
		f.Type, f.Namespace, f.Name, f.Release = device.CleanLong(f.Type, 40), device.CleanLong(f.Namespace, maxSummary),
			device.CleanLong(f.Name, maxSummary), device.CleanLong(f.Release, 40)
		f.Versions, f.Spans = f.Versions[:min(len(f.Versions), maxVersions)], f.Spans[:min(len(f.Spans), maxVersions)]
		long := func(v string) bool { return len(v) > maxVersion }
		f.Versions = slices.DeleteFunc(f.Versions, long)
		f.Spans = slices.DeleteFunc(f.Spans, func(s Span) bool { return long(s.From+s.After) || long(s.Fixed) || long(s.Last) })
		if f.Type != "" && f.Name != "" && len(f.Spans)+len(f.Versions) > 0 && len(kept) < maxAffected {
			kept = append(kept, f)
		}
	}
	a.Affected = kept
	return nil
}
