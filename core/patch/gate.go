package patch

import (
	"errors"
	"fmt"
	"strings"
)

// Gate says when a rollout may go on to its next ring. Zero values are the usual ones.
type Gate struct {
	// Failures is the share of a ring, in percent, whose installation may fail.
	Failures float64 `json:"failures,omitempty"`
	// Alerts and Crashes are by how many percentage points more of those patched may have new alerts, or
	// programs that crashed, than of those not yet.
	Alerts  float64 `json:"alerts,omitempty"`
	Crashes float64 `json:"crashes,omitempty"`
	// Slower is by how many percent longer log-on and start may take, in the median.
	Slower float64 `json:"slower,omitempty"`
	// Sure is how sure the test is to be before it blames the updates, in percent.
	Sure float64 `json:"sure,omitempty"`
	// Careful has the rollout held where too few devices tell nothing, and not only where something is wrong.
	Careful bool `json:"careful,omitempty"`
	// Rollback has what was installed taken back where it is held, without asking a person.
	Rollback bool `json:"rollback,omitempty"`
}

// Usual is how a gate stands where nothing is said.
var Usual = Gate{Failures: 5, Alerts: 3, Crashes: 3, Slower: 25, Sure: 99.5}

// enough is the power from which a test that found nothing is taken at its word.
const enough = 0.8

// Full is the gate with the usual values where none are given.
func (g Gate) Full() Gate {
	for _, one := range []struct {
		value *float64
		usual float64
	}{{&g.Failures, Usual.Failures}, {&g.Alerts, Usual.Alerts}, {&g.Crashes, Usual.Crashes}, {&g.Slower, Usual.Slower},
		{&g.Sure, Usual.Sure}} {
		if *one.value == 0 {
			*one.value = one.usual
		}
	}
	return g
}

// Validate refuses a gate that cannot be.
func (g Gate) Validate() error {
	for _, one := range []float64{g.Failures, g.Alerts, g.Crashes} {
		if one < 0 || one > 100 {
			return errors.New("what a gate allows is 0 to 100 percent, or points of it")
		}
	}
	if g.Slower < 0 || g.Slower > 1000 {
		return errors.New("a gate allows 0 to 1000 % longer")
	}
	if g.Sure != 0 && (g.Sure < 80 || g.Sure > 99.99) {
		return errors.New("a gate is 80 to 99.99 % sure")
	}
	return nil
}

// Share is how many of a number are bad.
type Share struct {
	Bad int `json:"bad"`
	Of  int `json:"of"`
}

func (s Share) part() float64 {
	if s.Of == 0 {
		return 0
	}
	return float64(s.Bad) / float64(s.Of)
}

func (s Share) String() string { return fmt.Sprintf("%d of %d", s.Bad, s.Of) }

// Facts is what became of the devices of a ring, and of those not yet patched in the same time.
type Facts struct {
	Installs        Share     // of the ring: those whose installation failed
	Alerts, Others  Share     // those with new alerts
	Crashes, Crash0 Share     // those with crashes
	LogOn, LogOn0   []float64 // seconds, of each
	Start, Start0   []float64
}

// Evidence is one thing that a gate looked at.
type Evidence struct {
	What    string  `json:"what"`
	Patched string  `json:"patched"`
	Others  string  `json:"others,omitempty"`
	Limit   string  `json:"limit"`
	Chance  float64 `json:"chance,omitempty"` // that a difference as large comes by chance
	Power   float64 `json:"power,omitempty"`  // with which a difference of the limit would have been found
	Finding string  `json:"finding"`          // Fine, Bad or Unclear
	Why     string  `json:"why"`
}

// Findings.
const (
	Fine    = "fine"
	Bad     = "bad"
	Unclear = "unclear" // there are not enough devices to tell
)

// Verdict is what a gate says.
type Verdict struct {
	Go       bool       `json:"go"`
	Why      string     `json:"why"`
	Evidence []Evidence `json:"evidence"`
}

