package series

import (
	"math"
	"strings"
	"time"
)

// Tier is how finely history is kept, and for how long.
type Tier int

// The tiers, from finest to coarsest.
const (
	Raw Tier = iota
	FiveMinutes
	Hourly
)

// Tiers lists them.
var Tiers = []Tier{Raw, FiveMinutes, Hourly}

// Step is the time between two rows; 0 for Raw, whose rows come as they were read.
func (t Tier) Step() time.Duration { return [...]time.Duration{0, 5 * time.Minute, time.Hour}[t] }

// Window is the span of time of one chunk.
func (t Tier) Window() time.Duration {
	return [...]time.Duration{4 * time.Hour, 24 * time.Hour, 10 * 24 * time.Hour}[t]
}

// Start is the beginning of the window that a time lies in.
func (t Tier) Start(at time.Time) time.Time { return at.UTC().Truncate(t.Window()) }

// Keep is how long each tier is kept.
type Keep [3]time.Duration

// UsualKeep is two weeks of what was read, 90 days of five minutes and two years of hours.
var UsualKeep = Keep{14 * 24 * time.Hour, 90 * 24 * time.Hour, 2 * 365 * 24 * time.Hour}

// Choose is the tier for buckets of such a length that begin at from: the coarsest that loses
// nothing, or a coarser one where the finer no longer reaches back so far.
func (k Keep) Choose(step time.Duration, from, now time.Time) Tier {
	t := Raw
	for t < Hourly && (step >= 2*(t+1).Step() || now.Sub(from) > k[t]) {
		t++
	}
	return t
}

// The column of a rolled-up table that counts the samples of its row, and the ends of the names of
// those that hold a reading's least and greatest value; the mean has the reading's own name.
const (
	CountColumn = "#"
	minEnd      = " ↓"
	maxEnd      = " ↑"
)

// Ends returns the columns of a rolled-up table that hold a reading's least and greatest value.
func Ends(name string) (least, greatest string) { return name + minEnd, name + maxEnd }

// Reading is the reading that a column of any tier belongs to.
func Reading(column string) string {
	return strings.TrimSuffix(strings.TrimSuffix(column, minEnd), maxEnd)
}

// RollUp makes the rows of a tier from a sorted table of what was read.
func RollUp(raw *Table, tier Tier) *Table {
	step := tier.Step()
	out := &Table{}
	for begin := 0; begin < len(raw.At); {
		start := raw.At[begin].UTC().Truncate(step)
		end := begin
		for end < len(raw.At) && raw.At[end].Before(start.Add(step)) {
			end++
		}
		out.Append(start, func(yield func(string, float64)) {
			yield(CountColumn, float64(end-begin))
			for _, c := range raw.Columns {
				var s sum
				for _, v := range c.Values[begin:min(end, len(c.Values))] {
					if !math.IsNaN(v) {
						s.add(v, v, v, 1)
					}
				}
				if s.n == 0 {
					continue
				}
				yield(c.Name, s.total/float64(s.n))
				// Rows in which a reading stood still need no ends.
				if s.min != s.max {
					yield(c.Name+minEnd, s.min)
					yield(c.Name+maxEnd, s.max)
				}
			}
		})
		begin = end
	}
	out.fill()
	return out
}

// AddTable puts a table's rows into the roller: of each name the column as its kind, in the order
// of names. A rolled-up table brings its counts and ends.
func (r *Roller) AddTable(t *Table, names []string) {
	count := t.Column(CountColumn)
	counts := func(row int) int {
		if count == nil {
			return 1
		}
		return int(count.Values[row])
	}
	for row, at := range t.At {
		r.AddCount(at, counts(row))
	}
	for kind, name := range names {
		mean := t.Column(name)
		if mean == nil {
			continue
		}
		low, high := Ends(name)
		least, most := t.Column(low), t.Column(high)
		for row, at := range t.At {
			v := mean.Values[row]
			if math.IsNaN(v) {
				continue
			}
			s := Span{v, v, v}
			if least != nil && most != nil && !math.IsNaN(least.Values[row]) {
				s.Min, s.Max = min(least.Values[row], v), max(most.Values[row], v)
			}
			r.AddSpan(at, kind, counts(row), s)
		}
	}
}
