package job_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/job"
)

func TestJobsThatRecur(t *testing.T) {
	a := begin(t, 3)
	a.known[a.devices[2].ID].TimeZone = "Asia/Tokyo"
	j := a.job("nightly", func(j *job.Job) {
		j.When = job.When{Rule: "FREQ=DAILY", Start: "2026-11-01T23:30"}
		j.Limits.Spread = 600
	})
	due := func() []*job.Job { return a.Standing(a.now) }
	if got := due(); !slices.Equal(got, []*job.Job{j}) {
		t.Fatal("a new job that recurs is not due to be reconciled")
	}
	plan := a.Reconcile(j, a.devices, a.now)
	if len(plan.Turns) > 0 {
		t.Fatalf("turns %v before any time came", plan.Turns)
	}
	a.Reconciled(j, plan, true, a.now)
	if len(due()) > 0 {
		t.Error("it is due again at once")
	}
	a.now = time.Date(2026, 11, 30, 23, 31, 0, 0, time.UTC)
	plan = a.Reconcile(j, a.devices, a.now)
	if len(plan.Turns) != 1 || plan.Turns[0].Name != "2026-11-30 23:30" || len(plan.Turns[0].Devices) != 2 {
		t.Fatalf("turns %v: Tokyo's time was hours ago, before the job", plan.Turns)
	}
	runs := plan.Turns[0].Runs(j, a.id)
	if !runs[0].Due.Equal(a.now.Add(-time.Minute)) || !runs[1].Due.Equal(a.now.Add(4*time.Minute)) {
		t.Errorf("due at %s and %s: starts are spread over 10 minutes", runs[0].Due, runs[1].Due)
	}
	a.Add(j, runs, plan.Turns[0].Own)
	a.Reconciled(j, plan, false, a.now)
	a.now = a.now.Add(time.Second)
	if len(due()) != 1 {
		t.Error("a plan that could not be put on record is not tried again after a second")
	}
	if got := a.begun(); !slices.Equal(got, []string{"heron-0"}) {
		t.Errorf("began %q", got)
	}
	if got := a.settled(); len(got) > 0 {
		t.Errorf("settled %v: a job that recurs is not over with its runs", got)
	}
	a.now = a.now.Add(11 * time.Hour) // 10:31: nobody catches up with what is that late
	if plan := a.Reconcile(j, a.devices, a.now); len(plan.Turns) > 0 {
		t.Errorf("turns %v, hours late", plan.Turns)
	}
}

func TestATurnOfItsOwnCountsItsOwnFailures(t *testing.T) {
	a := begin(t, 1)
	j := a.job("nightly", func(j *job.Job) {
		j.When, j.Limits.StopAfter = job.When{Rule: "FREQ=DAILY", Start: "2026-11-01T23:30", Zone: "Asia/Tokyo"}, 2
	})
	for night := range 3 {
		due := a.now.Add(time.Duration(night) * 24 * time.Hour)
		turn := job.Turn{Name: fmt.Sprint(night), Due: due, Devices: a.devices, Own: true}
		a.now = due
		a.Add(j, turn.Runs(j, a.id), true)
		if got := a.begun(); len(got) != 1 {
			t.Fatalf("night %d began %q", night, got)
		}
		a.ends(a.run(j, a.devices[0]), job.Failed)
		if got := a.settled(); len(got) > 0 {
			t.Fatalf("night %d settled %v: one failure a night is fewer than two", night, got)
		}
	}
	turn := job.Turn{Name: "more", Due: a.now, Devices: a.devices}
	a.Add(j, turn.Runs(j, a.id), false)
	a.begun()
	a.ends(a.run(j, a.devices[0]), job.Failed)
	if got := a.settled(); len(got) == 0 || slices.ContainsFunc(got, func(s job.JobState) bool { return s != job.JobStopped }) {
		t.Errorf("settled %v after two failures within a turn", got)
	}
}

func TestTurnsAreCalledByTheJobsClock(t *testing.T) {
	a := begin(t, 1)
	a.now = time.Date(2026, 12, 1, 14, 31, 0, 0, time.UTC) // 23:31 in Tokyo
	j := a.job("nightly", func(j *job.Job) {
		j.When = job.When{Rule: "FREQ=DAILY", Start: "2026-11-01T23:30", Zone: "Asia/Tokyo"}
		j.CreatedAt = a.now.Add(-time.Hour)
	})
	if plan := a.Reconcile(j, a.devices, a.now); len(plan.Turns) != 1 || plan.Turns[0].Name != "2026-12-01 23:30" {
		t.Errorf("turns %v", plan.Turns)
	}
}

