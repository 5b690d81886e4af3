package patch

import (
	"iter"
	"math"
	"time"

	"moorwatch.example/core/update"
)

// Ages are the bounds by which missing security updates are counted: how long ago they were released, at most;
// the last are older.
var Ages = []time.Duration{7 * 24 * time.Hour, 30 * 24 * time.Hour, 90 * 24 * time.Hour}

// Tally is how current some devices are, counted.
type Tally struct {
	Devices   int `json:"devices"`
	Current   int `json:"current"`   // that miss no security update
	Late      int `json:"late"`      // that miss one older than 30 days
	Exploited int `json:"exploited"` // that have a weakness that is known to be exploited
	Missing   int `json:"missing"`   // security updates that are missing, in all
	// Grid counts those by severity, and by age: up to each of Ages, and older.
	Grid map[update.Severity][4]int `json:"grid,omitempty"`
}

// Count adds a device that misses some updates, each with when it was first seen; exploited tells whether it has a
// weakness that is. What was released later than at did not count then.
func (t *Tally) Count(missing iter.Seq2[*update.Update, time.Time], exploited bool, at time.Time) {
	t.Devices++
	if exploited {
		t.Exploited++
	}
	current, late := true, false
	for u, seen := range missing {
		if u.Class != update.Security {
			continue
		}
		from := u.Released
		if from.IsZero() {
			from = seen
		}
		age := at.Sub(from)
		if age < 0 {
			continue
		}
		place := 0
		for place < len(Ages) && age > Ages[place] {
			place++
		}
		if t.Grid == nil {
			t.Grid = map[update.Severity][4]int{}
		}
		row := t.Grid[u.Severity]
		row[place]++
		t.Grid[u.Severity] = row
		t.Missing++
		current, late = false, late || place > 1
	}
	if current {
		t.Current++
	}
	if late {
		t.Late++
	}
}

// Merge adds the devices of another tally.
func (t *Tally) Merge(o Tally) {
	t.Devices, t.Current, t.Late, t.Exploited, t.Missing = t.Devices+o.Devices, t.Current+o.Current, t.Late+o.Late, t.Exploited+o.Exploited,
		t.Missing+o.Missing
	for s, counts := range o.Grid {
		if t.Grid == nil {
			t.Grid = map[update.Severity][4]int{}
		}
		row := t.Grid[s]
		for i, n := range counts {
			row[i] += n
		}
		t.Grid[s] = row
	}
}

// Share is the share of devices that are current, in percent; NaN where there is no device.
func (t Tally) Share() float64 {
	if t.Devices == 0 {
		return math.NaN()
	}
	return 100 * float64(t.Current) / float64(t.Devices)
}

// NamedTally is a tally of a site, a ring or an organisation.
type NamedTally struct {
	Name  string `json:"name"`
	Tally Tally  `json:"tally"`
}

// DayTally is a tally as it was on a day.
type DayTally struct {
	Day   time.Time `json:"day"` // its midnight, UTC
	Tally Tally     `json:"tally"`
}
