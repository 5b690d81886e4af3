package selector

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
)

// Facet is what devices are picked by without writing an expression.
type Facet string

// The facets, in the order in which an expression names them.
const (
	FacetOrganisation Facet = "organisation"
	FacetSite         Facet = "site"
	FacetCondition    Facet = "condition"
	FacetOS           Facet = "os"
	FacetOnline       Facet = "online" // yes or no
	FacetGroup        Facet = "group"
	FacetTag          Facet = "tag"
	FacetSoftware     Facet = "software" // a name, or name@version
	FacetPerson       Facet = "person"   // who is signed in, or was last
	FacetDevice       Facet = "device"   // a name, or an id
	FacetText         Facet = "text"     // all of its words stand somewhere in what is searched
)

// Facets are all of them.
var Facets = []Facet{FacetOrganisation, FacetSite, FacetCondition, FacetOS, FacetOnline, FacetGroup, FacetTag, FacetSoftware, FacetPerson,
	FacetDevice, FacetText}

// Term is one value of a facet that devices are to have, or not to have.
type Term struct {
	Facet Facet  `json:"facet"`
	Value string `json:"value"`
	// Of is the organisation of a site, where sites of several have that name; "" for any.
	Of  string `json:"of,omitempty"`
	Not bool   `json:"not,omitempty"`
}

// Choice is what a person picked: of the values of one facet a device has one, and of every facet one; it has none that
// is not to be. Nothing picked is every device.
type Choice []Term

// Expression is the choice as an expression, "" for every device. The console makes the same of the same choice
// (web/src/fleet/choice.ts). An error names a facet or a value that there is none of.
func (c Choice) Expression() (string, error) {
	var all []string
	for _, facet := range Facets {
		var some []string
		for _, t := range c {
			if t.Facet != facet {
				continue
			}
			one, err := t.expression()
			switch {
			case err != nil:
				return "", err
			case one == "":
			case t.Not:
				all = append(all, "!("+one+")")
			case facet == FacetText:
				all = append(all, one)
			case !slices.Contains(some, one):
				some = append(some, one)
			}
		}
		switch {
		case len(some) == 1:
			all = append(all, some[0])
		case len(some) > 1:
			all = append(all, "("+strings.Join(some, " || ")+")")
		}
	}
	for _, t := range c {
		if !slices.Contains(Facets, t.Facet) {
			return "", fmt.Errorf("devices are not picked by %q", t.Facet)
		}
	}
	return strings.Join(all, " && "), nil
}

func (t Term) expression() (string, error) {
	value := quoted(t.Value)
	switch t.Facet {
	case FacetSite:
		if t.Of != "" {
			return "organisation == " + quoted(t.Of) + " && site == " + value, nil
		}
		return "site == " + value, nil
	case FacetOrganisation, FacetCondition, FacetOS:
		return string(t.Facet) + " == " + value, nil
	case FacetOnline:
		switch t.Value {
		case "yes":
			return "online", nil
		case "no":
			return "!online", nil
		}
		return "", fmt.Errorf("a device is online or not: %q is neither yes nor no", t.Value)
	case FacetGroup:
		return value + " in groups", nil
	case FacetTag:
		return value + " in tags", nil
	case FacetPerson:
		return value + " in last_people", nil
	case FacetSoftware:
		if at := strings.LastIndex(t.Value, "@"); at > 0 {
			name := quoted(t.Value[:at])
			return name + " in software && software[" + name + "] == " + quoted(t.Value[at+1:]), nil
		}
		return value + " in software", nil
	case FacetDevice:
		if _, err := uuid.Parse(t.Value); err == nil {
			return "id == " + value, nil
		}
		return "(name == " + value + " || id == " + value + ")", nil
	case FacetText:
		var words []string
		for word := range strings.FieldsSeq(strings.ToLower(t.Value)) {
			words = append(words, "text.contains("+quoted(word)+")")
		}
		return strings.Join(words, " && "), nil
	}
	return "", nil
}

// quoted is a text as an expression writes it: CEL reads what JSON writes.
func quoted(s string) string {
	var out strings.Builder
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	e.Encode(s) // a string never fails
	return strings.TrimSuffix(out.String(), "\n")
}
