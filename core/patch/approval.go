package patch

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/update"

	"moorwatch.example/core/health"
)

// Rule decides about the updates that it matches.
type Rule struct {
	ID    string       `json:"id"`
	Name  string       `json:"name"`
	Do    string       `json:"do"` // Approve, Hold or Exclude
	Scope health.Scope `json:"scope"`

	// Which updates: all that are set must match.
	Classes  []update.Class  `json:"classes,omitempty"`
	Severity update.Severity `json:"severity,omitempty"` // at least
	Sources  []string        `json:"sources,omitempty"`
	Vendor   string          `json:"vendor,omitempty"` // is part of it; case does not count
	Title    string          `json:"title,omitempty"`  // is part of its title or name; case does not count
	Names    []string        `json:"names,omitempty"`  // one of them

	DeferDays int       `json:"defer_days,omitempty"` // approve: so many days after the release
	Reason    string    `json:"reason,omitempty"`     // hold, exclude: why
	Until     time.Time `json:"until,omitzero"`       // when the rule ends by itself; zero for never
}

// What a rule does.
const (
	Approve = "approve"
	Hold    = "hold"    // for now: it is looked at again
	Exclude = "exclude" // not to be installed
)

// maxDefer is the longest that an approval may be deferred, in days.
const maxDefer = 365

// Validate refuses a rule that cannot be kept to, and says what to write.
func (r Rule) Validate(now time.Time) error {
	switch {
	case strings.TrimSpace(r.Name) == "" || len(r.Name) > maxText:
		return fmt.Errorf("give the rule a name of 1 to %d bytes", maxText)
	case r.Do != Approve && r.Do != Hold && r.Do != Exclude:
		return fmt.Errorf("a rule does approve, hold or exclude, and not %q", r.Do)
	case !r.Scope.Kind.Known() || (r.Scope.Kind == health.Everywhere) != (r.Scope.ID == ""):
		return errors.New("a rule is set for everywhere, or an organisation, site, group or device by its id")
	case r.Do != Approve && strings.TrimSpace(r.Reason) == "":
		return fmt.Errorf("say why it is to %s: others will ask", r.Do)
	case r.Do != Approve && r.DeferDays != 0:
		return errors.New("only an approval is deferred")
	case r.DeferDays < 0 || r.DeferDays > maxDefer:
		return fmt.Errorf("an approval is deferred by 0 to %d days", maxDefer)
	case !r.Until.IsZero() && !r.Until.After(now):
		return errors.New("its end lies in the past")
	case !slices.Contains(update.Severities, r.Severity):
		return fmt.Errorf("a severity is critical, high, medium or low, and not %q", r.Severity)
	case len(r.Vendor) > maxText || len(r.Title) > maxText || len(r.Reason) > 4*maxText:
		return fmt.Errorf("a text of it is longer than %d bytes", maxText)
	}
	for _, c := range r.Classes {
		if !slices.Contains(update.Classes, c) {
			return fmt.Errorf("there is no class %q: there are security, critical, feature, driver, definition and other", c)
		}
	}
	for _, s := range r.Sources {
		if !slices.Contains(update.Sources, s) {
			return fmt.Errorf("there is no source %q: there are %s", s, strings.Join(update.Sources, ", "))
		}
	}
	return validNames(r.Names)
}

// Matches tells whether the rule is about an update.
func (r *Rule) Matches(u *update.Update) bool {
	within := func(whole, part string) bool { return strings.Contains(strings.ToLower(whole), strings.ToLower(part)) }
	return (len(r.Classes) == 0 || slices.Contains(r.Classes, u.Class)) &&
		(r.Severity == "" || u.Severity.Rank() >= r.Severity.Rank()) &&
		(len(r.Sources) == 0 || slices.Contains(r.Sources, u.Source)) &&
		(r.Vendor == "" || within(u.Vendor, r.Vendor)) &&
		(r.Title == "" || within(u.Title, r.Title) || within(u.Name, r.Title)) &&
		(len(r.Names) == 0 || slices.Contains(r.Names, u.Name))
}

// Decision is whether an update may be installed at a device, and by which rule.
type Decision struct {
	State string    `json:"state"` // Approved, Deferred, Held, Excluded or Undecided
	Rule  string    `json:"rule,omitempty"`
	Why   string    `json:"why,omitempty"`
	From  time.Time `json:"from,omitzero"` // when what is deferred is approved
}

// States of decisions.
const (
	Approved  = "approved"
	Deferred  = "deferred"
	Held      = "held"
	Excluded  = "excluded"
	Undecided = "undecided" // no rule is about it
)

// Decide tells what the rules say of an update at a place. What excludes goes before what holds, and both
// before what approves; of approvals the one holds that comes first. An update whose release is not
// known is deferred from when it was first seen.
func Decide(rules []Rule, u *update.Update, p *health.Place, seen, now time.Time) Decision {
	d := Decision{State: Undecided}
	for i := range rules {
		r := &rules[i]
		if !r.Until.IsZero() && !now.Before(r.Until) || !r.Scope.Covers(p) || !r.Matches(u) {
			continue
		}
		switch r.Do {
		case Exclude:
			return Decision{State: Excluded, Rule: r.Name, Why: r.Reason}
		case Hold:
			d = Decision{State: Held, Rule: r.Name, Why: r.Reason}
		case Approve:
			if d.State == Held || d.State == Approved {
				continue
			}
			from := u.Released
			if from.IsZero() {
				from = seen
			}
			from = from.AddDate(0, 0, r.DeferDays)
			if r.DeferDays == 0 || !from.After(now) {
				d = Decision{State: Approved, Rule: r.Name}
			} else if d.State == Undecided || from.Before(d.From) {
				d = Decision{State: Deferred, Rule: r.Name, From: from}
			}
		}
	}
	return d
}

// Which says in words which updates the rule is about.
func (r Rule) Which() string {
	var parts []string
	if len(r.Names) > 0 {
		parts = append(parts, strings.Join(r.Names, ", "))
	}
	if len(r.Classes) > 0 {
		var names []string
		for _, c := range r.Classes {
			names = append(names, string(c))
		}
		parts = append(parts, strings.Join(names, ", "))
	}
	if r.Severity != "" {
		parts = append(parts, string(r.Severity)+" or worse")
	}
	if len(r.Sources) > 0 {
		parts = append(parts, "from "+strings.Join(r.Sources, ", "))
	}
	if r.Vendor != "" {
		parts = append(parts, "by "+r.Vendor)
	}
	if r.Title != "" {
		parts = append(parts, "named as "+r.Title)
	}
	if len(parts) == 0 {
		parts = []string{"all"}
	}
	if r.DeferDays > 0 {
		parts = append(parts, fmt.Sprintf("%d days after the release", r.DeferDays))
	}
	return strings.Join(parts, ", ")
}
