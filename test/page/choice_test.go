package page

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"moorwatch.example/core/selector"
)

// What is picked in the console is the expression that the service's own picking makes of it.
func TestChoices(t *testing.T) {
	t.Parallel()
	p := open(t)
	text, err := os.ReadFile("../../core/selector/testdata/choices.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases []struct {
		About, Expression string
		Choice            selector.Choice
		Error             bool
	}
	if err := json.Unmarshal(text, &cases); err != nil || len(cases) < 10 {
		t.Fatal(len(cases), err)
	}
	for _, c := range cases {
		if c.Error {
			continue
		}
		if got := call[string](p, `terms => part.choice.expressionOf({terms})`, c.Choice); got != c.Expression {
			t.Errorf("%s: %s, want %s", c.About, got, c.Expression)
		}
		again := `terms => part.choice.expressionOf(part.choice.fromParams(new URLSearchParams(part.choice.toParams({terms}).toString())))`
		if got := call[string](p, again, c.Choice); got != c.Expression {
			t.Errorf("%s, by an address: %s, want %s", c.About, got, c.Expression)
		}
	}
	if got := call[string](p, `w => part.choice.expressionOf({terms: [{facet: "os", value: "linux"}], where: w})`,
		"disk > 80 || cpu > 90"); got != `os == "linux" && (disk > 80 || cpu > 90)` {
		t.Errorf("beside an expression: %s", got)
	}
	if got := call[string](p, `w => part.choice.expressionOf({terms: [], where: w})`, " disk > 80 "); got != "disk > 80" {
		t.Errorf("an expression alone: %s", got)
	}
}

// Whether a choice holds for a device is the same in the console, by its row, as in the service, by the expression.
func TestChoicesHold(t *testing.T) {
	t.Parallel()
	p := open(t)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 21))
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	some := func(of ...string) []string {
		out := []string{}
		for _, s := range of {
			if r.IntN(2) == 0 {
				out = append(out, s)
			}
		}
		return out
	}
	values := map[selector.Facet][]string{
		selector.FacetOrganisation: {"Larkmoor Libraries", "Fenwright"}, selector.FacetSite: {"Head office", "Depot"},
		selector.FacetCondition: {"healthy", "failing"}, selector.FacetOS: {"linux", "windows"}, selector.FacetOnline: {"yes", "no"},
		selector.FacetGroup: {"Kiosks", "Servers"}, selector.FacetTag: {"loan", "none"},
		selector.FacetPerson: {"Nell Harrow", "Robin Quill"}, selector.FacetDevice: {"1", "Van Board"},
		selector.FacetText: {"lark", "HARROW", "depot kiosk", " "}}
	for range 200 {
		s := selector.Subject{ID: one("1", "2"), Name: one("hay-desk-01", "Van Board"),
			Organisation: one("Larkmoor Libraries", "Fenwright"),
			Site:         one("Head office", "Depot"), OS: one("linux", "windows", ""), OSName: one("Debian", ""),
			Model: "Lath 7", Serial: "S-1",
			Condition: one("healthy", "failing"), Online: r.IntN(2) == 0, Addresses: some("192.0.2.1", "2001:db8::1"),
			LastPeople: some("Nell Harrow", "Robin Quill"), Tags: some("loan", "kiosk"), Groups: some("Kiosks", "Servers")}
		row := map[string]any{"id": s.ID, "name": s.Name, "organisation": s.Organisation,
			"site": s.Site, "os": s.OS,
			"os_name": s.OSName,
			"model":   s.Model, "serial": s.Serial, "condition": s.Condition, "online": s.Online, "addresses": s.Addresses,
			"last_people": s.LastPeople, "tags": s.Tags, "groups": s.Groups}
		var c selector.Choice
		for range r.IntN(4) {
			f := selector.Facets[r.IntN(len(selector.Facets))]
			if f == selector.FacetSoftware { // which the service is asked for
				continue
			}
			value := one(values[f]...)
			t := selector.Term{Facet: f, Value: value, Not: r.IntN(3) == 0}
			if f == selector.FacetSite && r.IntN(2) == 0 {
				t.Of = one("Larkmoor Libraries", "Fenwright")
			}
			c = append(c, t)
		}
		expression, err := c.Expression()
		if err != nil {
			t.Fatal(err)
		}
		want := true
		if expression != "" {
			match, err := selector.Compile(expression)
			if err != nil {
				t.Fatal(err)
			}
			if want, err = match.Match(&s, time.Now()); err != nil {
				t.Fatal(err)
			}
		}
		terms := []selector.Term(c)
		if terms == nil {
			terms = []selector.Term{}
		}
		if got := call[bool](p, `(terms, d) => part.choice.matches({terms}, d)`, terms, row); got != want {
			t.Fatalf("%s for %s: %t", expression, fmt.Sprint(row), got)
		}
	}
}
