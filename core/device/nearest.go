package device

import (
	"cmp"
	"slices"
	"strings"
)

// Nearest returns at most most of names, those that a person who typed name most likely meant,
// best first: names that contain it, then those within a third of its length in edits. Case does
// not count.
func Nearest(name string, names []string, most int) []string {
	type guess struct {
		name string
		cost int
	}
	name = strings.ToLower(clean(name, MaxName))
	var guesses []guess
	for _, n := range names {
		low := strings.ToLower(n)
		cost := edits(name, low)
		if name != "" && strings.Contains(low, name) {
			cost = 0
		}
		if cost <= max(1, len(name)/3) {
			guesses = append(guesses, guess{n, cost})
		}
	}
	slices.SortStableFunc(guesses, func(a, b guess) int {
		return cmp.Or(cmp.Compare(a.cost, b.cost), cmp.Compare(a.name, b.name))
	})
	found := make([]string, 0, most)
	for _, g := range guesses[:min(most, len(guesses))] {
		found = append(found, g.name)
	}
	return found
}

// edits is the Damerau-Levenshtein distance with adjacent transpositions (optimal string
// alignment).
func edits(a, b string) int {
	x, y := []rune(a), []rune(b)
	before, last, row := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := range x {
		row[0] = i + 1
		for j := range y {
			cost := 1
			if x[i] == y[j] {
				cost = 0
			}
			row[j+1] = min(last[j+1]+1, row[j]+1, last[j]+cost)
			if i > 0 && j > 0 && x[i] == y[j-1] && x[i-1] == y[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(y)]
}
