package selector

import (
	"encoding/json"
	"os"
	"testing"
)

// TestChoices reads what a person picked and what expression it is; the console's test reads the same file.
func TestChoices(t *testing.T) {
	text, err := os.ReadFile("testdata/choices.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases []struct {
		About, Expression string
		Choice            Choice
		Error             bool
	}
	if err := json.Unmarshal(text, &cases); err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		got, err := c.Choice.Expression()
		if (err != nil) != c.Error || got != c.Expression {
			t.Errorf("%s: %s, %v; want %s", c.About, got, err, c.Expression)
		}
		if got == "" {
			continue
		}
		if _, err := Compile(got); err != nil {
			t.Errorf("%s: %s cannot be read: %v", c.About, got, err)
		}
	}
}

func TestChoiceMatches(t *testing.T) {
	in := *xray
	in.ID, in.Groups, in.Site, in.Condition = "7", []string{"Imaging"}, "Surgery", "failing"
	for _, c := range []struct {
		choice Choice
		want   bool
	}{
		{nil, true},
		{Choice{{Facet: FacetSite, Value: "Surgery"}, {Facet: FacetSite, Value: "Depot"}}, true},
		{Choice{{Facet: FacetSite, Value: "Surgery", Of: "Larkmoor Libraries"}}, false},
		{Choice{{Facet: FacetSite, Value: "Surgery", Of: "Sallowbrook Vets"}, {Facet: FacetSite, Value: "Depot"}}, true},
		{Choice{{Facet: FacetGroup, Value: "Imaging"}, {Facet: FacetOnline, Value: "yes"}, {Facet: FacetTag, Value: "loan"}}, true},
		{Choice{{Facet: FacetGroup, Value: "Imaging", Not: true}}, false},
		{Choice{{Facet: FacetSoftware, Value: "curl@8.5"}}, true},
		{Choice{{Facet: FacetSoftware, Value: "curl@8.4"}}, false},
		{Choice{{Facet: FacetSoftware, Value: "curl", Not: true}, {Facet: FacetOS, Value: "windows"}}, false},
		{Choice{{Facet: FacetPerson, Value: "Nell Harrow"}, {Facet: FacetText, Value: "SALLOW imaging 198.51"}}, true},
		{Choice{{Facet: FacetDevice, Value: "7"}, {Facet: FacetDevice, Value: "else"}}, true},
		{Choice{{Facet: FacetDevice, Value: "sal-xray", Not: true}}, false},
		{Choice{{Facet: FacetCondition, Value: "degraded"}, {Facet: FacetCondition, Value: "failing"}}, true},
		{Choice{{Facet: FacetCondition, Value: "failing"}, {Facet: FacetOnline, Value: "no"}}, false},
	} {
		expression, err := c.choice.Expression()
		if err != nil {
			t.Fatal(err)
		}
		if expression == "" {
			expression = "true"
		}
		match, err := Compile(expression)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := match.Match(&in, now); got != c.want || err != nil {
			t.Errorf("%s: %t, %v", expression, got, err)
		}
	}
}

// FuzzChoice picks values of whatever a device or a person may have named: each is a text in the expression, and no more.
func FuzzChoice(f *testing.F) {
	for _, value := range []string{"windows", `a" || true || "`, `\`, "a\nb", "\x00\xff", "x@y", "@", "'''"} {
		f.Add(value, value)
	}
	f.Fuzz(func(t *testing.T, value, of string) {
		for _, facet := range Facets {
			expression, err := Choice{{Facet: facet, Value: value, Of: of}}.Expression()
			if err != nil || expression == "" || len(expression) > MaxExpression {
				continue
			}
			match, err := Compile(expression)
			if err != nil {
				t.Fatalf("%s of %q: %s cannot be read: %v", facet, value, expression, err)
			}
			if ok, err := match.Match(&Subject{Name: "another"}, now); ok && facet != FacetOnline && value != "" && value != "another" &&
				facet != FacetText {
				t.Fatalf("%s of %q: %s holds for another device (%v)", facet, value, expression, err)
			}
		}
	})
}
