package health

import (
	"fmt"
	"math"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
)

// Episode is a stretch of the past in which a setting would have had a finding.
type Episode struct {
	Reading string    `json:"reading"`
	Level   Level     `json:"level"` // the highest
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
}

// Replay judges a device's past by one setting of a check on readings: each stretch in which it
// would have had an alert, in order. Rows lie apart by at most gap, or a stretch ends between them.
// Of a rolled-up table the means are judged.
func Replay(s Setting, t *series.Table, gap time.Duration) []Episode {
	k := kindByName[s.Check]
	if k == nil || k.Reading == "" || s.Off {
		return nil
	}
	set := newSet([]Resolved{{Setting: s, exact: s.Subject != "*"}})
	var all []Episode
	for _, c := range t.Columns {
		kind, subject := device.SplitReading(c.Name)
		if kind != k.Reading || series.Reading(c.Name) != c.Name || set.find(s.Check, subject) == nil {
			continue
		}
		all = append(all, replay(&s, c.Name, t.At, c.Values, gap)...)
	}
	return all
}

func replay(s *Setting, reading string, at []time.Time, values []float64, gap time.Duration) (all []Episode) {
	var was Level
	var began, last time.Time
	open := false
	for i, v := range values {
		if math.IsNaN(v) || (!last.IsZero() && at[i].Sub(last) > gap) {
			was, open = "", false
		}
		if math.IsNaN(v) {
			continue
		}
		last = at[i]
		level, _, _ := s.limit(v, was)
		switch {
		case level == "":
			open = false
		case was == "":
			began = at[i]
		}
		was = level
		if level == "" || at[i].Sub(began) < s.lasts() {
			continue
		}
		if n := len(all); open || (n > 0 && began.Sub(all[n-1].To) <= ReopenWithin) {
			e := &all[n-1]
			if e.To = at[i]; level.Rank() > e.Level.Rank() {
				e.Level = level
			}
		} else {
			all = append(all, Episode{reading, level, began, at[i]})
		}
		open = true
	}
	return all
}

// Past says what an episode was about.
func Past(check, subject string, e Episode) string {
	k := kindByName[check]
	if k == nil {
		return check
	}
	title := k.Title
	if subject != "" {
		title += " " + subject
	}
	return fmt.Sprintf("%s was out of its range for %s.", title, span(e.To.Sub(e.From)))
}
