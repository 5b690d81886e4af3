package job_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
	"moorwatch.example/core/selector"
)

// night is when most tests begin.
var night = time.Date(2026, 11, 30, 22, 0, 0, 0, time.UTC)

// place is a world of devices as a test wants it.
type place struct {
	known   map[job.ID]*selector.Subject
	online  map[job.ID]bool
	windows map[job.ID][2]time.Time // from, until
	unowned map[job.ID]bool         // jobs that nobody answers for
}

func (p *place) Known(d job.ID) (*selector.Subject, bool) { s, ok := p.known[d]; return s, ok }
func (p *place) Online(d job.ID) bool                     { return p.online[d] }
func (p *place) Owned(j *job.Job, _ job.ID) bool          { return !p.unowned[j.ID] }

func (p *place) WindowUntil(d job.ID, now time.Time) time.Time {
	if w := p.windows[d]; !now.Before(w[0]) && now.Before(w[1]) {
		return w[1]
	}
	return time.Time{}
}

func (p *place) WindowNext(d job.ID, now time.Time) time.Time {
	if w := p.windows[d]; w[0].After(now) {
		return w[0]
	}
	return time.Time{}
}

// at is a schedule with devices that are connected, and what a test does with it.
type at struct {
	*job.Schedule
	*place
	t       *testing.T
	now     time.Time
	devices []job.Device
	ids     int
	only    *job.Job // of tests of one
}

func begin(t *testing.T, devices int) *at {
	p := &place{known: map[job.ID]*selector.Subject{}, online: map[job.ID]bool{}, windows: map[job.ID][2]time.Time{},
		unowned: map[job.ID]bool{}}
	a := &at{Schedule: job.NewSchedule(p, night), place: p, t: t, now: night}
	for i := range devices {
		s := &selector.Subject{Name: fmt.Sprintf("heron-%d", i), Organisation: "Wader", Site: "Quay", OS: "linux", Online: true,
			Capabilities: []string{device.CapabilityCommands}, TimeZone: "UTC"}
		d := job.Device{ID: a.id(), Subject: s}
		a.devices = append(a.devices, d)
		p.known[d.ID] = s
		a.connect(d.ID)
	}
	return a
}

// id makes identities in their order, so that a failure can be repeated.
func (a *at) id() (id job.ID) {
	a.ids++
	id[14], id[15] = byte(a.ids>>8), byte(a.ids)
	return id
}

func (a *at) connect(d job.ID) {
	a.online[d] = true
	a.known[d].Online = true
	a.Connected(d, "journal of "+a.known[d].Name)
}

func (a *at) hangUp(d job.ID) { a.online[d], a.known[d].Online = false, false }

var bash = job.Work{Name: "tidy", Action: job.RunIt, Script: &script.Script{Interpreter: "bash", Systems: []string{"linux"}}}

// job admits a job for all devices, or for some.
func (a *at) job(name string, change func(*job.Job), devices ...job.Device) *job.Job {
	j := &job.Job{ID: a.id(), Name: name, Work: bash, State: job.JobRunning, CreatedAt: a.now, BeginAt: a.now,
		Limits: job.Limits{WaitHours: 8}}
	if change != nil {
		change(j)
	}
	if devices == nil {
		devices = a.devices
	}
	var runs []*job.Run
	if !j.When.Standing() {
		runs = job.RunsFor(j.Work, devices, "", j.BeginAt, j.Limits.Awaited(j.BeginAt, false), a.id)
	}
	a.Admit(j, runs)
	return j
}

// begun polls and has what is to begin put on record; it returns the names of the devices.
func (a *at) begun() (names []string) {
	a.t.Helper()
	orders := a.Poll(a.now)
	a.Sent(orders.Begin, a.now)
	for _, r := range orders.Begin {
		names = append(names, r.Name)
	}
	for _, e := range orders.End {
		a.Schedule.End(e)
	}
	return names
}

