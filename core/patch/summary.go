package patch

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/update"

	"moorwatch.example/core/report"
)

// Summary is what a report on updates tells, of some devices over some days.
type Summary struct {
	About    string // whom: an organisation, or all
	From, To time.Time
	Maker    string
	Now      Tally
	Days     []DayTally
	Sites    []NamedTally
	Rings    []NamedTally

	Rollouts  []Outcome
	Installed []Installed
	Behind    []Behind
	Exploited []Attacked
	Rules     []Rule // that hold or exclude
}

// Outcome is what became of a rollout at the devices that the report is about.
type Outcome struct {
	Name    string
	Begun   time.Time
	Phase   Phase
	Why     string
	Devices map[string]int // by their state in it
	Held    []string       // why it was held, of each time
	Without []string       // what was left out
}

// Installed is an update that rollouts brought, by how it went.
type Installed struct {
	Name, To string
	States   map[string]int
}

// Behind is a device that misses much.
type Behind struct {
	Device, Site string
	Exposure     Exposure
	Exploited    int
}

// Attacked is a weakness that is known to be exploited.
type Attacked struct {
	ID, Summary, Software string
	Devices               int
	Mends                 string
}

// How much of each list a report shows.
const (
	mostBehind = 15
	mostListed = 40
)

// Document writes the summary as a report.
func (s Summary) Document() report.Document {
	d := report.Document{Title: "Updates: " + s.About,
		Subtitle: fmt.Sprintf("%s to %s", s.From.Format("2 January"), s.To.Format("2 January 2006")), Maker: s.Maker, Made: s.To}
	d.Parts = append(d.Parts, s.opening(), s.overTime(), s.places(), s.rollouts(), s.installed(), s.attacked(), s.behind(), s.exceptions())
	return d
}

