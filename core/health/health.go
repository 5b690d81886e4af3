// Package health judges readings: which findings a device has, at which level and since when, and
// the condition they put it in. It has no clock: the caller says what time it is.
package health

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/device"
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

func (l Level) rank() int { return slices.Index([]Level{Notice, Warning, Critical}, l) }

// Checks that give findings.
const (
	CheckSilent   = "silent"
	CheckIdentity = "identity"
	CheckDisk     = "disk"
	CheckMemory   = "memory"
	CheckClock    = "clock"
)

// Finding is one thing wrong with a device. Check and Subject identify it on the device.
type Finding struct {
	Check   string    `json:"check"`
	Subject string    `json:"subject"` // such as the mount of a disk; may be empty
	Level   Level     `json:"level"`
	Message string    `json:"message"` // what is wrong, in a sentence
	Since   time.Time `json:"since"`
}

// State is what is known of a device when it is judged.
type State struct {
	Online   bool
	Since    time.Time      // when it came online or went silent
	Vitals   *device.Vitals // nil before the first report
	Skew     time.Duration  // how far its clock is ahead
	Conflict time.Time      // when a second computer last showed its identity; zero for never
}

// limit is a threshold with hysteresis: a level once reached is left only below level - back.
type limit struct{ warning, critical, back float64 }

var (
	diskLimit   = limit{warning: 90, critical: 95, back: 2}
	memoryLimit = limit{warning: 92, critical: 97, back: 4}
)

// conflictLasts is how long a device stays degraded after a second computer showed its identity:
// a refused agent tries again every five minutes.
const conflictLasts = 12 * time.Minute

func (l limit) level(value float64, was Level) (Level, bool) {
	critical, warning := l.critical, l.warning
	if was == Critical {
		critical -= l.back
	}
	if was == Critical || was == Warning {
		warning -= l.back
	}
	switch {
	case value >= critical:
		return Critical, true
	case value >= warning:
		return Warning, true
	}
	return "", false
}

// Judge returns the condition and the findings of a device in the given state at now, worst first.
// before are its findings at the last judgement: one that goes on keeps its Since, and limits that
// were crossed have hysteresis on the way back.
func Judge(s State, before []Finding, now time.Time) (Condition, []Finding) {
	var found []Finding
	was := func(check, subject string) *Finding {
		for i := range before {
			if before[i].Check == check && before[i].Subject == subject {
				return &before[i]
			}
		}
		return &Finding{Since: now}
	}
	add := func(check, subject string, level Level, since time.Time, format string, args ...any) {
		found = append(found, Finding{check, subject, level, fmt.Sprintf(format, args...), since})
	}
	if !s.Online {
		add(CheckSilent, "", Warning, s.Since, "Not heard from: its agent is not connected.")
	}
	if !s.Conflict.IsZero() && now.Sub(s.Conflict) < conflictLasts {
		add(CheckIdentity, "", Warning, was(CheckIdentity, "").Since,
			"A second computer shows this device's identity and is refused: was its disk or its agent's folder copied?")
	}
	if s.Online && s.Skew.Abs() > 2*time.Minute {
		ahead := "ahead"
		if s.Skew < 0 {
			ahead = "behind"
		}
		add(CheckClock, "", Notice, was(CheckClock, "").Since, "Its clock is %s %s.", span(s.Skew.Abs()), ahead)
	}
	if v := s.Vitals; v != nil {
		for _, d := range v.Disks {
			old := was(CheckDisk, d.Mount)
			if level, ok := diskLimit.level(d.Percent(), old.Level); ok {
				add(CheckDisk, d.Mount, level, old.Since, "Disk %s is %.0f %% full: %s of %s left.", d.Mount,
					d.Percent(), Bytes(d.TotalBytes-d.UsedBytes), Bytes(d.TotalBytes))
			}
		}
		old := was(CheckMemory, "")
		if level, ok := memoryLimit.level(v.Memory, old.Level); ok {
			add(CheckMemory, "", level, old.Since, "Memory is %.0f %% in use: %s of %s left.", v.Memory,
				Memory(v.MemoryBytes-v.MemoryUsedBytes), Memory(v.MemoryBytes))
		}
	}
	slices.SortStableFunc(found, ByHarm)
	return condition(s, found), found
}

func condition(s State, found []Finding) Condition {
	switch {
	case !s.Online:
		return Silent
	case slices.ContainsFunc(found, func(f Finding) bool { return f.Level == Critical }):
		return Failing
	case slices.ContainsFunc(found, func(f Finding) bool { return f.Level == Warning }):
		return Degraded
	}
	return Healthy
}

// ByHarm orders findings: higher level first, then those that have lasted less long, as they are
// the ones whose cause can still be found.
func ByHarm(a, b Finding) int {
	return cmp.Or(cmp.Compare(b.Level.rank(), a.Level.rank()), b.Since.Compare(a.Since))
}

// NextStep says what a technician would do first about a finding.
func NextStep(f Finding) string {
	switch f.Check {
	case CheckSilent:
		return "Ask at the site whether it has power and network"
	case CheckIdentity:
		return "Enrol the copy anew, with a token of its own"
	case CheckDisk:
		return "See what fills it from a shell"
	case CheckMemory:
		return "See what uses it from a shell"
	case CheckClock:
		return "Check its time service"
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
	}
	return fmt.Sprintf("%d minutes", int(d.Minutes()))
}