// run is a job's run at a device that is not over; nil for none.
func (a *at) run(j *job.Job, d job.Device) *job.Run {
	for _, r := range a.At(d.ID) {
		if r.Job == j {
			return r
		}
	}
	return nil
}

// hears has the device of a run hear what it is told, and answer.
func (a *at) hears(r *job.Run, answer job.Answer) *job.End {
	return a.Answered(r, a.Tell(r), answer, a.now)
}

// ends has a run end.
func (a *at) ends(r *job.Run, state job.State) {
	a.Schedule.End(job.End{Run: r.ID, Device: r.Device, State: state, At: a.now})
}

// settled settles, and returns the states of jobs that changed.
func (a *at) settled() (states []job.JobState) {
	for _, c := range a.Settle(a.now) {
		for _, e := range a.Settled(c, a.now) {
			a.Schedule.End(e)
		}
		states = append(states, c.State)
	}
	return states
}

func TestWhatARunWaitsFor(t *testing.T) {
	tests := []struct {
		name   string
		job    func(*job.Job)
		world  func(*at, job.ID)
		want   string
		theirs bool
	}{
		{"nothing", nil, nil, "", false},
		{"paused", func(j *job.Job) { j.State = job.JobPaused }, nil, "as the job is paused", false},
		{"its begin", func(j *job.Job) { j.BeginAt = night.Add(time.Hour) }, nil, "until 30 November 23:00 UTC", false},
		{"an owner", nil, func(a *at, _ job.ID) { a.unowned[a.only.ID] = true },
			"until somebody adopts the job: whoever began it may not do this here any more", false},
		{"the device", nil, func(a *at, d job.ID) { a.hangUp(d) }, "for the device, which is not connected", true},
		{"no window", func(j *job.Job) { j.When.Windows = true }, nil, "for a maintenance window, and the device has none", true},
		{"a later window", func(j *job.Job) { j.When.Windows = true },
			func(a *at, d job.ID) { a.windows[d] = [2]time.Time{night.Add(4 * time.Hour), night.Add(6 * time.Hour)} },
			"for a maintenance window, which opens on 1 December 02:00 UTC", true},
		{"an open window", func(j *job.Job) { j.When.Windows = true },
			func(a *at, d job.ID) { a.windows[d] = [2]time.Time{night.Add(-time.Hour), night.Add(time.Hour)} }, "", false},
		{"a need that holds", func(j *job.Job) { j.When.Needs = `os == "linux"` }, nil, "", false},
		{"a need that does not", func(j *job.Job) { j.When.Needs = `size(people) == 0` },
			func(a *at, d job.ID) { a.known[d].People = []string{"wren"} }, "for it to hold that size(people) == 0", true},
		{"a need of an unknown device", func(j *job.Job) { j.When.Needs = `os == "linux"` },
			func(a *at, d job.ID) { delete(a.known, d) }, "for the device to be known", true},
		{"a window of an unknown device", func(j *job.Job) { j.When.Windows = true },
			func(a *at, d job.ID) { delete(a.known, d) }, "for the device to be known", true},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			a := begin(t, 1)
			j := a.job("tidy", test.job)
			a.only = j
			r := a.run(j, a.devices[0])
			if test.world != nil {
				test.world(a, r.Device)
			}
			why, theirs := a.Obstacle(r, a.now)
			if why != test.want || theirs != test.theirs {
				t.Errorf("it waits %q (theirs: %v), want %q (%v)", why, theirs, test.want, test.theirs)
			}
			want := "waits " + test.want
			if test.want == "" {
				want = "waits for its turn"
			}
			if got := a.Waits(r.ID, a.now); got != want {
				t.Errorf("told %q, want %q", got, want)
			}
			if begun := a.begun(); (len(begun) == 1) != (test.want == "") {
				t.Errorf("%q began", begun)
			}
		})
	}
}

