// Package nearest finds the word that somebody may have meant who misspelt one.
package nearest

// Of is the word that is most like one that was typed, "" where none is like it: at most one letter in three may be
// other, and one more.
func Of(typed string, words []string) string {
	best, least := "", 2+len(typed)/3
	for _, word := range words {
		if d := distance(typed, word); d < least {
			best, least = word, d
		}
	}
	return best
}

// distance is how many bytes are to be added, taken away or changed to make one word of the other (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost++
			}
			before = row[j+1]
			row[j+1] = min(cost, row[j]+1, before+1)
		}
	}
	return row[len(b)]
}
