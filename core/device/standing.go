package device

import (
	"cmp"
	"math"
	"slices"
)

// Bin is a part of a distribution: the values from From up to To, or those that are Text.
type Bin struct {
	From, To float64
	Text     string
	Count    int
	Here     bool // the value that stands out is in it
}

// Distribute puts numbers into at most most bins of equal, round width, none of them empty at an
// end. value marks its bin; NaN marks none.
func Distribute(numbers []float64, value float64, most int) []Bin {
	if len(numbers) == 0 {
		return nil
	}
	least, greatest := slices.Min(numbers), slices.Max(numbers)
	width := round((greatest - least) / float64(most))
	start := math.Floor(least/width) * width
	var bins []Bin
	for from := start; from <= greatest && len(bins) <= most+1; from = start + float64(len(bins))*width {
		bins = append(bins, Bin{From: from, To: from + width})
	}
	place := func(v float64) int { return min(max(int((v-start)/width), 0), len(bins)-1) }
	for _, v := range numbers {
		bins[place(v)].Count++
	}
	if !math.IsNaN(value) {
		bins[place(value)].Here = true
	}
	return bins
}

// round is the least of 1, 2 and 5 times a power of ten that is not below v.
func round(v float64) float64 {
	if v <= 0 || math.IsInf(v, 0) {
		return 1
	}
	unit := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{1, 2, 5} {
		if m*unit >= v*(1-1e-9) {
			return m * unit
		}
	}
	return 10 * unit
}

// CountTexts counts equal texts, the most frequent first; beyond most-1 of them the rest are one
// bin without a text. value marks its bin.
func CountTexts(texts []string, value string, most int) []Bin {
	counts := map[string]int{}
	for _, t := range texts {
		counts[t]++
	}
	var bins []Bin
	for t, n := range counts {
		bins = append(bins, Bin{Text: t, Count: n, Here: t == value})
	}
	slices.SortFunc(bins, func(a, b Bin) int { return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Text, b.Text)) })
	if len(bins) <= most {
		return bins
	}
	rest := Bin{}
	for _, b := range bins[most-1:] {
		rest.Count += b.Count
		rest.Here = rest.Here || b.Here
	}
	return append(bins[:most-1], rest)
}

// Rank is the share of numbers that are less than value, 0 to 1.
func Rank(numbers []float64, value float64) float64 {
	less := 0
	for _, v := range numbers {
		if v < value {
			less++
		}
	}
	return float64(less) / float64(max(len(numbers), 1))
}

// Median is the middle of numbers; NaN when there are none. It reorders them.
func Median(numbers []float64) float64 {
	if len(numbers) == 0 {
		return math.NaN()
	}
	slices.Sort(numbers)
	return numbers[len(numbers)/2]
}