func TestOneRunAtADeviceAtATime(t *testing.T) {
	a := begin(t, 1)
	first := a.job("first", nil)
	a.now = a.now.Add(time.Second)
	second := a.job("second", nil)
	d := a.devices[0]
	if got := a.begun(); len(got) != 1 || a.run(first, d).State != job.Sent {
		t.Fatalf("began %q; the earlier job comes first", got)
	}
	if got, want := a.Waits(a.run(second, d).ID, a.now), "waits behind the job first, which runs at this device"; got != want {
		t.Errorf("told %q, want %q", got, want)
	}
	a.ends(a.run(first, d), job.Succeeded)
	if got := a.begun(); len(got) != 1 || a.run(second, d).State != job.Sent {
		t.Errorf("began %q after the first was over", got)
	}
}

func TestLimitsBoundWhatRuns(t *testing.T) {
	a := begin(t, 10)
	j := a.job("tidy", func(j *job.Job) { j.Limits.AtOnce = 3 })
	if got := a.begun(); len(got) != 3 {
		t.Fatalf("began %q, and 3 may at once", got)
	}
	if got := a.begun(); len(got) != 0 {
		t.Errorf("began %q beside three", got)
	}
	a.ends(a.run(j, a.devices[0]), job.Failed)
	if got := a.begun(); !slices.Equal(got, []string{"heron-3"}) {
		t.Errorf("began %q, want the fourth", got)
	}
}

func TestWhatCannotBePutOnRecordWaits(t *testing.T) {
	a := begin(t, 1)
	j := a.job("tidy", nil)
	orders := a.Poll(a.now)
	if len(orders.Begin) != 1 || len(a.Poll(a.now).Begin) != 0 {
		t.Fatal("a run is chosen once until it is known what came of it")
	}
	a.Unsent(orders.Begin)
	if r := a.run(j, a.devices[0]); r.State != job.Waiting || len(a.begun()) != 1 {
		t.Errorf("the run is %s, and is not chosen again", r.State)
	}
}

func TestAJobThatWasCancelledAsItsRunBegan(t *testing.T) {
	a := begin(t, 1)
	j := a.job("tidy", nil)
	orders := a.Poll(a.now)
	if ends, undo, err := a.Steer(j.ID, job.JobCancelled, a.now); err != nil || undo == nil || len(ends) != 0 {
		t.Fatalf("steered: %v, %v; what is being told is not dropped", ends, err)
	}
	a.Sent(orders.Begin, a.now)
	r := a.run(j, a.devices[0])
	if m := a.Tell(r); !m.Cancel {
		t.Error("the device is not told to cancel")
	} else if end := a.Answered(r, m, job.Answer{}, a.now); end == nil || end.State != job.Cancelled {
		t.Errorf("a device that never heard of it leaves it %v", end)
	}
}

func TestUnfitAtTheLastMoment(t *testing.T) {
	a := begin(t, 2)
	a.known[a.devices[0].ID].OS = "" // it has told nothing yet
	j := a.job("tidy", nil)
	a.known[a.devices[0].ID].OS = "windows"
	if got := a.begun(); !slices.Equal(got, []string{"heron-1"}) {
		t.Errorf("began %q", got)
	}
	if r := a.run(j, a.devices[0]); r != nil {
		t.Errorf("the run that cannot be done is %s", r.State)
	}
}

