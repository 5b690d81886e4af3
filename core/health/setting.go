package health

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/response"
)

// Limits are values at which each level begins; nil where it never does.
type Limits struct {
	Notice   *float64 `json:"notice,omitempty"`
	Warning  *float64 `json:"warning,omitempty"`
	Critical *float64 `json:"critical,omitempty"`
}

// Setting says how one check judges. Check and Subject identify it within a policy.
type Setting struct {
	Check string `json:"check"`
	// Subject is what it is set for: a disk, sensor, service or address; "" for all that no other
	// setting names; * stands for any run of characters.
	Subject string  `json:"subject,omitempty"`
	Off     bool    `json:"off,omitempty"`
	Above   *Limits `json:"above,omitempty"`
	Below   *Limits `json:"below,omitempty"`
	// Back is how far a reading must return past a limit before its level ends, in its own unit.
	Back         float64 `json:"back,omitempty"`
	Level        Level   `json:"level,omitempty"`         // of a check without limits
	ForSeconds   int     `json:"for_seconds,omitempty"`   // how long a state must last
	Pattern      string  `json:"pattern,omitempty"`       // RE2, of the check "log"
	EverySeconds int     `json:"every_seconds,omitempty"` // between two looks of a probe
	// Of what is wanted of a device: that it is absent; the value that it has, or the least version; and
	// what puts it right by itself: of software the id of a package of the library, of a setting Self.
	Absent bool   `json:"absent,omitempty"`
	Value  string `json:"value,omitempty"`
	Fix    string `json:"fix,omitempty"`
}

// Self is the Fix of a setting that is set as it is wanted.
const Self = "set"

func number(v float64) *float64 { return &v }

// Validate refuses a setting that cannot judge, and says why.
func (s Setting) Validate() error {
	k, ok := kindByName[s.Check]
	if !ok {
		return fmt.Errorf("there is no check %q; there are %s", s.Check, strings.Join(checkNames(), ", "))
	}
	if _, err := path.Match(s.Subject, ""); err != nil || len(s.Subject) > 300 {
		return fmt.Errorf("%s: the subject %q cannot be read: * and ? stand for any characters", s.Check, s.Subject)
	}
	if k.Probe != "" && !s.Off && (s.Subject == "" || (strings.ContainsAny(s.Subject, "*?[") && !k.Glob)) {
		return fmt.Errorf("%s: it needs one %s to look at", s.Check, k.Of)
	}
	if s.Level != "" && s.Level.Rank() < 0 {
		return fmt.Errorf("%s: the level %q is none of notice, warning and critical", s.Check, s.Level)
	}
	if s.ForSeconds < 0 || s.ForSeconds > 30*86400 {
		return fmt.Errorf("%s: it must last between 0 s and 30 days", s.Check)
	}
	if s.Back < 0 {
		return fmt.Errorf("%s: the way back cannot be negative", s.Check)
	}
	if s.EverySeconds != 0 && (s.EverySeconds < device.MinProbe || s.EverySeconds > 86400) {
		return fmt.Errorf("%s: it is looked at every %d s to one day", s.Check, device.MinProbe)
	}
	if (s.Above != nil || s.Below != nil) && !k.Limits {
		return fmt.Errorf("%s: it has no limits, only a level", s.Check)
	}
	if k.Limits && !s.Off && s.Above.empty() && s.Below.empty() && k.Probe == "" {
		return fmt.Errorf("%s: give it at least one limit, or turn it off", s.Check)
	}
	if !rising(s.Above, 1) {
		return fmt.Errorf("%s: above, the limits must rise from notice to critical", s.Check)
	}
	if !rising(s.Below, -1) {
		return fmt.Errorf("%s: below, the limits must fall from notice to critical", s.Check)
	}
	if (s.Absent || s.Value != "" || s.Fix != "") && !k.Wanted {
		return fmt.Errorf("%s: only what is wanted, software or a setting, is absent, has a value, or is put right", s.Check)
	}
	if k.Wanted && !s.Off {
		switch {
		case s.Subject == "":
			return fmt.Errorf("%s: it needs the name of one %s", s.Check, k.Of)
		case s.Check == CheckSetting && s.Value == "" && !s.Absent:
			return fmt.Errorf("%s: it needs the value that %s has", s.Check, s.Subject)
		case s.Check == CheckSetting && s.Fix != "" && s.Fix != Self:
			return fmt.Errorf("%s: its fix is %q, or none where it is only told of", s.Check, Self)
		case s.Check == CheckSoftware && strings.ContainsAny(s.Subject, "*?[") && !s.Absent:
			return fmt.Errorf("%s: what must be there has one name, and %q is a pattern", s.Check, s.Subject)
		case s.Check == CheckSoftware && s.Fix != "" && strings.ContainsAny(s.Subject, "*?["):
			return fmt.Errorf("%s: a pattern is only told of, and not put right", s.Check)
		}
	}
	return validPattern(k, s)
}

