package patch

import (
	"math"
	"slices"
)

// fisher is the probability that, of so many bad among all, at least bad1 fall among the first n1 by chance
// (Fisher's exact test, one-sided: "The Logic of Inductive Inference", 1935).
func fisher(bad1, n1, bad0, n0 int) float64 {
	bad, n := bad1+bad0, n1+n0
	choose := func(n, k int) float64 {
		a, _ := math.Lgamma(float64(n + 1))
		b, _ := math.Lgamma(float64(k + 1))
		c, _ := math.Lgamma(float64(n - k + 1))
		return a - b - c
	}
	all, p := choose(n, bad), 0.0
	for k := bad1; k <= min(bad, n1); k++ {
		if bad-k > n0 {
			continue
		}
		p += math.Exp(choose(n1, k) + choose(n0, bad-k) - all)
	}
	return min(p, 1)
}

// normal is the standard normal distribution function, and quantile its inverse.
func normal(z float64) float64   { return 0.5 * math.Erfc(-z/math.Sqrt2) }
func quantile(p float64) float64 { return -math.Sqrt2 * math.Erfcinv(2*p) }

// sharePower is the chance with which a test at level alpha would find that a share is so much larger
// than p0 among n1 than among n0 (Fleiss, "Statistical Methods for Rates and Proportions", chapter 4:
// the normal approximation).
func sharePower(p0, more float64, n1, n0 int, alpha float64) float64 {
	if n1 == 0 || n0 == 0 {
		return 0
	}
	p1 := min(p0+more, 1)
	a, b := float64(n1), float64(n0)
	mean := (a*p1 + b*p0) / (a + b)
	spread := math.Sqrt(mean * (1 - mean) * (1/a + 1/b))
	own := math.Sqrt(p1*(1-p1)/a + p0*(1-p0)/b)
	if own == 0 {
		own = 1e-9
	}
	// A few among very few are never told from chance: the best outcome bounds it.
	if fisher(n1, n1, int(p0*b+0.5), n0) >= alpha {
		return 0
	}
	return normal((p1 - p0 - quantile(1-alpha)*spread) / own)
}

// rankSum is the probability that values of the first are as much larger than those of the second by
// chance (Mann and Whitney, "On a Test of Whether one of Two Random Variables is Stochastically Larger
// than the Other", 1947; normal approximation, corrected for ties).
func rankSum(a, b []float64) float64 {
	type one struct {
		v     float64
		first bool
	}
	all := make([]one, 0, len(a)+len(b))
	for _, v := range a {
		all = append(all, one{v, true})
	}
	for _, v := range b {
		all = append(all, one{v, false})
	}
	slices.SortFunc(all, func(x, y one) int {
		switch {
		case x.v < y.v:
			return -1
		case x.v > y.v:
			return 1
		}
		return 0
	})
	n1, n0 := float64(len(a)), float64(len(b))
	n := n1 + n0
	ranks, ties := 0.0, 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j].v == all[i].v {
			j++
		}
		same := float64(j - i)
		ties += same*same*same - same
		for _, o := range all[i:j] {
			if o.first {
				ranks += float64(i+j+1) / 2
			}
		}
		i = j
	}
	u := ranks - n1*(n1+1)/2
	variance := n1 * n0 / 12 * (n + 1 - ties/(n*(n-1)))
	if variance <= 0 {
		return 1
	}
	return 1 - normal((u-n1*n0/2-0.5)/math.Sqrt(variance))
}

// levelPower is the chance with which rankSum at level alpha would find that values became larger by a
// ratio, by how the logarithms of the values spread (its efficiency beside the t-test is 3/pi for a
// normal distribution).
func levelPower(a, b []float64, ratio, alpha float64) float64 {
	if len(a) < 2 || len(b) < 2 {
		return 0
	}
	spread := max(math.Sqrt((logVariance(a)*float64(len(a)-1)+logVariance(b)*float64(len(b)-1))/float64(len(a)+len(b)-2)), 1e-6)
	shift := math.Log(1+ratio) / (spread * math.Sqrt(1/float64(len(a))+1/float64(len(b))))
	return normal(shift*math.Sqrt(3/math.Pi) - quantile(1-alpha))
}

func logVariance(all []float64) float64 {
	mean := 0.0
	for _, v := range all {
		mean += math.Log(max(v, 1e-9)) / float64(len(all))
	}
	sum := 0.0
	for _, v := range all {
		d := math.Log(max(v, 1e-9)) - mean
		sum += d * d
	}
	return sum / float64(len(all)-1)
}

func median(all []float64) float64 {
	if len(all) == 0 {
		return 0
	}
	s := slices.Sorted(slices.Values(all))
	return (s[len(s)/2] + s[(len(s)-1)/2]) / 2
}