func TestWhatIsMissed(t *testing.T) {
	tests := []struct {
		name   string
		hours  int
		passed time.Duration
		world  func(*at, *job.Job)
		want   string // the reason; "" where the run goes on waiting
	}{
		{"an absent device that is awaited", 8, 7 * time.Hour, func(a *at, _ *job.Job) { a.hangUp(a.devices[0].ID) }, ""},
		{"an absent device that was awaited", 8, 9 * time.Hour, func(a *at, _ *job.Job) { a.hangUp(a.devices[0].ID) },
			"it waited for 8 hours for the device, which is not connected"},
		{"one that is not awaited", 0, 2 * time.Minute, func(a *at, _ *job.Job) { a.hangUp(a.devices[0].ID) },
			"it was not to wait, and it waited for the device, which is not connected"},
		{"just after a start, when none are back yet", 0, time.Minute, func(a *at, _ *job.Job) { a.hangUp(a.devices[0].ID) }, ""},
		{"held by the job itself", 0, 9 * time.Hour, func(a *at, j *job.Job) { j.State = job.JobPaused }, ""},
		{"nobody answers for it", 0, 9 * time.Hour, func(a *at, j *job.Job) { a.unowned[j.ID] = true }, ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			a := begin(t, 1)
			j := a.job("tidy", func(j *job.Job) { j.Limits.WaitHours = test.hours })
			test.world(a, j)
			a.now = a.now.Add(test.passed)
			orders := a.Poll(a.now)
			switch {
			case test.want == "" && len(orders.End) == 0:
			case test.want == "" || len(orders.End) != 1:
				t.Errorf("ended %v", orders.End)
			case orders.End[0].State != job.Missed || orders.End[0].Reason != test.want:
				t.Errorf("%s, %q; want missed, %q", orders.End[0].State, orders.End[0].Reason, test.want)
			}
		})
	}
}

func TestProgressTellsWhoIsAway(t *testing.T) {
	a := begin(t, 3)
	a.hangUp(a.devices[1].ID)
	j := a.job("tidy", nil)
	a.begun()
	a.ends(a.run(j, a.devices[0]), job.Succeeded)
	if all, over, away := a.Progress(j, a.now); all != 3 || over != 1 || away != 1 {
		t.Errorf("%d runs, %d over, %d away; want 3, 1, 1", all, over, away)
	}
	if got := j.WaitingAt(); !slices.Equal(got, []job.ID{a.devices[1].ID}) {
		t.Errorf("waits at %v", got)
	}
}

func TestChangedJobsAreToldOnce(t *testing.T) {
	a := begin(t, 1)
	j := a.job("tidy", nil)
	want := []job.ID{j.ID}
	if got := a.Changed(); !slices.Equal(got, want) {
		t.Errorf("changed %v", got)
	}
	if got := a.Changed(); len(got) > 0 {
		t.Errorf("changed %v, and nothing did", got)
	}
	a.begun()
	if got := a.Changed(); !slices.Equal(got, want) {
		t.Errorf("changed %v after its run began", got)
	}
	a.Touch(j)
	if got := a.Changed(); !slices.Equal(got, want) {
		t.Errorf("changed %v after it was touched", got)
	}
}

func TestReadmittedJobsGoOn(t *testing.T) {
	a := begin(t, 2)
	j := &job.Job{ID: a.id(), Name: "tidy", Work: bash, State: job.JobRunning, CreatedAt: a.now, BeginAt: a.now,
		Limits: job.Limits{StopAfter: 3, WaitHours: 1}}
	runs := job.RunsFor(bash, a.devices, "", a.now, a.now.Add(time.Hour), a.id)
	runs[0].State, runs[0].SentAt = job.Sent, a.now.Add(-time.Minute)
	a.Readmit(j, job.Counts{job.Failed: 2, job.Sent: 1, job.Waiting: 1}, runs, nil)
	orders := a.Poll(a.now)
	a.Sent(orders.Begin, a.now)
	if len(orders.Ask) != 1 || orders.Ask[0] != runs[0] || len(orders.Begin) != 1 {
		t.Fatalf("asks %d and begins %d; want one of each", len(orders.Ask), len(orders.Begin))
	}
	if end := a.hears(runs[0], job.Answer{Journal: "new"}); end == nil || end.State != job.Interrupted {
		t.Errorf("a device that lost its journal leaves %v", end)
	}
	a.ends(runs[0], job.Interrupted) // the third that went wrong
	if got := a.settled(); len(got) != 0 {
		t.Errorf("settled %v: nothing waits that could be stopped", got)
	}
	a.ends(runs[1], job.Succeeded)
	if got := a.settled(); !slices.Equal(got, []job.JobState{job.JobDone}) {
		t.Errorf("settled %v", got)
	}
}
