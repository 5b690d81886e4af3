// Package series keeps samples of readings small and reads them back: tables of readings as
// compressed chunks, rolled up into equal buckets of time in memory that depends on the number of
// buckets alone, and the trend of a reading. Where chunks are kept is no matter of this package.
package series

import (
	"math"
	"time"
)

// Span is the least, mean and greatest of the values in a bucket.
type Span struct {
	Min  float64 `json:"min"`
	Mean float64 `json:"mean"`
	Max  float64 `json:"max"`
}

// Point is one bucket. Values holds a Span for each kind of reading, in the order in which they
// were added; nil where the bucket had none.
type Point struct {
	At     time.Time // the bucket's start
	Count  int       // samples in it
	Values []*Span
}

// Roller gathers samples into buckets.
type Roller struct {
	from, to time.Time
	step     time.Duration
	kinds    int
	buckets  []bucket
}

type bucket struct {
	count int
	sums  []sum
}

type sum struct {
	n               int
	min, total, max float64
}

// NewRoller divides from..to into the given number of buckets (at least 1) for samples of so many
// kinds of reading. A span of less than one nanosecond a bucket is widened.
func NewRoller(from, to time.Time, buckets, kinds int) *Roller {
	buckets = max(buckets, 1)
	step := max(to.Sub(from)/time.Duration(buckets), 1)
	return &Roller{from, to, step, kinds, make([]bucket, buckets)}
}

// Step is the length of a bucket.
func (r *Roller) Step() time.Duration { return r.step }

// Add puts a sample into its bucket; one outside from..to is passed over. values has one entry a
// kind of reading, NaN where there is none.
func (r *Roller) Add(at time.Time, values ...float64) {
	b := r.bucket(at)
	if b == nil {
		return
	}
	b.count++
	for i, v := range values[:min(len(values), r.kinds)] {
		b.sums[i].add(v, v, v, 1)
	}
}

// AddSpan puts what count samples came to into the bucket of their start. mean is their mean, not
// their total. The samples themselves are counted by AddCount.
func (r *Roller) AddSpan(at time.Time, kind, count int, s Span) {
	if b := r.bucket(at); b != nil && count > 0 {
		b.sums[kind].add(s.Min, s.Mean, s.Max, count)
	}
}

// AddCount counts samples into a bucket.
func (r *Roller) AddCount(at time.Time, count int) {
	if b := r.bucket(at); b != nil {
		b.count += count
	}
}

func (r *Roller) bucket(at time.Time) *bucket {
	if at.Before(r.from) || at.After(r.to) {
		return nil
	}
	b := &r.buckets[min(int(at.Sub(r.from)/r.step), len(r.buckets)-1)]
	if b.sums == nil {
		b.sums = make([]sum, r.kinds)
	}
	return b
}

func (s *sum) add(least, mean, most float64, n int) {
	if math.IsNaN(mean) || math.IsInf(mean, 0) {
		return
	}
	if s.n == 0 || least < s.min {
		s.min = least
	}
	if s.n == 0 || most > s.max {
		s.max = most
	}
	s.n += n
	s.total += mean * float64(n)
}

// Points returns the buckets that have samples, in order of time: a gap stays a gap.
func (r *Roller) Points() []Point {
	points := []Point{}
	for i, b := range r.buckets {
		if b.count == 0 {
			continue
		}
		p := Point{At: r.from.Add(time.Duration(i) * r.step), Count: b.count, Values: make([]*Span, r.kinds)}
		for k, s := range b.sums {
			if s.n > 0 {
				// The mean is held between its ends against rounding.
				mean := min(max(s.total/float64(s.n), s.min), s.max)
				p.Values[k] = &Span{s.min, mean, s.max}
			}
		}
		points = append(points, p)
	}
	return points
}
