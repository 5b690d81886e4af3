package advisory

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/package-url/packageurl-go"

	"moorwatch.example/core/versions"
)

// csafDocument is what is read of a document of the OASIS Common Security Advisory Framework, version 2.
type csafDocument struct {
	Document struct {
		Title    string `json:"title"`
		Severity struct {
			Text string `json:"text"`
		} `json:"aggregate_severity"`
		Notes    []csafNote `json:"notes"`
		Links    []csafLink `json:"references"`
		Tracking struct {
			ID       string    `json:"id"`
			Status   string    `json:"status"`
			First    time.Time `json:"initial_release_date"`
			Current  time.Time `json:"current_release_date"`
			Revision []struct {
				Summary string `json:"summary"`
			} `json:"revision_history"`
		} `json:"tracking"`
	} `json:"document"`
	Tree struct {
		Branches      []csafBranch  `json:"branches"`
		Products      []csafProduct `json:"full_product_names"`
		Relationships []struct {
			Product csafProduct `json:"full_product_name"`
			Of      string      `json:"product_reference"`
		} `json:"relationships"`
	} `json:"product_tree"`
	Weaknesses []struct {
		CVE    string     `json:"cve"`
		Title  string     `json:"title"`
		Notes  []csafNote `json:"notes"`
		Links  []csafLink `json:"references"`
		Status struct {
			Known      []string `json:"known_affected"`
			First      []string `json:"first_affected"`
			Last       []string `json:"last_affected"`
			Fixed      []string `json:"fixed"`
			FirstFixed []string `json:"first_fixed"`
		} `json:"product_status"`
		Scores []struct {
			V2 csafScore `json:"cvss_v2"`
			V3 csafScore `json:"cvss_v3"`
		} `json:"scores"`
		Metrics []struct { // version 2.1
			Content struct {
				V2 csafScore `json:"cvss_v2"`
				V3 csafScore `json:"cvss_v3"`
				V4 csafScore `json:"cvss_v4"`
			} `json:"content"`
		} `json:"metrics"`
	} `json:"vulnerabilities"`
}

type csafNote struct {
	Category string `json:"category"`
	Text     string `json:"text"`
}

type csafLink struct {
	URL string `json:"url"`
}

type csafScore struct {
	Vector string `json:"vectorString"`
}

type csafBranch struct {
	Category string       `json:"category"`
	Name     string       `json:"name"`
	Product  *csafProduct `json:"product"`
	Branches []csafBranch `json:"branches"`
}

type csafProduct struct {
	ID     string `json:"product_id"`
	Helper struct {
		PURL  string   `json:"purl"`
		PURLs []string `json:"purls"` // version 2.1
	} `json:"product_identification_helper"`
}

// csafPart is a package of a document, in one version or in several.
type csafPart struct {
	Affected
	version string
	spans   []Span
}

// maxDepth is how deep the branches of a document may be.
const maxDepth = 30

// readCSAF reads a document: as one advisory, about what any of its weaknesses is about.
func readCSAF(text []byte) (Advisory, error) {
	var d csafDocument
	if err := json.Unmarshal(text, &d); err != nil {
		return Advisory{}, fmt.Errorf("it is no CSAF document: %w", err)
	}
	t := d.Document.Tracking
	a := Advisory{ID: t.ID, Summary: d.Document.Title, Published: t.First, Modified: t.Current}
	if n := len(t.Revision); n > 0 {
		a.Withdrawn = strings.Contains(strings.ToLower(t.Revision[n-1].Summary), "withdrawn")
	}
	note := func(notes []csafNote) {
		for _, n := range notes {
			if a.Details == "" && (n.Category == "summary" || n.Category == "description") {
				a.Details = n.Text
			}
		}
	}
	links := func(all []csafLink) {
		for _, l := range all {
			a.Links = append(a.Links, l.URL)
		}
	}
	note(d.Document.Notes)
	links(d.Document.Links)
	parts := d.parts()
	var vectors []string
	for _, w := range d.Weaknesses {
		a.Aliases = append(a.Aliases, w.CVE)
		note(w.Notes)
		links(w.Links)
		for _, s := range w.Scores {
			vectors = append(vectors, s.V2.Vector, s.V3.Vector)
		}
		for _, m := range w.Metrics {
			vectors = append(vectors, m.Content.V2.Vector, m.Content.V3.Vector, m.Content.V4.Vector)
		}
		a.Affected = append(a.Affected, affectedOf(parts, slices.Concat(w.Status.Known, w.Status.First, w.Status.Last),
			slices.Concat(w.Status.Fixed, w.Status.FirstFixed))...)
	}
	a.scored(vectors...)
	a.worded(d.Document.Severity.Text)
	return a, a.clean()
}