// Judge tells whether a rollout may go on after a ring.
func (g Gate) Judge(f Facts) Verdict {
	g = g.Full()
	alpha := 1 - g.Sure/100
	v := Verdict{Go: true, Evidence: []Evidence{}}
	add := func(e Evidence, hold bool) {
		v.Evidence = append(v.Evidence, e)
		if hold {
			v.Go = false
		}
	}
	if f.Installs.Of > 0 {
		e := Evidence{What: "installation", Patched: f.Installs.String() + " failed", Limit: fmt.Sprintf("%g %%", g.Failures),
			Finding: Fine}
		e.Why = fmt.Sprintf("%s installations failed, and %g %% may.", f.Installs, g.Failures)
		if 100*f.Installs.part() > g.Failures {
			e.Finding = Bad
		}
		add(e, e.Finding == Bad)
	}
	for _, one := range []struct {
		what, had string
		a, b      Share
		limit     float64
	}{{"alerts", "have new alerts", f.Alerts, f.Others, g.Alerts}, {"crashes", "had programs crash", f.Crashes, f.Crash0, g.Crashes}} {
		if one.a.Of > 0 {
			e := judgeShare(one.what, one.had, one.a, one.b, one.limit, alpha)
			// Too few to tell, and yet more than may be: a person is to look.
			add(e, e.Finding == Bad || e.Finding == Unclear && (g.Careful || 100*(one.a.part()-one.b.part()) > one.limit))
		}
	}
	for _, one := range []struct {
		what string
		a, b []float64
	}{{"log-on", f.LogOn, f.LogOn0}, {"start", f.Start, f.Start0}} {
		if len(one.a) > 0 {
			e := judgeLevel(one.what, one.a, one.b, g.Slower, alpha)
			add(e, e.Finding == Bad || e.Finding == Unclear && g.Careful)
		}
	}
	v.Why = v.words(g)
	return v
}

func judgeShare(what, had string, a, b Share, limit, alpha float64) Evidence {
	e := Evidence{What: what, Patched: a.String() + " " + had, Others: b.String(), Limit: fmt.Sprintf("%g points more", limit),
		Finding: Fine, Chance: 1}
	if b.Of > 0 {
		e.Chance = fisher(a.Bad, a.Of, b.Bad, b.Of)
	}
	base := float64(b.Bad) / max(float64(b.Of), 1)
	e.Power = sharePower(base, limit/100, a.Of, b.Of, alpha)
	more := 100 * (a.part() - b.part())
	e.conclude(fmt.Sprintf("%s that have the updates %s, and %s of the others", a, had, b), more > limit,
		fmt.Sprintf("%.0f points more", more), fmt.Sprintf("%g points more", limit), alpha)
	return e
}

func judgeLevel(what string, a, b []float64, limit, alpha float64) Evidence {
	ma, mb := median(a), median(b)
	e := Evidence{What: what, Patched: fmt.Sprintf("%.0f s at %d", ma, len(a)), Others: fmt.Sprintf("%.0f s at %d", mb, len(b)),
		Limit: fmt.Sprintf("%g %% longer", limit), Finding: Fine, Chance: 1}
	if len(b) > 1 && len(a) > 1 {
		e.Chance = rankSum(a, b)
	}
	e.Power = levelPower(a, b, limit/100, alpha)
	longer := 0.0
	if mb > 0 {
		longer = 100 * (ma/mb - 1)
	}
	e.conclude(fmt.Sprintf("The median %s takes %.0f s at %d that have the updates, and %.0f s at %d others", what, ma, len(a), mb, len(b)),
		longer > limit, fmt.Sprintf("%.0f %% longer", longer), fmt.Sprintf("%g %% longer", limit), alpha)
	return e
}

// conclude says what follows: from whether the difference is larger than may be, from how often it would come by
// chance, and from whether one as large as the limit would have been found.
func (e *Evidence) conclude(lead string, large bool, difference, limit string, alpha float64) {
	switch {
	case large && e.Chance < alpha:
		e.Finding = Bad
		e.Why = fmt.Sprintf("%s: %s, which comes by chance %s.", lead, difference, odds(e.Chance))
	case e.Power < enough && e.Chance >= alpha:
		e.Finding = Unclear
		e.Why = fmt.Sprintf("%s. There are not enough devices to tell: %s would be found in %.0f of 100 cases.", lead, limit, 100*e.Power)
	default:
		e.Why = fmt.Sprintf("%s. %s would have been found in %.0f of 100 cases.", lead, limit, 100*e.Power)
	}
}

func odds(chance float64) string {
	if chance < 1e-4 {
		return "less than once in 10,000 times"
	}
	return fmt.Sprintf("once in %.0f times", 1/chance)
}

// words says in a sentence or two what a verdict is.
func (v Verdict) words(g Gate) string {
	var bad, unclear []string
	for _, e := range v.Evidence {
		switch e.Finding {
		case Bad:
			bad = append(bad, e.Why)
		case Unclear:
			unclear = append(unclear, e.Why)
		}
	}
	switch {
	case len(bad) > 0:
		return strings.Join(bad, " ")
	case !v.Go && g.Careful:
		return "Not enough devices to tell, and this rollout is to be careful. " + strings.Join(unclear, " ")
	case !v.Go:
		return "There is a bad sign, and not enough devices to tell it from chance: look at them. " + strings.Join(unclear, " ")
	case len(unclear) == len(v.Evidence) && len(unclear) > 0:
		return "Nothing bad was seen; there are not enough devices to tell more."
	case len(v.Evidence) == 0:
		return "There was nothing to judge by."
	}
	return "Nothing bad was found."
}
