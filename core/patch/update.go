// Package patch is how devices are kept current without a bad morning: what an update is, which updates
// are approved, in which rings of devices a rollout walks, and whether what became of those that have it
// lets it go on. It has no clock, asks no device, and keeps nothing.
package patch

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/update"
)

// Exposure is how far behind a device is.
type Exposure struct {
	Missing  int                  `json:"missing"`
	Security int                  `json:"security"` // of them
	Blocked  int                  `json:"blocked"`
	Worst    update.Severity      `json:"worst,omitempty"`
	Oldest   time.Time            `json:"oldest,omitzero"` // release of the oldest security update that is missing
	Score    float64              `json:"score"`           // 0 to 100
	Classes  map[update.Class]int `json:"classes"`
	sum      float64
}

// How much an update weighs in a score, by its severity.
var weights = map[update.Severity]float64{"critical": 20, "high": 10, "medium": 4, "low": 1, "": 2}

// agesIn is the age at which a missing security update weighs twice what it did when it was released.
const agesIn = 30 * 24 * time.Hour

// Exposed tells how far behind a device is that misses these updates. Security updates weigh by their
// severity and age, and three times as much where what they mend is exploited; the score nears 100 as they add up.
func Exposed(missing []update.Update, now time.Time) Exposure {
	var e Exposure
	for i := range missing {
		e.Add(&missing[i], missing[i].Blocked != "", now)
	}
	return e
}

// Add adds an update that is missing; the zero value is of a device that misses nothing.
func (e *Exposure) Add(u *update.Update, blocked bool, now time.Time) {
	if e.Classes == nil {
		e.Classes = map[update.Class]int{}
	}
	e.Missing++
	e.Classes[u.Class]++
	if blocked {
		e.Blocked++
	}
	if u.Class != update.Security {
		return
	}
	e.Security++
	if u.Severity.Rank() > e.Worst.Rank() {
		e.Worst = u.Severity
	}
	weight := weights[u.Severity]
	if u.Exploited {
		weight = max(3*weight, weights["critical"])
	}
	if !u.Released.IsZero() {
		if e.Oldest.IsZero() || u.Released.Before(e.Oldest) {
			e.Oldest = u.Released
		}
		weight *= 1 + min(max(now.Sub(u.Released).Seconds(), 0)/agesIn.Seconds(), 5)
	}
	e.sum += weight
	e.Score = 100 * e.sum / (e.sum + 60)
}

// maxText bounds names and titles, in bytes.
const maxText = update.MaxText

// validNames refuses a list of names of updates that cannot be.
func validNames(names []string) error {
	if len(names) > 1000 {
		return errors.New("a list has at most 1000 names")
	}
	for _, n := range names {
		if strings.TrimSpace(n) == "" || len(n) > maxText {
			return fmt.Errorf("%q is no name of an update", n)
		}
	}
	return nil
}

// Bounds of what is told of an installation.
const (
	mostLines = 8
	maxLine   = 200
)

// Excerpt are the lines of what an installation printed that are about an update, by its name; where it failed, the
// last ones too.
func Excerpt(log, name string, failed bool) string {
	var all []string
	for line := range strings.Lines(log) {
		if line = device.CleanLong(line, maxLine); line != "" {
			all = append(all, line)
		}
	}
	var out []string
	for i, line := range all {
		if strings.Contains(line, name) || failed && i >= len(all)-4 {
			out = append(out, line)
		}
	}
	if len(out) > mostLines {
		out = append(out[:mostLines/2:mostLines/2], out[len(out)-mostLines/2:]...)
	}
	return strings.Join(out, "\n")
}