func (l *Limits) empty() bool {
	return l == nil || (l.Notice == nil && l.Warning == nil && l.Critical == nil)
}

func rising(l *Limits, way float64) bool {
	if l == nil {
		return true
	}
	var last *float64
	for _, v := range []*float64{l.Notice, l.Warning, l.Critical} {
		if v == nil {
			continue
		}
		if last != nil && way**v < way**last {
			return false
		}
		last = v
	}
	return true
}

// limit returns the level of a value and the limit it crossed. was is its level before: from there
// it must come back further.
func (s *Setting) limit(value float64, was Level) (level Level, crossed float64, above bool) {
	if l, at := s.Above.level(value, was, 1, s.Back); l != "" {
		return l, at, true
	}
	l, at := s.Below.level(value, was, -1, s.Back)
	return l, at, false
}

func (l *Limits) level(value float64, was Level, way, back float64) (Level, float64) {
	if l == nil {
		return "", 0
	}
	for _, step := range [...]struct {
		level Level
		at    *float64
	}{{Critical, l.Critical}, {Warning, l.Warning}, {Notice, l.Notice}} {
		if step.at == nil {
			continue
		}
		at := *step.at
		if was.Rank() >= step.level.Rank() {
			at -= way * back
		}
		if way*value >= way*at {
			return step.level, *step.at
		}
	}
	return "", 0
}

// ScopeKind is what a policy is set for, from widest to nearest.
type ScopeKind string

// The scopes of policies.
const (
	Everywhere   ScopeKind = "everywhere"
	Organisation ScopeKind = "organisation"
	Site         ScopeKind = "site"
	Group        ScopeKind = "group"
	Device       ScopeKind = "device"
)

var scopes = []ScopeKind{Everywhere, Organisation, Site, Group, Device}

// Known tells whether it is one of the scopes.
func (k ScopeKind) Known() bool { return slices.Contains(scopes, k) }

// Nearness orders scopes: a nearer one has a higher number. -1 is none.
func (k ScopeKind) Nearness() int { return slices.Index(scopes, k) }

// Scope is what a policy, rule or window is set for: an organisation, site, group or device by its
// id, or everything.
type Scope struct {
	Kind ScopeKind `json:"kind"`
	ID   string    `json:"id,omitempty"`
}

// Place is where a device stands among the scopes.
type Place struct {
	Device, Site, Organisation string
	Groups                     []string
}

// Covers tells whether the scope holds a device.
func (s Scope) Covers(p *Place) bool {
	switch s.Kind {
	case Everywhere:
		return true
	case Organisation:
		return s.ID == p.Organisation
	case Site:
		return s.ID == p.Site
	case Group:
		return slices.Contains(p.Groups, s.ID)
	case Device:
		return s.ID == p.Device
	}
	return false
}

// Policy is a named set of settings for a scope, with what is done when their checks fail, and how agents
// behave.
type Policy struct {
	ID        string
	Name      string
	Scope     Scope
	Settings  []Setting
	Responses []response.Response
	Agent     Agent
}

