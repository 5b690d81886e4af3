// Package session holds the rules of work on a device: which tools there are and whether the person
// at it would notice them, and whether and how that person is told or asked. It has no clock and
// reaches nobody: the caller tells what the person answered.
package session

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// Tool is a kind of work on a device.
type Tool struct {
	Name       string `json:"name"`
	Title      string `json:"title"`
	Capability string `json:"capability"` // what the device must offer
	// Noticed says what the person at the device notices of it; "" is nothing.
	Noticed string `json:"noticed"`
}

// Tools lists them, those that nobody notices first.
var Tools = []Tool{
	{"command", "Command", device.CapabilityCommands, ""},
	{"shell", "Shell", device.CapabilityShell, ""},
	{"files", "Files", device.CapabilityFiles, ""},
	{"processes", "Processes", device.CapabilityProcesses, ""},
	{"services", "Services", device.CapabilityServices, ""},
	{"events", "Event logs", device.CapabilityEvents, ""},
	{"network", "Network", device.CapabilityNetwork, ""},
	{"settings", "Settings", device.CapabilitySettings, ""},
	{"queries", "Queries", device.CapabilityQueries, ""},
	{"screen", "Screen", device.CapabilityScreen, "Their screen is seen, and may be worked on."},
	{"wall", "Wall", device.CapabilityScreen, ""},
	{"people", "People", device.CapabilityPeople, "A message appears on their screen."},
	{"power", "Power", device.CapabilityPower, "Their work ends with the computer or their session."},
}

// Find returns the tool of a name.
func Find(name string) (Tool, bool) {
	i := slices.IndexFunc(Tools, func(t Tool) bool { return t.Name == name })
	if i < 0 {
		return Tool{}, false
	}
	return Tools[i], true
}

// Mode is how a person takes part in a session at their device.
type Mode string

// The modes.
const (
	Silent Mode = "silent" // they are not told
	Tell   Mode = "tell"   // they see who works on it, as long as that lasts, and may end it
	Ask    Mode = "ask"    // and are asked before
)

// What the wall, whose pictures nobody is asked about, shows of screens beside Silent, which is all.
const (
	Blur   Mode = "blur"   // so coarsely that nothing can be read
	Forbid Mode = "forbid" // nothing
)

// Rule says how the people at some devices take part in the use of a tool.
type Rule struct {
	Scope health.Scope `json:"scope"`
	Tool  string       `json:"tool"` // "" is every tool
	Mode  Mode         `json:"mode"`
	// Seconds is how long an answer is awaited, 10 to 300.
	Seconds int `json:"seconds,omitempty"`
	// Unanswered and Absent tell whether work may begin when nobody answers, and when nobody is
	// there to be asked: nobody is signed in, or everybody's screen is locked.
	Unanswered bool `json:"unanswered,omitempty"`
	Absent     bool `json:"absent,omitempty"`
	// Unrecorded tells that what is done with the tool is not recorded.
	Unrecorded bool `json:"unrecorded,omitempty"`
	// KeepDays is for how many days recordings are kept, 1 to 3660; 0 is 180.
	KeepDays int `json:"keep_days,omitempty"`
}

// Bounds of a wait for an answer, in seconds.
const (
	leastWait = 10
	usualWait = 30
	mostWait  = 300
)

// How long recordings are kept, in days.
const (
	usualKept = 180
	mostKept  = 3660
)

