package job

import (
	"errors"
	"fmt"
	"time"
)

// Change is what becomes of a job.
type Change struct {
	Job    *Job
	State  JobState
	Reason string
	Over   bool
}

// Settle tells which jobs are stopped, as too many of their runs failed, and which are over. Each change is to be put
// on record and then told to Settled.
func (s *Schedule) Settle(now time.Time) (changes []Change) {
	for _, j := range s.jobs {
		if reason := j.Limits.Stops(j.recent); reason != "" && j.State == JobRunning && (len(j.waiting) > 0 || j.When.Standing()) {
			changes = append(changes, Change{j, JobStopped, reason, false})
		}
		goesOn := j.When.Standing() && j.State != JobCancelled && j.State != JobStopped && !j.ended(now)
		if len(j.waiting)+len(j.sent) == 0 && !goesOn {
			state := j.State
			if state == JobRunning || state == JobPaused {
				state = JobDone
			}
			changes = append(changes, Change{j, state, "", true})
		}
	}
	return changes
}

// ended tells whether a job that stands begins nothing any more.
func (j *Job) ended(now time.Time) bool { return !j.When.Until.IsZero() && now.After(j.When.Until) }

// Settled takes note of a change that is on record, and returns the runs that end with it.
func (s *Schedule) Settled(c Change, now time.Time) []End {
	c.Job.State, c.Job.changed = c.State, true
	if c.Over {
		delete(s.jobs, c.Job.ID)
		return nil
	}
	return c.Job.drop("the job was stopped: "+c.Reason, now)
}

// drop ends all runs of a job that wait.
func (j *Job) drop(reason string, now time.Time) (all []End) {
	for _, r := range j.waiting {
		if !r.asking {
			all = append(all, End{r.ID, r.Device, Cancelled, reason, now})
		}
	}
	return all
}

// Errors of Steer.
var (
	ErrOver    = errors.New("the job is over")
	ErrNotNow  = errors.New("only a job that runs is paused, and only one that is paused goes on")
	ErrNoSteer = errors.New("a job can be made running, paused or cancelled")
)

// Steer makes a job paused, running or cancelled, and returns the runs that end with it, which are to be put on record,
// and what makes it as it was. undo is nil where the job was so already.
func (s *Schedule) Steer(id ID, to JobState, now time.Time) (ends []End, undo func(), err error) {
	j := s.jobs[id]
	switch {
	case j == nil:
		return nil, nil, ErrOver
	case to != JobPaused && to != JobRunning && to != JobCancelled:
		return nil, nil, ErrNoSteer
	case j.State == to:
		return nil, nil, nil
	case to == JobPaused && j.State != JobRunning, to == JobRunning && j.State != JobPaused:
		return nil, nil, fmt.Errorf("the job is %s: %w", j.State, ErrNotNow)
	}
	was := j.State
	j.State, j.changed = to, true
	var told []*Run
	if to == JobCancelled {
		for _, r := range j.sent {
			if !r.cancel {
				r.cancel = true
				told = append(told, r)
			}
		}
		ends = j.drop("the job was cancelled", now)
	}
	return ends, func() {
		j.State = was
		for _, r := range told {
			r.cancel = false
		}
	}, nil
}