// Agent is how the agent of a device behaves. What is zero is left to a wider policy, and in the end to
// the agent.
type Agent struct {
	ReportSeconds int `json:"report_seconds,omitempty"` // between two reports
	// Withhold are capabilities, by their names in the facts, that it does not offer.
	Withhold []string `json:"withhold,omitempty"`
	// Protect has the agent taken off its device only with a removal code.
	Protect bool `json:"protect,omitempty"`
	// RemovalDigest is the SHA-256 of that code, in hexadecimal; the service tells it to a device alone.
	RemovalDigest string `json:"removal_digest,omitempty"`
}

// Bounds of the pace of reports, in seconds.
const (
	leastReport = 10
	mostReport  = 3600
)

// Validate refuses behaviour that no agent could show.
func (a Agent) Validate() error {
	if a.ReportSeconds != 0 && (a.ReportSeconds < leastReport || a.ReportSeconds > mostReport) {
		return fmt.Errorf("an agent reports every %d to %d seconds", leastReport, mostReport)
	}
	if a.RemovalDigest != "" {
		return errors.New("a policy does not say by which code an agent is removed: the service does, device by device")
	}
	for _, w := range a.Withhold {
		if !slices.Contains(device.Withholdable, w) {
			return fmt.Errorf("an agent can withhold %s, and not %q", strings.Join(device.Withholdable, ", "), w)
		}
	}
	return nil
}

// Responds is a response with the policy that it came from.
type Responds struct {
	response.Response
	Source Source `json:"source"`
}

// Source is the policy that a setting came from; the zero value stands for Moorwatch's own.
type Source struct {
	Policy string `json:"policy"`
	Name   string `json:"name"`
	Scope  Scope  `json:"scope"`
}

// Resolved is a setting with where it came from.
type Resolved struct {
	Setting
	Source Source `json:"source"`

	exact bool
}

// Set is what a device is judged by. It is read by many at once.
type Set struct {
	all     []Resolved
	byCheck map[string][]*Resolved // the most particular subject first
	probes  []device.Probe

	responds []Responds // the nearest first
	agent    Agent
}

// Resolve makes the set of a device: the checks' usual settings, and over them those of the
// policies that cover the device, the nearest last. Of two as near, the later by name wins.
func Resolve(policies []Policy, p *Place) *Set {
	covering := slices.DeleteFunc(slices.Clone(policies), func(y Policy) bool { return !y.Scope.Covers(p) })
	slices.SortStableFunc(covering, func(a, b Policy) int {
		return cmp.Or(cmp.Compare(a.Scope.Kind.Nearness(), b.Scope.Kind.Nearness()), cmp.Compare(a.Name, b.Name))
	})
	var all []Resolved
	put := func(r Resolved) {
		r.exact = !strings.ContainsAny(r.Subject, "*?[")
		if i := slices.IndexFunc(all, func(o Resolved) bool {
			return o.Check == r.Check && o.Subject == r.Subject &&
				o.Pattern == r.Pattern
		}); i >= 0 {
			all[i] = r
			return
		}
		all = append(all, r)
	}
	for _, k := range Kinds {
		if k.Usual != nil {
			put(Resolved{Setting: *k.Usual, Source: Source{Scope: Scope{Kind: Everywhere}}})
		}
	}
	for _, y := range covering {
		for _, s := range y.Settings {
			put(Resolved{Setting: s, Source: Source{y.ID, y.Name, y.Scope}})
		}
	}
	set := newSet(all)
	for _, y := range covering {
		for _, r := range y.Responses {
			set.responds = append(set.responds, Responds{r, Source{y.ID, y.Name, y.Scope}})
		}
		if y.Agent.ReportSeconds != 0 {
			set.agent.ReportSeconds = y.Agent.ReportSeconds
		}
		if y.Agent.Protect {
			set.agent.Protect = true
		}
		if y.Agent.Withhold != nil {
			set.agent.Withhold = y.Agent.Withhold
		}
	}
	slices.Reverse(set.responds)
	return set
}

// Judges tells whether there is a setting of a check.
func (s *Set) Judges(check string) bool { return len(s.byCheck[check]) > 0 }