// Validate refuses a rule that says nothing, and why.
func (r Rule) Validate() error {
	if !r.Scope.Kind.Known() {
		return fmt.Errorf("there is no scope %q", r.Scope.Kind)
	}
	if _, ok := Find(r.Tool); r.Tool != "" && !ok {
		return fmt.Errorf("there is no tool %q", r.Tool)
	}
	switch {
	case r.Mode == Silent:
	case r.Tool == "wall" && (r.Mode == Blur || r.Mode == Forbid):
	case r.Tool == "wall":
		return fmt.Errorf("nobody is asked about the wall: its mode is silent, blur or forbid, not %q", r.Mode)
	case r.Mode != Tell && r.Mode != Ask:
		return fmt.Errorf("the mode %q is none of silent, tell and ask", r.Mode)
	}
	if r.Seconds != 0 && (r.Seconds < leastWait || r.Seconds > mostWait) {
		return fmt.Errorf("an answer is awaited for %d to %d seconds", leastWait, mostWait)
	}
	if r.KeepDays < 0 || r.KeepDays > mostKept {
		return fmt.Errorf("recordings are kept for 1 to %d days", mostKept)
	}
	return nil
}

// Kept is for how many days recordings are kept.
func (r Rule) Kept() int { return cmp.Or(r.KeepDays, usualKept) }

// Wait is how long an answer is awaited.
func (r Rule) Wait() time.Duration { return time.Duration(cmp.Or(r.Seconds, usualWait)) * time.Second }

// Resolve finds the rule for a tool at a place: of those that cover it the one with the nearest
// scope, and of two as near the one for the tool alone. Where there is none, work is silent; but
// people are asked before their screen is seen, where somebody is there to be asked, and the wall shows
// it blurred.
func Resolve(rules []Rule, tool string, at *health.Place) Rule {
	found := Rule{Scope: health.Scope{Kind: health.Everywhere}, Mode: Silent}
	switch tool {
	case "screen":
		found.Mode, found.Absent = Ask, true
	case "wall":
		found.Mode = Blur
	}
	rank := -1
	for _, r := range rules {
		if (r.Tool != "" && r.Tool != tool) || (tool == "wall" && r.Tool == "") || !r.Scope.Covers(at) {
			continue
		}
		n := 2 * r.Scope.Kind.Nearness()
		if r.Tool != "" {
			n++
		}
		if n > rank {
			found, rank = r, n
		}
	}
	return found
}

// Present tells who is at a device, as far as that is known.
type Present struct {
	Known   bool // the device can tell, and can show a message
	Someone bool // signed in at a desktop whose screen is not locked
}

// Step is what comes next before work begins.
type Step string

// The steps.
const (
	Enter  Step = "enter"
	AskNow Step = "ask"
	Refuse Step = "refuse"
)

// Begin tells what comes before work, with the words for the record where it is decided already.
func Begin(r Rule, p Present) (Step, string) {
	switch {
	case r.Mode != Ask && r.Mode != Tell:
		return Enter, "not asked for"
	case !p.Someone && !p.Known && r.Mode == Tell:
		return Enter, "could not be told"
	case !p.Someone && r.Mode == Tell:
		return Enter, "nobody was there"
	case p.Someone && r.Mode == Tell:
		return Enter, "told"
	case p.Someone:
		return AskNow, ""
	case r.Absent && p.Known:
		return Enter, "nobody was there to ask"
	case r.Absent:
		return Enter, "nobody could be asked"
	case p.Known:
		return Refuse, "nobody is there to ask, and the policy wants consent"
	}
	return Refuse, "nobody can be asked at this device, and the policy wants consent"
}

// Reply is what became of the question.
type Reply struct {
	Shown   bool
	Allowed bool   // they said yes
	Refused bool   // they said no, or closed the question
	By      string // who was asked
}

// Decide tells whether work may begin after a question, with the words for the record.
func Decide(r Rule, a Reply) (ok bool, consent string) {
	by := cmp.Or(a.By, "the person")
	switch {
	case a.Allowed:
		return true, "given by " + by
	case a.Refused:
		return false, "refused by " + by
	case !a.Shown && r.Absent:
		return true, "nobody could be asked"
	case !a.Shown:
		return false, "the question could not be shown"
	case r.Unanswered:
		return true, fmt.Sprintf("%s did not answer within %s, and the policy allows it", by, r.Wait())
	}
	return false, fmt.Sprintf("%s did not answer within %s", by, r.Wait())
}
