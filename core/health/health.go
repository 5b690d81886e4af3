// Package health judges devices: which findings a device has by the checks that policies set for
// it, at which level and since when, and the condition they put it in; how an alert lives from its
// opening to its end; and who is told. It has no clock: the caller says what time it is.
package health

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
)

// Condition is what a device is in.
type Condition string

// The conditions, from best to worst known. Silent means not heard from.
const (
	Healthy  Condition = "healthy"
	Degraded Condition = "degraded"
	Failing  Condition = "failing"
	Silent   Condition = "silent"
)

// Level is how much a finding matters, in the words of syslog (RFC 5424).
type Level string

// The levels, from least to most harm.
const (
	Notice   Level = "notice"
	Warning  Level = "warning"
	Critical Level = "critical"
)

// Levels lists them, from least to most harm.
var Levels = []Level{Notice, Warning, Critical}

// Rank orders levels; -1 for no level.
func (l Level) Rank() int {
	switch l {
	case Notice:
		return 0
	case Warning:
		return 1
	case Critical:
		return 2
	}
	return -1
}

// Finding is one thing wrong with a device. Check and Subject identify it on the device.
type Finding struct {
	Check   string    `json:"check"`
	Subject string    `json:"subject"` // such as the mount of a disk; may be empty
	Level   Level     `json:"level"`
	Message string    `json:"message"` // what is wrong, in a sentence
	Since   time.Time `json:"since"`
	// Pending is set until the state has lasted as long as its check asks.
	Pending bool `json:"pending,omitempty"`
	// Rising is a higher level that has not lasted yet, since RisingSince.
	Rising      Level     `json:"-"`
	RisingSince time.Time `json:"-"`
	// Due is when the passing of time alone changes the finding; zero for never.
	Due time.Time `json:"-"`
}

// State is what is known of a device when it is judged.
type State struct {
	Online       bool
	Since        time.Time      // when it came online or went silent
	Vitals       *device.Vitals // nil before the first report
	Skew         time.Duration  // how far its clock is ahead
	Conflict     time.Time      // when a second computer last showed its identity; zero for never
	Exceeded     time.Time      // when it last had more than a device may; zero for never
	ExceededWhat string         // of what, such as calls
	Asked        string         // what is asked of it, in a sentence; "" for nothing
	AskedSince   time.Time
	Waiting      bool // until somebody lets it in: it was never connected
	AgentVersion string
	Trends       map[string]series.Trend      // of the percentage in use, by the mount of a disk
	Safety       map[string]map[string]string // the inventory's safety section: attributes by item
	NewestAgent  string                       // the newest version that any agent of the fleet has
	Software     Software                     // nil where it is not known
}

// Software tells which version of a piece of software a device has.
type Software interface {
	Version(name string) (version string, ok bool)
	Names() []string
}

// conflictLasts is how long a device stays degraded after a second computer showed its identity:
// a refused agent tries again every five minutes.
const conflictLasts = 12 * time.Minute

// exceededLasts is how long a device stays degraded after it had more than it may: long enough to be seen.
const exceededLasts = time.Hour

// judging is one judgement under way.
type judging struct {
	*State
	set    *Set
	before []Finding
	found  []Finding
	now    time.Time
}

// Judge returns the condition and the findings of a device in the given state at now, by a set of
// checks, worst first. before are its findings at the last judgement, those pending included: one
// that goes on keeps its Since, and limits that were crossed have hysteresis on the way back.
func Judge(s *State, set *Set, before []Finding, now time.Time) (Condition, []Finding) {
	j := &judging{State: s, set: set, before: before, now: now}
	j.presence()
	if s.Vitals != nil {
		s.Vitals.Readings(j.reading)
		j.more()
		j.probes()
	}
	j.safety()
	j.software()
	j.merge()
	slices.SortStableFunc(j.found, ByHarm)
	return condition(s, j.found), j.found
}