func TestJobsThatFollowDevices(t *testing.T) {
	a := begin(t, 3)
	j := a.job("agent", func(j *job.Job) { j.When.Follow = true })
	names := func(p job.Plan) (out []string) {
		for _, t := range p.Turns {
			for _, d := range t.Devices {
				out = append(out, d.Subject.Name)
			}
		}
		return out
	}
	plan := a.Reconcile(j, a.devices[:2], a.now)
	if got := names(plan); !slices.Equal(got, []string{"heron-0", "heron-1"}) {
		t.Errorf("planned %q", got)
	}
	a.Reconciled(j, plan, false, a.now)
	if got := names(a.Reconcile(j, a.devices[:2], a.now)); len(got) != 2 {
		t.Errorf("planned %q after nothing was put on record", got)
	}
	a.Reconciled(j, plan, true, a.now)
	if got := names(a.Reconcile(j, a.devices, a.now)); !slices.Equal(got, []string{"heron-2"}) {
		t.Errorf("planned %q, want the one that is new", got)
	}
	b := begin(t, 2)
	b.Readmit(j, job.Counts{}, nil, []job.ID{b.devices[0].ID})
	if got := names(b.Reconcile(j, b.devices, b.now)); !slices.Equal(got, []string{"heron-1"}) {
		t.Errorf("planned %q after a start; the other had its run", got)
	}
}

// people are readings of a device that has told who is there.
type people struct{}

func (people) Value(string) (float64, bool) { return 0, false }
func (people) Names() []string              { return nil }

func TestSomebodySignsIn(t *testing.T) {
	a := begin(t, 1)
	d := a.devices[0]
	j := a.job("welcome", func(j *job.Job) { j.When.Event = job.SignedIn })
	steps := []struct {
		name    string
		reports bool
		people  []string
		want    int
	}{
		{"it has told nothing yet", false, nil, 0},
		{"wren was there before", true, []string{"wren"}, 0},
		{"nothing changed", true, []string{"wren"}, 0},
		{"crake came", true, []string{"wren", "crake"}, 1},
		{"all left", true, nil, 0},
		{"wren is back", true, []string{"wren"}, 1},
	}
	for _, s := range steps {
		if d.Subject.People = s.people; s.reports {
			d.Subject.Readings = people{}
		}
		if got := a.Reconcile(j, a.devices, a.now); len(got.SignedIn) != s.want || len(got.Turns) > 0 {
			t.Errorf("%s: %v", s.name, got)
		}
	}
}

func TestWhichJobsAnEventConcerns(t *testing.T) {
	a := begin(t, 1)
	d := a.devices[0]
	when := func(w job.When) func(*job.Job) { return func(j *job.Job) { j.When = w } }
	a.job("once", nil)
	a.job("any check", when(job.When{Event: job.Checked}))
	a.job("disk", when(job.When{Event: job.Checked, Check: "disk"}))
	a.job("enrolled", when(job.When{Event: job.Enrolled}))
	a.job("over", when(job.When{Event: job.Checked, Until: night.Add(-time.Hour)}))
	a.job("paused", func(j *job.Job) { j.When.Event, j.State = job.Checked, job.JobPaused })
	names := func(jobs []*job.Job) string {
		var out []string
		for _, j := range jobs {
			out = append(out, j.Name)
		}
		return strings.Join(out, ", ")
	}
	for _, test := range [][3]string{{job.Checked, "disk", "any check, disk"}, {job.Checked, "memory", "any check"},
		{job.Enrolled, "", "enrolled"}, {job.Online, "", ""}} {
		if got := names(a.Answers(test[0], test[1], a.now)); got != test[2] {
			t.Errorf("%s %s concerns %q, want %q", test[0], test[1], got, test[2])
		}
	}
	j := a.Answers(job.Enrolled, "", a.now)[0]
	turns := a.Answering(j, d, a.now)
	if len(turns) != 10 || turns[0].Name != "2026-11-30 22:00:00" || turns[1].Name != "2026-11-30 22:00:01" || !turns[1].Due.Equal(a.now) {
		t.Fatalf("answered by %v", turns)
	}
	a.Add(j, turns[0].Runs(j, a.id), false)
	if again := a.Answering(j, d, a.now); len(again) > 0 {
		t.Errorf("answered by %v beside a run that is not over", again)
	}
	if got := a.settled(); !slices.Equal(got, []job.JobState{job.JobDone}) {
		t.Errorf("settled %v: the one whose end has come is done, others go on", got)
	}
}
