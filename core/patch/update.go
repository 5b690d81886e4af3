// Package patch is how devices are kept current without a bad morning: what an update is, which updates
// are approved, in which rings of devices a rollout walks, and whether what became of those that have it
// lets it go on. It has no clock, asks no device, and keeps nothing.
package patch

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/versions"
)

// Update is a newer version that a source offers a device of something that it has.
type Update struct {
	Source     string    `json:"source"` // one of Sources
	Name       string    `json:"name"`   // as the source calls it
	Title      string    `json:"title,omitempty"`
	From       string    `json:"from,omitempty"` // the version that the device has
	To         string    `json:"to"`
	Class      Class     `json:"class"`
	Severity   Severity  `json:"severity,omitempty"`
	Size       int64     `json:"size,omitempty"` // bytes to be fetched
	Released   time.Time `json:"released,omitzero"`
	Restart    string    `json:"restart,omitempty"` // what it asks for: RestartDevice, RestartService or nothing
	Vendor     string    `json:"vendor,omitempty"`
	Advisories []string  `json:"advisories,omitempty"`
	Exploited  bool      `json:"exploited,omitempty"` // what it mends is known to be exploited
	// ReplacedBy is a newer version that some device is offered; "" where this is the newest known.
	ReplacedBy string `json:"replaced_by,omitempty"`
	// Blocked is why the device itself would not install it, such as a hold; "" where nothing is in the way.
	Blocked string `json:"blocked,omitempty"`
}

// Mending adds what advisories say of the weaknesses that the update mends: then it is one of security, as bad as
// the worst of them, whatever its source says.
func (u *Update) Mending(advisories []string, severities []Severity, exploited bool) {
	for _, id := range advisories {
		if !slices.Contains(u.Advisories, id) && len(u.Advisories) < maxNames {
			u.Advisories = append(u.Advisories, id)
		}
	}
	for _, s := range severities {
		if s.Rank() > u.Severity.Rank() {
			u.Severity = s
		}
	}
	if len(advisories) > 0 && (u.Class == Other || u.Class == Feature) {
		u.Class = Security
	}
	u.Exploited = exploited
}

// kinds are the types of packages of sources, by which their versions are ordered.
var kinds = map[string]string{"apt": "deb", "dnf": "rpm", "zypper": "rpm"}

// Replace notes of updates which newer version of the same is known. Those of Windows are named by what does not order
// them, and are left as they are.
func Replace(all []*Update) {
	newest := map[[2]string]*Update{}
	for _, u := range all {
		key := [2]string{u.Source, u.Name}
		if n := newest[key]; u.Source != "windows" && (n == nil || versions.Compare(kinds[u.Source], u.To, n.To) > 0) {
			newest[key] = u
		}
	}
	for _, u := range all {
		if n := newest[[2]string{u.Source, u.Name}]; n != nil && n.To != u.To {
			u.ReplacedBy = n.To
		}
	}
}

// Ref names an update among those of all devices.
type Ref struct {
	Source string `json:"source"`
	Name   string `json:"name"`
	To     string `json:"to"`
}

// Ref is what names the update.
func (u Update) Ref() Ref { return Ref{u.Source, u.Name, u.To} }

// Sources of updates.
var Sources = []string{"apt", "dnf", "zypper", "windows", "macos", "packages"}

// Class is what kind of update it is.
type Class string

// The classes.
const (
	Security   Class = "security"
	Critical   Class = "critical"
	Feature    Class = "feature"
	Driver     Class = "driver"
	Definition Class = "definition"
	Other      Class = "other"
)

// Classes lists them, the most pressing first.
var Classes = []Class{Security, Critical, Definition, Driver, Feature, Other}

// Severity is how bad what it mends is, as CVSS rates it in words (CVSS 3.1, section 5).
type Severity string

// Severities, the worst first; "" is not known.
var Severities = []Severity{"critical", "high", "medium", "low", ""}

// Rank orders severities: 0 is not known, 4 is critical.
func (s Severity) Rank() int { return len(Severities) - 1 - slices.Index(Severities, s) }

// What an update asks to be restarted.
const (
	RestartDevice  = "device"
	RestartService = "service"
)

// Bounds of what a device tells.
const (
	MaxUpdates = 5000
	maxText    = 300
	maxNames   = 40
)

// Clean makes what a device tells safe to keep and to show: texts without what steers a terminal, cut;
// unknown classes and severities become the least; what has no name or version, or is of no known
// source, is left out. Of updates with the same name and source the last stays. They are returned in the
// order of source and name.
func Clean(all []Update) []Update {
	seen := map[[2]string]int{}
	out := []Update{}
	for _, u := range all {
		for _, text := range []*string{&u.Name, &u.From, &u.To, &u.Title, &u.Vendor, &u.Blocked} {
			*text = device.CleanLong(*text, maxText)
		}
		if u.Name == "" || u.To == "" || !slices.Contains(Sources, u.Source) {
			continue
		}
		if !slices.Contains(Classes, u.Class) {
			u.Class = Other
		}
		if !slices.Contains(Severities, u.Severity) {
			u.Severity = ""
		}
		if u.Restart != RestartDevice && u.Restart != RestartService {
			u.Restart = ""
		}
		u.Size, u.Exploited, u.ReplacedBy = min(max(u.Size, 0), 1<<40), false, "" // which are told by others than the device
		u.Advisories = u.Advisories[:min(len(u.Advisories), maxNames)]
		for i := range u.Advisories {
			u.Advisories[i] = device.CleanLong(u.Advisories[i], maxNames)
		}
		key := [2]string{u.Source, u.Name}
		if i, ok := seen[key]; ok {
			out[i] = u
		} else if len(out) < MaxUpdates {
			seen[key] = len(out)
			out = append(out, u)
		}
	}
	slices.SortFunc(out, func(a, b Update) int { return cmp.Or(cmp.Compare(a.Source, b.Source), cmp.Compare(a.Name, b.Name)) })
	return out
}

// Exposure is how far behind a device is.
type Exposure struct {
	Missing  int           `json:"missing"`
	Security int           `json:"security"` // of them
	Blocked  int           `json:"blocked"`
	Worst    Severity      `json:"worst,omitempty"`
	Oldest   time.Time     `json:"oldest,omitzero"` // release of the oldest security update that is missing
	Score    float64       `json:"score"`           // 0 to 100
	Classes  map[Class]int `json:"classes"`
	sum      float64
}

// How much an update weighs in a score, by its severity.
var weights = map[Severity]float64{"critical": 20, "high": 10, "medium": 4, "low": 1, "": 2}

// agesIn is the age at which a missing security update weighs twice what it did when it was released.
const agesIn = 30 * 24 * time.Hour

// Exposed tells how far behind a device is that misses these updates. Security updates weigh by their
// severity and age, and three times as much where what they mend is exploited; the score nears 100 as they add up.
func Exposed(missing []Update, now time.Time) Exposure {
	var e Exposure
	for i := range missing {
		e.Add(&missing[i], missing[i].Blocked != "", now)
	}
	return e
}

// Add adds an update that is missing; the zero value is of a device that misses nothing.
func (e *Exposure) Add(u *Update, blocked bool, now time.Time) {
	if e.Classes == nil {
		e.Classes = map[Class]int{}
	}
	e.Missing++
	e.Classes[u.Class]++
	if blocked {
		e.Blocked++
	}
	if u.Class != Security {
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
