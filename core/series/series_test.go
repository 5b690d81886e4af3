package series

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var from = time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)

func TestGapsStayGaps(t *testing.T) {
	r := NewRoller(from, from.Add(10*time.Minute), 10, 2)
	for _, s := range []struct {
		second int
		a, b   float64
	}{{-1, 9, 9}, {0, 1, math.NaN()}, {59, 3, math.NaN()}, {300, 5, 7}, {600, 8, 8}, {601, 9, 9}} {
		r.Add(from.Add(time.Duration(s.second)*time.Second), s.a, s.b)
	}
	p := r.Points()
	if len(p) != 3 || p[0].Count != 2 || *p[0].Values[0] != (Span{1, 2, 3}) || p[0].Values[1] != nil ||
		p[1].At != from.Add(5*time.Minute) || *p[2].Values[0] != (Span{8, 8, 8}) {
		t.Errorf("points: %+v", p)
	}
}

// However samples fall, buckets lose none, stand in order, and hold their mean between its ends.
func TestRollerProperties(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		buckets, samples := 1+random.IntN(50), random.IntN(500)
		span := time.Duration(1 + random.Int64N(int64(time.Hour)))
		r := NewRoller(from, from.Add(span), buckets, 1)
		least, greatest := math.Inf(1), math.Inf(-1)
		for range samples {
			v := random.NormFloat64() * 1e6
			least, greatest = min(least, v), max(greatest, v)
			r.Add(from.Add(time.Duration(random.Int64N(int64(span)+1))), v)
		}
		count, last := 0, time.Time{}
		low, high := math.Inf(1), math.Inf(-1)
		for _, p := range r.Points() {
			s := p.Values[0]
			if !p.At.After(last) || s.Min > s.Mean || s.Mean > s.Max {
				t.Fatalf("point %+v %+v after %s", p, *s, last)
			}
			last, count = p.At, count+p.Count
			low, high = min(low, s.Min), max(high, s.Max)
		}
		if count != samples || low != least || high != greatest {
			t.Fatalf("%d of %d samples, %g..%g of %g..%g", count, samples, low, high, least, greatest)
		}
	}
}
