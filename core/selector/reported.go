package selector

import (
	"maps"
	"slices"
)

// assigned are the variables whose values people set; all others are what a device says of itself, or what it
// can bring about, such as its condition. now is nobody's.
var assigned = map[string]bool{"id": true, "organisation": true, "site": true, "tags": true, "alias": true, "note": true,
	"now": true}

// Reported lists the variables of an expression that rest on a device's own word, in order; none where people
// alone decide for which devices it holds. A device can lie about those: neither roles nor secrets may follow
// from them.
func Reported(expression string) ([]string, error) {
	found, err := variables(expression)
	maps.DeleteFunc(found, func(name string, _ bool) bool { return assigned[name] })
	return slices.Sorted(maps.Keys(found)), err
}

// variables are those that an expression uses.
func variables(expression string) (map[string]bool, error) {
	ast, issues := environment.Compile(expression)
	if issues.Err() != nil {
		return nil, issues.Err()
	}
	found := map[string]bool{}
	for _, ref := range ast.NativeRep().ReferenceMap() {
		if slices.ContainsFunc(Words, func(w Word) bool { return w.Name == ref.Name }) {
			found[ref.Name] = true
		}
	}
	return found, nil
}
