package health

import (
	"slices"
	"testing"
	"time"

	"moorwatch.example/core/calendar"
	"moorwatch.example/core/series"
)

// An alert opens once, rises and falls with its finding, damps what flaps, and ends.
func TestFollow(t *testing.T) {
	f := func(level Level, since time.Duration) *Finding {
		return &Finding{Check: "disk", Subject: "/", Level: level, Since: now.Add(since)}
	}
	var a *Alert
	for i, step := range []struct {
		after time.Duration
		f     *Finding
		want  []EventKind
	}{
		{0, nil, nil}, {time.Minute, f(Warning, 0), []EventKind{Opened}}, {2 * time.Minute, f(Warning, 0), nil},
		{3 * time.Minute, f(Critical, 0), []EventKind{Raised}}, {4 * time.Minute, f(Warning, 0), []EventKind{Lowered}},
		{5 * time.Minute, nil, []EventKind{Ended}}, {6 * time.Minute, nil, nil},
		{7 * time.Minute, f(Warning, 7*time.Minute), []EventKind{Reopened}},
		{8 * time.Minute, nil, []EventKind{Ended}}, {9 * time.Minute, f(Warning, 9*time.Minute), []EventKind{Reopened}},
		{10 * time.Minute, nil, []EventKind{Ended}}, {11 * time.Minute, f(Warning, 11*time.Minute), []EventKind{Reopened}},
		// It flaps now: its ends are waited out.
		{12 * time.Minute, nil, nil}, {20 * time.Minute, f(Warning, 20*time.Minute), nil}, {21 * time.Minute, nil, nil},
		{50 * time.Minute, nil, nil},
		{51 * time.Minute, nil, []EventKind{Ended}}, {67 * time.Minute, f(Warning, 67*time.Minute), []EventKind{Opened}},
	} {
		var got []EventKind
		a, got = Follow(a, step.f, now.Add(step.after))
		if !slices.Equal(got, step.want) {
			t.Errorf("step %d: %v, want %v (%+v)", i, got, step.want, a)
		}
	}
}

// What a person closed stays closed until something new happens; what they put off comes back in
// time, or when it gets worse.
func TestFollowPeople(t *testing.T) {
	f := &Finding{Check: "disk", Level: Warning, Since: now}
	a, _ := Follow(nil, f, now)
	a.State, a.ResolvedAt, a.ByPerson = Over, now.Add(time.Minute), true
	if _, events := Follow(a, f, now.Add(2*time.Minute)); events != nil {
		t.Errorf("the same finding: %v", events)
	}
	if _, events := Follow(a, &Finding{Check: "disk", Level: Warning, Since: now.Add(3 * time.Minute)},
		now.Add(3*time.Minute)); !slices.Equal(events, []EventKind{Reopened}) {
		t.Errorf("a new finding: %v", events)
	}
	a, _ = Follow(nil, f, now)
	a.State, a.SnoozedUntil = Snoozed, now.Add(time.Hour)
	if b, events := Follow(a, f, now.Add(59*time.Minute)); events != nil || b.State != Snoozed || !b.Due().Equal(a.SnoozedUntil) {
		t.Errorf("snoozed: %v", events)
	}
	if b, events := Follow(a, f, now.Add(time.Hour)); !slices.Equal(events, []EventKind{Woke}) || b.State != Open {
		t.Errorf("after the snooze: %v", events)
	}
	if b, events := Follow(a, &Finding{Check: "disk", Level: Critical, Since: now}, now.Add(time.Minute)); !slices.Equal(events,
		[]EventKind{Raised}) || b.State != Open {
		t.Errorf("worse than when it was put off: %v", events)
	}
}

