package advisory

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/package-url/packageurl-go"

	"moorwatch.example/core/versions"
)

// osvEntry is a document of the OSV format, version 1 (OpenSSF OSV schema).
type osvEntry struct {
	ID         string        `json:"id"`
	Modified   time.Time     `json:"modified"`
	Published  time.Time     `json:"published"`
	Withdrawn  time.Time     `json:"withdrawn"`
	Aliases    []string      `json:"aliases"`
	Upstream   []string      `json:"upstream"`
	Summary    string        `json:"summary"`
	Details    string        `json:"details"`
	Severity   []osvSeverity `json:"severity"`
	References []struct {
		URL string `json:"url"`
	} `json:"references"`
	Affected []struct {
		Package struct {
			Ecosystem string `json:"ecosystem"`
			Name      string `json:"name"`
			PURL      string `json:"purl"`
		} `json:"package"`
		Severity []osvSeverity `json:"severity"`
		Ranges   []struct {
			Type   string     `json:"type"`
			Events []osvEvent `json:"events"`
		} `json:"ranges"`
		Versions []string `json:"versions"`
	} `json:"affected"`
	Specific struct {
		Severity string `json:"severity"`
	} `json:"database_specific"`
}

type osvSeverity struct {
	Score string `json:"score"`
}

type osvEvent struct {
	Introduced   string `json:"introduced"`
	Fixed        string `json:"fixed"`
	LastAffected string `json:"last_affected"`
	Limit        string `json:"limit"`
}

// readOSV reads a document of the OSV format.
func readOSV(text []byte) (Advisory, error) {
	var e osvEntry
	if err := json.Unmarshal(text, &e); err != nil {
		return Advisory{}, fmt.Errorf("it is no OSV document: %w", err)
	}
	a := Advisory{ID: e.ID, Aliases: append(e.Aliases, e.Upstream...), Summary: e.Summary, Details: e.Details, Published: e.Published,
		Modified: e.Modified, Withdrawn: !e.Withdrawn.IsZero()}
	var vectors []string
	for _, s := range e.Severity {
		vectors = append(vectors, s.Score)
	}
	for _, r := range e.References {
		a.Links = append(a.Links, r.URL)
	}
	for _, f := range e.Affected {
		for _, s := range f.Severity {
			vectors = append(vectors, s.Score)
		}
		one, ok := osvPackage(f.Package.Ecosystem, f.Package.Name, f.Package.PURL)
		if !ok {
			continue
		}
		one.Versions = f.Versions
		for _, r := range f.Ranges {
			if r.Type != "GIT" { // which names commits
				one.Spans = append(one.Spans, spans(one.Type, r.Events)...)
			}
		}
		a.Affected = append(a.Affected, one)
	}
	a.scored(vectors...)
	a.worded(e.Specific.Severity)
	return a, a.clean()
}

// ecosystems are the types and namespaces of package URLs by the ecosystem of OSV.
var ecosystems = map[string][2]string{
	"debian": {"deb", "debian"}, "ubuntu": {"deb", "ubuntu"}, "alpine": {"apk", "alpine"}, "npm": {"npm", ""}, "pypi": {"pypi", ""},
	"go":        {"golang", ""},
	"crates.io": {"cargo", ""}, "maven": {"maven", ""}, "nuget": {"nuget", ""}, "rubygems": {"gem", ""}, "packagist": {"composer", ""},
	"hex": {"hex", ""}, "pub": {"pub", ""},
}

// osvPackage names a package by its package URL or else by its ecosystem.
func osvPackage(ecosystem, name, purl string) (a Affected, ok bool) {
	system, release, _ := strings.Cut(ecosystem, ":")
	release, _, _ = strings.Cut(strings.TrimPrefix(release, "v"), ":") // such as 22.04:LTS
	if a, ok := fromPURL(purl); ok {
		if strings.ContainsFunc(release, func(r rune) bool { return r >= '0' && r <= '9' }) {
			a.Release = release
		}
		return a, true
	}
	known, ok := ecosystems[strings.ToLower(system)]
	if !ok || name == "" {
		return a, false
	}
	a = Affected{Type: known[0], Namespace: known[1], Name: name, Release: release}
	if i := strings.LastIndexByte(name, '/'); i > 0 && a.Namespace == "" && a.Type != "pypi" {
		a.Namespace, a.Name = name[:i], name[i+1:]
	}
	if group, artifact, parted := strings.Cut(name, ":"); parted && a.Type == "maven" {
		a.Namespace, a.Name = group, artifact
	}
	return a, true
}

// fromPURL reads what a package URL names; its version is left out. The release is that of the qualifier
// distro, such as debian-12.
func fromPURL(text string) (Affected, bool) {
	if text == "" || len(text) > 1000 {
		return Affected{}, false
	}
	p, err := packageurl.FromString(text)
	if err != nil {
		return Affected{}, false
	}
	release := p.Qualifiers.Map()["distro"]
	if at := strings.LastIndexByte(release, '-'); at >= 0 {
		release = release[at+1:]
	}
	return Affected{Type: p.Type, Namespace: p.Namespace, Name: p.Name, Release: release}, true
}

// spans reads the events of a range, in whatever order they are.
func spans(kind string, events []osvEvent) (out []Span) {
	slices.SortStableFunc(events, func(a, b osvEvent) int {
		at := func(e osvEvent) string { return e.Introduced + e.Fixed + e.LastAffected + e.Limit }
		x, y := at(a), at(b)
		switch {
		case x == y:
			return 0
		case x == "0" && a.Introduced != "":
			return -1
		case y == "0" && b.Introduced != "":
			return 1
		}
		return versions.Compare(kind, x, y)
	})
	var open *Span
	for _, e := range events {
		switch {
		case e.Introduced != "" && open == nil:
			from := e.Introduced
			if from == "0" {
				from = ""
			}
			open = &Span{From: from}
		case open != nil && (e.Fixed != "" || e.LastAffected != "" || e.Limit != "" && e.Limit != "*"):
			open.Fixed, open.Last = e.Fixed+e.Limit, e.LastAffected
			out, open = append(out, *open), nil
		}
	}
	if open != nil {
		out = append(out, *open)
	}
	return out
}
