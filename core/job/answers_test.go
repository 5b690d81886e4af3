package job_test

import (
	"errors"
	"slices"
	"testing"
	"time"

	"moorwatch.example/core/job"
)

func TestWhatDevicesAnswer(t *testing.T) {
	over := &job.End{State: job.Failed, Reason: "exit status 3"}
	tests := []struct {
		name   string
		again  bool // it was told before, and no answer came
		cancel bool
		answer job.Answer
		want   job.State // of the run; "" where it goes on
		reason string
	}{
		{"it goes on", false, false, job.Answer{Begun: true}, "", ""},
		{"no answer", false, false, job.Answer{Lost: true}, "", ""},
		{"over already", false, false, job.Answer{End: over}, job.Failed, "exit status 3"},
		{"refused", false, false, job.Answer{Refused: "the disk is full"}, job.Failed, "the device refused: the disk is full"},
		{"another journal", false, false, job.Answer{Journal: "another"}, job.Waiting, ""},
		{"another journal after it may have run", true, false, job.Answer{Journal: "another"}, job.Interrupted,
			"the device lost its journal after it was told; whether it ran is not known"},
		{"cancelled and never heard of", false, true, job.Answer{}, job.Cancelled, "it was cancelled before it began"},
		{"cancelled and going on", false, true, job.Answer{Begun: true}, "", ""},
		{"cancelled and refused", true, true, job.Answer{Refused: "no"}, job.Failed, "the device refused: no"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			a := begin(t, 1)
			j := a.job("tidy", nil)
			a.begun()
			r := a.run(j, a.devices[0])
			if test.again {
				a.hears(r, job.Answer{Lost: true})
			}
			if test.cancel {
				if _, _, err := a.Steer(j.ID, job.JobCancelled, a.now); err != nil {
					t.Fatal(err)
				}
			}
			end := a.hears(r, test.answer)
			switch {
			case end != nil && (end.State != test.want || end.Reason != test.reason):
				t.Errorf("%s, %q; want %s, %q", end.State, end.Reason, test.want, test.reason)
			case end == nil && test.want == job.Waiting && r.State != job.Waiting:
				t.Errorf("the run is %s, and was never told", r.State)
			case end == nil && test.want != "" && test.want != job.Waiting:
				t.Errorf("it goes on, want %s", test.want)
			}
		})
	}
	t.Run("over meanwhile", func(t *testing.T) {
		a := begin(t, 1)
		j := a.job("tidy", nil)
		a.begun()
		r := a.run(j, a.devices[0])
		m := a.Tell(r)
		a.ends(r, job.Succeeded)
		if end := a.Answered(r, m, job.Answer{Journal: "another"}, a.now); end != nil || r.State != job.Succeeded {
			t.Errorf("a late answer made it %s, %v", r.State, end)
		}
	})
}

func TestDevicesThatComeBackAreAsked(t *testing.T) {
	a := begin(t, 1)
	j := a.job("tidy", nil)
	a.begun()
	r := a.run(j, a.devices[0])
	a.hears(r, job.Answer{Begun: true})
	if orders := a.Poll(a.now); len(orders.Ask) != 0 {
		t.Error("a device is asked while all is well")
	}
	a.hangUp(r.Device)
	if orders := a.Poll(a.now); len(orders.Ask) != 0 {
		t.Error("a device that is away is asked")
	}
	a.connect(r.Device)
	if orders := a.Poll(a.now); len(orders.Ask) != 1 || orders.Ask[0] != r {
		t.Fatal("a device that is back is not asked")
	}
	a.hears(r, job.Answer{Lost: true})
	if orders := a.Poll(a.now); len(orders.Ask) != 0 {
		t.Error("it is asked again at once")
	}
	a.now = a.now.Add(2 * time.Second)
	if orders := a.Poll(a.now); len(orders.Ask) != 1 {
		t.Error("it is not asked again")
	}
	a.hears(r, job.Answer{Begun: true})
	a.hangUp(r.Device)
	a.now = a.now.Add(8 * 24 * time.Hour)
	if orders := a.Poll(a.now); len(orders.End) != 1 || orders.End[0].State != job.Interrupted {
		t.Errorf("after a week: %v", orders.End)
	}
}