func TestSiteSilent(t *testing.T) {
	gone := func(second int) Presence { return Presence{false, now.Add(time.Duration(second) * time.Second)} }
	there := Presence{true, now.Add(-time.Hour)}
	old := Presence{false, now.Add(-72 * time.Hour)}
	for name, c := range map[string]struct {
		devices []Presence
		want    bool
	}{
		"all at once":        {[]Presence{gone(0), gone(20), gone(59), gone(3)}, true},
		"one long gone":      {[]Presence{gone(0), gone(2), gone(3), old}, true},
		"one still there":    {[]Presence{gone(0), gone(2), gone(3), gone(4), there}, true},
		"half still there":   {[]Presence{gone(0), gone(2), gone(3), there, there, there}, false},
		"too few":            {[]Presence{gone(0), gone(2)}, false},
		"one after another":  {[]Presence{gone(0), gone(90), gone(200), gone(400)}, false},
		"nobody is there":    {nil, false},
		"everybody is there": {[]Presence{there, there, there}, false},
	} {
		since, got := SiteSilent(c.devices)
		if got != c.want || (got && !since.Equal(now)) {
			t.Errorf("%s: %t since %s", name, got, since)
		}
	}
	if SiteBack([]Presence{gone(0), gone(0), there}) || !SiteBack([]Presence{gone(0), there}) {
		t.Error("a site is back when half of it is")
	}
}

func TestRules(t *testing.T) {
	a := &Alert{Check: "disk", Level: Warning, State: Open, OpenedAt: now}
	here := &Place{Site: "hay"}
	base := Rule{Scope: Scope{Site, "hay"}, Least: Warning, Channel: "c", Ends: true}
	with := func(change func(*Rule)) Rule { r := base; change(&r); return r }
	for name, c := range map[string]struct {
		rule  Rule
		event EventKind
		muted bool
		want  bool
	}{
		"opened":       {base, Opened, false, true},
		"ended":        {base, Ended, false, true},
		"ends not":     {with(func(r *Rule) { r.Ends = false }), Ended, false, false},
		"acknowledged": {base, Ack, false, false},
		"muted":        {base, Opened, true, false},
		"too low":      {with(func(r *Rule) { r.Least = Critical }), Opened, false, false},
		"other check":  {with(func(r *Rule) { r.Checks = []string{"cpu"} }), Opened, false, false},
		"elsewhere":    {with(func(r *Rule) { r.Scope.ID = "bra" }), Opened, false, false},
		"on call": {with(func(r *Rule) { r.Hours = []calendar.Hours{{Days: []string{"MO"}, From: "08:00", To: "18:00"}} }), Opened,
			false, true},
		"off call": {with(func(r *Rule) { r.Hours = []calendar.Hours{{Days: []string{"TU"}, From: "08:00", To: "18:00"}} }), Opened,
			false, false},
		"other zone": {with(func(r *Rule) {
			r.Zone, r.Hours = "Pacific/Auckland", []calendar.Hours{{Days: []string{"MO"}, From: "22:00", To: "24:00"}}
		}), Opened, false, true},
	} {
		if err := c.rule.Validate(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if got := c.rule.Tells(a, c.event, here, c.muted, now); got != c.want {
			t.Errorf("%s: %t", name, got)
		}
	}
	late := with(func(r *Rule) { r.EscalateMinutes, r.EscalateTo = 10, "d" })
	if late.Escalates(a, here, false, now.Add(9*time.Minute)) || !late.Escalates(a, here, false, now.Add(10*time.Minute)) {
		t.Error("an alert escalates after ten minutes")
	}
	a.State = Acknowledged
	if late.Escalates(a, here, false, now.Add(time.Hour)) {
		t.Error("an acknowledged alert escalates")
	}
	a.State, a.Flaps = Open, FlapsAfter
	if base.Tells(a, Reopened, here, false, now) {
		t.Error("a flapping alert is told")
	}
}

func TestReplay(t *testing.T) {
	table := &series.Table{}
	for minute := range 600 {
		v := 50.0
		switch {
		case minute >= 100 && minute < 110: // ten minutes: counts
			v = 95
		case minute == 200: // a moment: does not
			v = 99
		case minute >= 300 && minute < 320:
			v = 98
		}
		table.Append(now.Add(time.Duration(minute)*time.Minute), func(yield func(string, float64)) {
			yield("memory", v)
			yield("cpu", 99)
		})
	}
	got := Replay(Setting{Check: "memory", Above: above(90, 97), Back: 2, ForSeconds: 300}, table, 5*time.Minute)
	if len(got) != 2 || got[0].Level != Warning || got[1].Level != Critical || !got[0].From.Equal(now.Add(100*time.Minute)) {
		t.Errorf("%+v", got)
	}
	if got := Replay(Setting{Check: "memory", Above: above(99.5, 0)}, table, 5*time.Minute); len(got) != 0 {
		t.Errorf("%+v", got)
	}
}
