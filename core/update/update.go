// Package update is what an update of a device is: a newer version that a source offers of something that
// the device has. It has no clock and keeps nothing.
package update

import (
	"cmp"
	"slices"
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
var Sources = []string{"apt", "dnf", "zypper", "windows", "macos", "packages", "agent"}

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
	MaxText    = 300 // bytes of a text
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
			*text = device.CleanLong(*text, MaxText)
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