// merge drops the finding of a disk that is nearly full where one says at least as loudly when it
// will be: they are one matter.
func (j *judging) merge() {
	j.found = slices.DeleteFunc(j.found, func(f Finding) bool {
		return f.Check == CheckDisk && slices.ContainsFunc(j.found, func(o Finding) bool {
			return o.Check == checkDiskDays && o.Subject == f.Subject && !o.Pending && o.Level.Rank() >= f.Level.Rank()
		})
	})
}

// was finds a finding of the last judgement.
func (j *judging) was(check, subject string) *Finding {
	for i := range j.before {
		if j.before[i].Check == check && j.before[i].Subject == subject {
			return &j.before[i]
		}
	}
	return nil
}

// add notes that a check found something at a level; message is asked only then. A state counts
// once it has lasted as long as the setting says, and so does its rise to a higher level.
func (j *judging) add(s *Resolved, subject string, level Level, since time.Time, message func() string) {
	f := Finding{Check: s.Check, Subject: subject, Level: level, Since: since}
	lasts := time.Duration(s.ForSeconds) * time.Second
	old := j.was(s.Check, subject)
	if old != nil {
		f.Since = old.Since
	}
	if ripe := f.Since.Add(lasts); j.now.Before(ripe) && (old == nil || old.Pending) {
		f.Pending, f.Due = true, ripe
	} else if old != nil && !old.Pending && level.Rank() > old.Level.Rank() && lasts > 0 {
		f.RisingSince = j.now
		if old.Rising.Rank() >= level.Rank() {
			f.RisingSince = old.RisingSince
		}
		if ripe := f.RisingSince.Add(lasts); j.now.Before(ripe) {
			f.Level, f.Rising, f.Due = old.Level, level, ripe
		} else {
			f.RisingSince = time.Time{}
		}
	}
	f.Message = message()
	j.found = append(j.found, f)
}

// level is the level at which a reading stood at the last judgement, the rising one included.
func (j *judging) level(check, subject string) Level {
	old := j.was(check, subject)
	if old == nil {
		return ""
	}
	if old.Rising != "" {
		return old.Rising
	}
	return old.Level
}

func condition(s *State, found []Finding) Condition {
	worst := -1
	for i := range found {
		if !found[i].Pending {
			worst = max(worst, found[i].Level.Rank())
		}
	}
	switch {
	case !s.Online:
		return Silent
	case worst == Critical.Rank():
		return Failing
	case worst == Warning.Rank():
		return Degraded
	}
	return Healthy
}

// ByHarm orders findings: higher level first, then those that have lasted less long, as they are
// the ones whose cause can still be found.
func ByHarm(a, b Finding) int {
	return cmp.Or(cmp.Compare(b.Level.Rank(), a.Level.Rank()), b.Since.Compare(a.Since), cmp.Compare(a.Check, b.Check),
		cmp.Compare(a.Subject, b.Subject))
}

// NextStep says what a technician would do first about a finding of a check.
func NextStep(check string) string {
	if k, ok := kindByName[check]; ok {
		return k.Next
	}
	return "Open the device"
}

// Bytes writes a size in decimal units, as disks are sold: 1.2 GB.
func Bytes(n int64) string {
	v, unit := float64(max(n, 0)), 0
	units := []string{"B", "kB", "MB", "GB", "TB", "PB"}
	for v >= 999.5 && unit < len(units)-1 {
		v /= 1000
		unit++
	}
	if unit == 0 || v >= 99.5 {
		return fmt.Sprintf("%.0f %s", v, units[unit])
	}
	return fmt.Sprintf("%.1f %s", v, units[unit])
}

// Memory writes a size of memory in binary units, as memory is sold: 8 GiB.
func Memory(n int64) string {
	if gib := float64(max(n, 0)) / (1 << 30); gib >= 0.95 {
		return strings.TrimSuffix(fmt.Sprintf("%.1f", gib), ".0") + " GiB"
	}
	return fmt.Sprintf("%d MiB", max(n, 0)>>20)
}

func span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	case d >= 2*time.Minute:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	}
	return fmt.Sprintf("%d seconds", int(d.Seconds()))
}