func TestSteering(t *testing.T) {
	a := begin(t, 2)
	j := a.job("tidy", func(j *job.Job) { j.Limits.AtOnce = 1 })
	a.begun()
	steer := func(to job.JobState, want error, ends int) (undo func()) {
		t.Helper()
		dropped, undo, err := a.Steer(j.ID, to, a.now)
		if !errors.Is(err, want) || len(dropped) != ends {
			t.Errorf("made %s: %d runs end, %v; want %d, %v", to, len(dropped), err, ends, want)
		}
		for _, e := range dropped {
			a.Schedule.End(e)
		}
		return undo
	}
	steer("asleep", job.ErrNoSteer, 0)
	if undo := steer(job.JobRunning, nil, 0); undo != nil {
		t.Error("it ran already")
	}
	steer(job.JobPaused, nil, 0)()
	if j.State != job.JobRunning {
		t.Errorf("undone, it is %s", j.State)
	}
	steer(job.JobPaused, nil, 0)
	a.ends(a.run(j, a.devices[0]), job.Succeeded)
	if got := a.begun(); len(got) > 0 {
		t.Errorf("began %q while it was paused", got)
	}
	steer(job.JobRunning, nil, 0)
	a.begun()
	steer(job.JobCancelled, nil, 0) // one is over, the other runs
	steer(job.JobPaused, job.ErrNotNow, 0)
	steer(job.JobRunning, job.ErrNotNow, 0)
	if r := a.run(j, a.devices[1]); !a.Tell(r).Cancel {
		t.Error("the run that was under way is not told")
	}
	a.ends(a.run(j, a.devices[1]), job.Cancelled)
	if got := a.settled(); !slices.Equal(got, []job.JobState{job.JobCancelled}) || a.Job(j.ID) != nil {
		t.Errorf("settled %v", got)
	}
	if _, _, err := a.Steer(j.ID, job.JobPaused, a.now); !errors.Is(err, job.ErrOver) {
		t.Errorf("a job that is over: %v", err)
	}
}

func TestCancellingDropsWhatWaits(t *testing.T) {
	a := begin(t, 3)
	j := a.job("tidy", func(j *job.Job) { j.Limits.AtOnce = 1 })
	a.begun()
	dropped, undo, err := a.Steer(j.ID, job.JobCancelled, a.now)
	if len(dropped) != 2 || err != nil {
		t.Fatalf("dropped %v, %v", dropped, err)
	}
	undo() // it could not be put on record
	if m := a.Tell(a.run(j, a.devices[0])); m.Cancel {
		t.Error("a cancelling that was undone reaches the device")
	}
}

func TestTooManyFailuresStopAJob(t *testing.T) {
	a := begin(t, 5)
	j := a.job("tidy", func(j *job.Job) { j.Limits.AtOnce, j.Limits.StopAfter = 1, 2 })
	for i := range 2 {
		a.begun()
		a.ends(a.run(j, a.devices[i]), job.Failed)
	}
	if got := a.begun(); len(got) > 0 {
		t.Errorf("began %q after two failures", got)
	}
	if got := a.settled(); !slices.Equal(got, []job.JobState{job.JobStopped}) {
		t.Fatalf("settled %v", got)
	}
	if got := a.settled(); !slices.Equal(got, []job.JobState{job.JobStopped}) || a.Job(j.ID) != nil {
		t.Errorf("with nothing left it settles %v", got)
	}
}

func TestAJobEndsWithItsLastRun(t *testing.T) {
	a := begin(t, 1)
	j := a.job("tidy", nil)
	a.begun()
	if got := a.settled(); len(got) > 0 {
		t.Errorf("settled %v while it runs", got)
	}
	if all, over, away := a.Progress(j, a.now); all != 1 || over != 0 || away != 0 {
		t.Errorf("progress %d, %d, %d", all, over, away)
	}
	if a.Schedule.End(job.End{Run: a.run(j, a.devices[0]).ID, Device: a.id(), State: job.Succeeded}) != nil {
		t.Error("another device ended the run")
	}
	a.ends(a.run(j, a.devices[0]), job.Succeeded)
	if got := a.settled(); !slices.Equal(got, []job.JobState{job.JobDone}) {
		t.Errorf("settled %v", got)
	}
}