func percent(v float64) string {
	if math.IsNaN(v) {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", v)
}

func (s Summary) opening() report.Part {
	share := s.Now.Share()
	tone := report.Bad
	switch {
	case math.IsNaN(share):
		tone = report.Plain
	case share >= 90:
		tone = report.Good
	case share >= 60:
		tone = report.Fair
	}
	installed := 0
	for _, x := range s.Installed {
		installed += x.States["installed"]
	}
	bad := func(n int) report.Tone {
		if n > 0 {
			return report.Bad
		}
		return report.Good
	}
	p := report.Part{Figures: []report.Figure{{Value: percent(share),
		About: fmt.Sprintf("of %d devices miss no security update", s.Now.Devices), Tone: tone},
		{Value: fmt.Sprint(installed), About: "updates were installed by rollouts"},
		{Value: fmt.Sprint(s.Now.Late), About: "devices miss a security update older than 30 days", Tone: bad(s.Now.Late)},
		{Value: fmt.Sprint(s.Now.Exploited), About: "devices have a weakness that is known to be exploited", Tone: bad(s.Now.Exploited)}}}
	if first := s.firstDay(); first != nil && !math.IsNaN(share) {
		was := first.Tally.Share()
		switch change := share - was; {
		case math.Abs(change) < 0.5:
			p.Words = append(p.Words, fmt.Sprintf("As many devices are current as on %s.", first.Day.Format("2 January")))
		case change > 0:
			p.Words = append(p.Words, fmt.Sprintf("On %s it was %s of the devices; it is %s now.", first.Day.Format("2 January"),
				percent(was), percent(share)))
		default:
			p.Words = append(p.Words, fmt.Sprintf("On %s it was %s of the devices; it is %s now: updates came out faster than they were "+
				"installed.", first.Day.Format("2 January"), percent(was), percent(share)))
		}
	}
	return p
}

func (s Summary) firstDay() *DayTally {
	for i := range s.Days {
		if s.Days[i].Tally.Devices > 0 {
			return &s.Days[i]
		}
	}
	return nil
}

// overTime is how many devices were current on each day, and how old what is missing is.
func (s Summary) overTime() report.Part {
	share := report.Series{Name: "devices that miss no security update", Tone: report.Good}
	late := report.Series{Name: "devices that miss one older than 30 days", Tone: report.Bad}
	var labels []string
	for _, d := range s.Days {
		labels = append(labels, d.Day.Format("2 Jan"))
		share.Values = append(share.Values, d.Tally.Share())
		behind := math.NaN()
		if d.Tally.Devices > 0 {
			behind = 100 * float64(d.Tally.Late) / float64(d.Tally.Devices)
		}
		late.Values = append(late.Values, behind)
	}
	p := report.Part{Heading: "How current the devices are"}
	if len(labels) > 1 {
		p.Charts = append(p.Charts, report.Chart{Title: "By day, in percent of the devices", Unit: " %", Top: 100, Labels: labels,
			Series: []report.Series{share, late},
			About: fmt.Sprintf("The share of devices that miss no security update went from %s to %s.", percent(share.Values[0]),
				percent(share.Values[len(share.Values)-1]))})
	} else {
		p.Words = append(p.Words, "How it was on earlier days is not known yet: it is counted once a day.")
	}
	if s.Now.Missing > 0 {
		c := report.Chart{Title: "Security updates that are missing now, by age and severity",
			Labels: []string{"up to a week", "up to 30 days", "up to 90 days", "older"}, Bars: true,
			About: fmt.Sprintf("%d security updates are missing in all.", s.Now.Missing)}
		for _, x := range []struct {
			severities []update.Severity
			name       string
			tone       report.Tone
		}{{[]update.Severity{"critical", "high"}, "critical or high", report.Bad}, {[]update.Severity{"medium"}, "medium", report.Fair},
			{[]update.Severity{"low", ""}, "low or not told", report.Plain}} {
			row := report.Series{Name: x.name, Tone: x.tone, Values: make([]float64, len(Ages)+1)}
			for _, severity := range x.severities {
				for i, n := range s.Now.Grid[severity] {
					row.Values[i] += float64(n)
				}
			}
			c.Series = append(c.Series, row)
		}
		p.Charts = append(p.Charts, c)
	}
	return p
}

func tallies(head string, all []NamedTally) *report.Table {
	t := &report.Table{Heads: []string{head, "Devices", "Current", "", "Late", "Missing"},
		Right: []bool{false, true, true, true, true, true}, Shares: []float64{4, 1, 1, 1, 1, 1}, None: "There are none."}
	for _, x := range all[:min(len(all), mostListed)] {
		t.Rows = append(t.Rows, []string{x.Name, fmt.Sprint(x.Tally.Devices), fmt.Sprint(x.Tally.Current), percent(x.Tally.Share()),
			fmt.Sprint(x.Tally.Late), fmt.Sprint(x.Tally.Missing)})
	}
	t.More = len(all) - len(t.Rows)
	return t
}

// places are the sites and rings, those of which the least is current first.
func (s Summary) places() report.Part {
	sorted := slices.Clone(s.Sites)
	for _, r := range s.Rings {
		if r.Name != "" {
			r.Name = "Ring: " + r.Name
			sorted = append(sorted, r)
		}
	}
	slices.SortStableFunc(sorted, func(a, b NamedTally) int { return cmp.Compare(a.Tally.Share(), b.Tally.Share()) })
	return report.Part{Heading: "By site, and by ring of the last rollout", Table: tallies("Where", sorted)}
}

// phases are those of a rollout, in words.
var phases = map[Phase]string{"asking": "waits for a second person", "patching": "is being installed", "soaking": "is being watched",
	"held": "is held", "reverting": "is being taken back", "paused": "is paused", "done": "done", "cancelled": "cancelled"}

func (s Summary) rollouts() report.Part {
	t := &report.Table{Heads: []string{"Rollout", "Begun", "State", "Devices", "What happened"}, Shares: []float64{2.2, 1.3, 1.5, 1.9, 4},
		None: "No rollout ran in this time."}
	for _, r := range s.Rollouts[:min(len(s.Rollouts), mostListed)] {
		var happened, devices []string
		for _, why := range r.Held {
			happened = append(happened, "Held: "+why)
		}
		if len(r.Without) > 0 {
			happened = append(happened, "It went on without "+strings.Join(r.Without, ", ")+".")
		}
		if r.Why != "" && r.Phase != PhaseHeld {
			happened = append(happened, r.Why)
		}
		toCome := "to come"
		if r.Phase.Over() {
			toCome = "not reached"
		}
		for _, state := range []struct{ state, word string }{{"patched", "patched"}, {"failed", "failed"}, {"reverted", "taken back"},
			{"missed", "missed"}, {"current", "had nothing to do"}, {"planned", toCome}, {"running", "being patched"}} {
			if n := r.Devices[state.state]; n > 0 {
				devices = append(devices, fmt.Sprintf("%d %s", n, state.word))
			}
		}
		phase := phases[r.Phase]
		if phase == "" {
			phase = string(r.Phase)
		}
		t.Rows = append(t.Rows, []string{r.Name, r.Begun.Format("2 Jan 15:04"), phase, strings.Join(devices, ", "),
			strings.Join(happened, " ")})
	}
	t.More = len(s.Rollouts) - len(t.Rows)
	return report.Part{Heading: "Rollouts", Table: t}
}

func (s Summary) installed() report.Part {
	t := &report.Table{Heads: []string{"Update", "To version", "Installed", "Failed", "Taken back"},
		Right: []bool{false, false, true, true, true}, Shares: []float64{4, 2, 1, 1, 1.2},
		None: "No rollout installed anything in this time."}
	for _, x := range s.Installed[:min(len(s.Installed), mostListed)] {
		t.Rows = append(t.Rows, []string{x.Name, x.To, fmt.Sprint(x.States["installed"]), fmt.Sprint(x.States["failed"]),
			fmt.Sprint(x.States["reverted"])})
	}
	t.More = len(s.Installed) - len(t.Rows)
	return report.Part{Heading: "What was installed", Table: t}
}

func (s Summary) attacked() report.Part {
	t := &report.Table{Heads: []string{"Weakness", "Software", "Devices", "What mends it"}, Right: []bool{false, false, true, false},
		Shares: []float64{4, 2, 1, 2.4}, None: "No device has a weakness that is known to be exploited."}
	for _, x := range s.Exploited[:min(len(s.Exploited), mostListed)] {
		mends := x.Mends
		if mends == "" {
			mends = "no update is offered"
		}
		t.Rows = append(t.Rows, []string{x.Summary + " (" + x.ID + ")", x.Software, fmt.Sprint(x.Devices), mends})
	}
	t.More = len(s.Exploited) - len(t.Rows)
	return report.Part{Heading: "Weaknesses that are exploited", Table: t}
}

func (s Summary) behind() report.Part {
	t := &report.Table{Heads: []string{"Device", "Site", "Security updates", "Oldest", "Exploited"},
		Right: []bool{false, false, true, true, true}, Shares: []float64{2.2, 3, 2.4, 1.1, 1.2},
		None: "No device misses a security update."}
	for _, x := range s.Behind[:min(len(s.Behind), mostBehind)] {
		oldest := "–"
		if !x.Exposure.Oldest.IsZero() {
			oldest = fmt.Sprintf("%d days", int(s.To.Sub(x.Exposure.Oldest).Hours()/24))
		}
		missing := fmt.Sprint(x.Exposure.Security)
		if x.Exposure.Worst != "" {
			missing += ", the worst " + string(x.Exposure.Worst)
		}
		t.Rows = append(t.Rows, []string{x.Device, x.Site, missing, oldest, fmt.Sprint(x.Exploited)})
	}
	t.More = len(s.Behind) - len(t.Rows)
	return report.Part{Heading: "Furthest behind", Table: t}
}

func (s Summary) exceptions() report.Part {
	t := &report.Table{Heads: []string{"Rule", "Does", "Which updates", "Why", "Until"}, Shares: []float64{2, 1, 2, 4, 1.4},
		None: "Nothing is held back or excluded by a rule."}
	for _, r := range s.Rules[:min(len(s.Rules), mostListed)] {
		until := "further notice"
		if !r.Until.IsZero() {
			until = r.Until.Format("2 January 2006")
		}
		t.Rows = append(t.Rows, []string{r.Name, r.Do + "s", r.Which(), r.Reason, until})
	}
	t.More = len(s.Rules) - len(t.Rows)
	return report.Part{Heading: "What is held back on purpose", Table: t}
}

// Letter is what a mail says that the report is attached to.
func (s Summary) Letter() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Updates of %s, %s to %s.\n\n", s.About, s.From.Format("2 January"), s.To.Format("2 January 2006"))
	p := s.opening()
	for _, f := range p.Figures {
		fmt.Fprintf(&b, "%s %s\n", f.Value, f.About)
	}
	for _, w := range p.Words {
		b.WriteString("\n" + w + "\n")
	}
	for _, r := range s.Rollouts {
		for _, why := range r.Held {
			fmt.Fprintf(&b, "\nThe rollout %q was held: %s\n", r.Name, why)
		}
	}
	b.WriteString("\nThe whole report is attached, as PDF and as a page.\n")
	return b.String()
}

// Outcome fills in what became of a rollout, but for its devices and when it was begun.
func (s State) Outcome(r Rollout, o Outcome) Outcome {
	o.Name, o.Phase, o.Why = r.Name, s.Phase, s.Why
	o.Without = slices.Clone(r.Without)
	held := func(v *Verdict) {
		if v != nil && !v.Go {
			o.Held = append(o.Held, v.Why)
		}
	}
	for _, ring := range s.Rings {
		for _, p := range ring.Past {
			held(p.Verdict)
		}
		held(ring.Verdict)
	}
	return o
}
