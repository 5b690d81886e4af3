// Package suspect ranks the changes before an alert by how strongly devices with that change have
// that alert. It counts; it does not know what a change or an alert is.
package suspect

import (
	"cmp"
	"math"
	"slices"
)

// Counts is how the devices of a population fall: with the change or without, with the alert or
// without.
type Counts struct {
	ChangedWith    int `json:"changed_with"`    // changed, and has the alert
	ChangedWithout int `json:"changed_without"` // changed, and does not
	OthersWith     int `json:"others_with"`
	OthersWithout  int `json:"others_without"`
}

// Candidate is a change that some devices of the population had before the alert could arise.
type Candidate struct {
	ID     string
	Counts Counts
}

// Suspect is a candidate that the data support.
type Suspect struct {
	ID     string
	Counts Counts
	Odds   float64 // odds ratio
	Low    float64 // the ends of its 95 % interval
	High   float64
}

// leastWith is how many devices must have both for a suspicion at all.
const leastWith = 3

// OddsRatio is how many times higher the odds of the alert are among changed devices, with the
// interval that holds the true ratio with the given confidence (0 to 1): the logarithm's normal
// approximation (B. Woolf, 1955), half a device added to each count so that none is zero (Haldane
// 1956, Anscombe 1956).
func (c Counts) OddsRatio(confidence float64) (ratio, low, high float64) {
	a, b := float64(c.ChangedWith)+0.5, float64(c.ChangedWithout)+0.5
	d, e := float64(c.OthersWith)+0.5, float64(c.OthersWithout)+0.5
	ratio = a * e / (b * d)
	z := math.Sqrt2 * math.Erfinv(confidence)
	spread := math.Exp(z * math.Sqrt(1/a+1/b+1/d+1/e))
	return ratio, ratio / spread, ratio * spread
}

// Rank returns the candidates that the data support, the strongest first: those whose odds ratio
// exceeds one beyond chance, allowing for how many candidates were looked at (Bonferroni), on at
// least three devices. They are ordered by the lower end of their interval: a strong ratio of few
// devices does not outrank a strong one of many.
func Rank(candidates []Candidate) []Suspect {
	strict := 1 - 0.05/float64(max(len(candidates), 1))
	found := []Suspect{}
	for _, c := range candidates {
		if c.Counts.ChangedWith < leastWith {
			continue
		}
		if _, low, _ := c.Counts.OddsRatio(strict); low <= 1 {
			continue
		}
		s := Suspect{ID: c.ID, Counts: c.Counts}
		s.Odds, s.Low, s.High = c.Counts.OddsRatio(0.95)
		found = append(found, s)
	}
	slices.SortStableFunc(found, func(a, b Suspect) int { return cmp.Or(cmp.Compare(b.Low, a.Low), cmp.Compare(a.ID, b.ID)) })
	return found
}