// parts are the packages of the document, by the id of their product.
func (d *csafDocument) parts() map[string][]csafPart {
	parts := map[string][]csafPart{}
	add := func(p csafProduct, over []Span) {
		for _, purl := range append(p.Helper.PURLs, p.Helper.PURL) {
			one, ok := fromPURL(purl)
			if !ok || p.ID == "" {
				continue
			}
			part := csafPart{Affected: one, spans: over}
			if parsed, err := packageurl.FromString(purl); err == nil {
				part.version = parsed.Version
			}
			parts[p.ID] = append(parts[p.ID], part)
		}
	}
	var walk func(all []csafBranch, depth int)
	walk = func(all []csafBranch, depth int) {
		for _, b := range all {
			if b.Product != nil {
				var over []Span
				if b.Category == "product_version_range" {
					over = versRange(b.Name)
				}
				add(*b.Product, over)
			}
			if depth < maxDepth {
				walk(b.Branches, depth+1)
			}
		}
	}
	walk(d.Tree.Branches, 0)
	for _, p := range d.Tree.Products {
		add(p, nil)
	}
	for _, r := range d.Tree.Relationships {
		if add(r.Product, nil); len(parts[r.Product.ID]) == 0 {
			parts[r.Product.ID] = parts[r.Of]
		}
	}
	return parts
}

// affectedOf tells which versions of packages have a weakness by the products that have it and those in which
// it is mended: a version that is named, a range that is named, or all before the one that is mended.
func affectedOf(parts map[string][]csafPart, known, fixed []string) []Affected {
	type group struct {
		Affected
		fixed []string
		all   bool
	}
	groups := map[string]*group{}
	of := func(p csafPart) *group {
		k := p.Key() + "\n" + p.Release
		if groups[k] == nil {
			groups[k] = &group{Affected: p.Affected}
		}
		return groups[k]
	}
	for _, id := range fixed {
		for _, p := range parts[id] {
			if p.version != "" {
				g := of(p)
				g.fixed = append(g.fixed, p.version)
			}
		}
	}
	for _, id := range known {
		for _, p := range parts[id] {
			switch g := of(p); {
			case len(p.spans) > 0:
				g.Spans = append(g.Spans, p.spans...)
			case p.version != "":
				g.Versions = append(g.Versions, p.version)
			default:
				g.all = true
			}
		}
	}
	var out []Affected
	for _, g := range groups {
		slices.SortFunc(g.fixed, func(a, b string) int { return versions.Compare(g.Type, a, b) })
		switch {
		case len(g.Spans) > 0: // a range says itself where it ends
		case len(g.fixed) > 0:
			g.Spans, g.Versions = []Span{{Fixed: g.fixed[0]}}, nil
		case g.all:
			g.Spans = []Span{{}}
		}
		out = append(out, g.Affected)
	}
	slices.SortFunc(out, func(a, b Affected) int {
		return cmp.Or(cmp.Compare(a.Key(), b.Key()), cmp.Compare(a.Release, b.Release))
	})
	return out
}

// versRange reads a range of versions such as vers:deb/>=1.0|<1.4 (ECMA-427, version range specifier). What
// it cannot tell is no range.
func versRange(text string) (out []Span) {
	rest, ok := strings.CutPrefix(text, "vers:")
	_, list, cut := strings.Cut(rest, "/") // the type is that of the package
	if !ok || !cut {
		return nil
	}
	if list == "*" {
		return []Span{{}}
	}
	var open *Span
	for _, c := range strings.Split(list, "|") {
		c = strings.TrimSpace(c)
		bare, err := url.PathUnescape(strings.TrimLeft(c, "<>=!"))
		if err != nil || bare == "" {
			return nil
		}
		switch sign := c[:len(c)-len(strings.TrimLeft(c, "<>=!"))]; sign {
		case ">=":
			open = &Span{From: bare}
		case ">":
			open = &Span{After: bare}
		case "<", "<=":
			if open == nil {
				open = &Span{}
			}
			if sign == "<" {
				open.Fixed = bare
			} else {
				open.Last = bare
			}
			out, open = append(out, *open), nil
		case "", "=":
			out = append(out, Span{From: bare, Last: bare})
		case "!=": // rather said to be affected than not
		default:
			return nil
		}
	}
	if open != nil {
		out = append(out, *open)
	}
	return out
}