// Agent is how the agent of such a device behaves.
func (s *Set) Agent() Agent { return s.agent }

// Responses lists what is done when checks fail, the nearest first.
func (s *Set) Responses() []Responds { return s.responds }

// Response is what is done when a check of a subject fails: what the nearest policy says, or what puts
// right what is wanted.
func (s *Set) Response(check, subject string) (Responds, bool) {
	for _, r := range s.responds {
		if r.Matches(check, subject) {
			return r, true
		}
	}
	found := s.find(check, subject)
	if found == nil || found.Fix == "" {
		return Responds{}, false
	}
	r := Responds{Source: found.Source, Response: response.Response{Check: check, Subject: subject, AtOnce: true}}
	step := response.Step{Watch: fixWatch}
	switch {
	case check == CheckSetting:
		r.Name, step.Do, step.Path, step.Value = "Set "+subject, response.Set, subject, found.Value
	case found.Absent:
		r.Name, step.Do, step.Package = "Remove "+subject, response.Remove, found.Fix
	default:
		r.Name, step.Do, step.Package = "Install "+subject, response.Install, found.Fix
	}
	r.Steps = []response.Step{step}
	return r, true
}

// fixWatch is how long it is watched, in seconds, whether what was put right is so: the inventory is told
// at once after a job, and settings are looked at every few minutes.
const fixWatch = 900

func newSet(all []Resolved) *Set {
	set := &Set{all: all, byCheck: map[string][]*Resolved{}}
	for i := range all {
		r := &all[i]
		set.byCheck[r.Check] = append(set.byCheck[r.Check], r)
		if k := kindByName[r.Check]; k.Probe != "" && !r.Off {
			set.probe(device.Probe{Kind: k.Probe, Target: r.Subject, Pattern: r.Pattern, Every: cmp.Or(r.EverySeconds, k.Every, 60)})
		}
	}
	for _, list := range set.byCheck {
		slices.SortStableFunc(list, func(a, b *Resolved) int { return cmp.Compare(b.particular(), a.particular()) })
	}
	return set
}

// probe asks for a look once, at the quickest pace that any setting wants.
func (s *Set) probe(p device.Probe) {
	for i, other := range s.probes {
		if other.Kind == p.Kind && other.Target == p.Target && other.Pattern == p.Pattern {
			s.probes[i].Every = min(other.Every, p.Every)
			return
		}
	}
	if len(s.probes) < device.MaxProbes {
		s.probes = append(s.probes, p)
	}
}

// particular orders settings of a check: an exact subject before a pattern, a longer pattern
// before a shorter, and the empty subject last.
func (r *Resolved) particular() int {
	switch {
	case r.Subject == "":
		return 0
	case r.exact:
		return 1 << 20
	}
	return 1 + len(r.Subject)
}

// Settings lists the set, in the order of the checks.
func (s *Set) Settings() []Resolved { return s.all }

// Probes lists what the agent must look at for this set, at most device.MaxProbes.
func (s *Set) Probes() []device.Probe { return s.probes }

// find returns the setting for a subject of a check, or nil when there is none or it is off.
func (s *Set) find(check, subject string) *Resolved {
	for _, r := range s.byCheck[check] {
		ok := r.Subject == "" || r.Subject == subject
		if !ok && !r.exact {
			ok, _ = path.Match(r.Subject, subject)
		}
		if ok {
			if r.Off {
				return nil
			}
			return r
		}
	}
	return nil
}

// Find returns the setting for a subject of a check; ok is false when there is none or it is off.
func (s *Set) Find(check, subject string) (_ Setting, ok bool) {
	if r := s.find(check, subject); r != nil {
		return r.Setting, true
	}
	return Setting{}, false
}

// one returns the setting of a check that has no subjects, or nil when it is off.
func (s *Set) one(check string) *Resolved { return s.find(check, "") }

// lasts is how long the state of a setting must go on.
func (s *Setting) lasts() time.Duration { return time.Duration(s.ForSeconds) * time.Second }
