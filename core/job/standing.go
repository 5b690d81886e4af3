package job

import (
	"slices"
	"time"

	"moorwatch.example/core/calendar"
)

// Times at which jobs that stand are reconciled.
const (
	followEvery = 5 * time.Second // at the devices that they are meant for
	// recurEvery is the longest that a job that recurs is not reconciled: devices come and change their zone.
	recurEvery = time.Minute
	// soonest bounds by how much a turn's name may be later than what it answers.
	soonest = 10 * time.Second
)

// Turn is one of the times of a job that stands, at some devices.
type Turn struct {
	Name    string
	Due     time.Time
	Devices []Device
	// Own tells that the turn's failures are counted apart from those of others.
	Own bool
}

// Runs makes the runs of a turn of a job; newID names each.
func (t Turn) Runs(j *Job, newID func() ID) []*Run {
	runs := RunsFor(j.Work, t.Devices, t.Name, t.Due, j.Until(t.Due), newID)
	if t.Own {
		for _, r := range runs {
			r.Due = t.Due.Add(time.Duration(r.Place*float64(j.Limits.Spread)) * time.Second)
		}
	}
	return runs
}

// stands tells whether a job may begin runs by itself now.
func (j *Job) stands(now time.Time) bool {
	return j.State == JobRunning && j.When.Standing() && !j.ended(now)
}

// Answers are the jobs that wait for an event, and for a check's event for that check or any.
func (s *Schedule) Answers(event, check string, now time.Time) (jobs []*Job) {
	for _, j := range s.inOrder() {
		if j.stands(now) && j.When.Event == event && (j.When.Check == "" || j.When.Check == check) {
			jobs = append(jobs, j)
		}
	}
	return jobs
}

// Standing are the jobs that are due to be reconciled with the devices that they are meant for.
func (s *Schedule) Standing(now time.Time) (jobs []*Job) {
	for _, j := range s.inOrder() {
		if j.stands(now) && (j.When.Rule != "" || j.When.Follow || j.When.Event == SignedIn) && !now.Before(j.next) {
			jobs = append(jobs, j)
		}
	}
	return jobs
}

// Plan is what a job that stands is to do now.
type Plan struct {
	Turns    []Turn // to be put on record and given to Add
	SignedIn []ID   // devices at which somebody signed in
	next     time.Time
}

// Reconcile tells what a job that stands is to do now at the devices that it is meant for. What came of it is told to
// Reconciled.
func (s *Schedule) Reconcile(j *Job, devices []Device, now time.Time) Plan {
	out := Plan{next: now.Add(followEvery)}
	switch {
	case j.When.Follow:
		var fresh []Device
		for _, d := range devices {
			if !j.known[d.ID] {
				fresh = append(fresh, d)
			}
		}
		if len(fresh) > 0 {
			out.Turns = []Turn{{Due: now, Devices: fresh}}
		}
	case j.When.Event == SignedIn:
		for _, d := range devices {
			if d.Subject.Readings == nil {
				continue // it has not told yet who is there: whoever it tells of first did not sign in just then
			}
			was, seen := j.signed[d.ID]
			j.signed[d.ID] = slices.Clone(d.Subject.People)
			if seen && slices.ContainsFunc(d.Subject.People, func(p string) bool { return !slices.Contains(was, p) }) {
				out.SignedIn = append(out.SignedIn, d.ID)
			}
		}
	default:
		out.Turns, out.next = j.recur(devices, now)
	}
	return out
}

// Reconciled takes note that all turns of a plan are on record, or that they are not: then it is tried again soon.
func (s *Schedule) Reconciled(j *Job, p Plan, done bool, now time.Time) {
	if !done {
		j.next = now.Add(retryAfter)
		return
	}
	j.next = p.next
	if !j.When.Follow {
		return
	}
	for _, t := range p.Turns {
		for _, d := range t.Devices {
			j.known[d.ID] = true
		}
	}
}

// recur are the turns of a job at the devices where its time has come, and when it is to be reconciled again.
func (j *Job) recur(devices []Device, now time.Time) (turns []Turn, next time.Time) {
	var names []string
	zones := map[string][]Device{}
	for _, d := range devices {
		name := d.Subject.TimeZone
		if zones[name] == nil {
			names = append(names, name)
		}
		zones[name] = append(zones[name], d)
	}
	next = now.Add(recurEvery)
	for _, name := range names {
		zone := calendar.Zone(name)
		if at := j.When.Next(now, zone); !at.IsZero() && at.Before(next) {
			next = at
		}
		due := j.When.Last(j.CreatedAt, now, zone)
		if due.IsZero() || now.After(j.Until(due)) {
			continue
		}
		if j.When.Zone != "" { // by whose clock it is called
			zone = calendar.Zone(j.When.Zone)
		}
		turns = append(turns, Turn{due.In(zone).Format("2006-01-02 15:04"), due, zones[name], true})
	}
	return turns, next
}

// Answering are the turns by which a job may answer what happened to a device at a time, the best first: a turn has
// the name of a second, and it may have happened twice within one. None where a run of the job is under way there.
func (s *Schedule) Answering(j *Job, d Device, at time.Time) (turns []Turn) {
	for _, r := range s.at[d.ID] {
		if r.Job == j {
			return nil
		}
	}
	for named := at; named.Sub(at) < soonest; named = named.Add(time.Second) {
		turns = append(turns, Turn{Name: named.UTC().Format("2006-01-02 15:04:05"), Due: at, Devices: []Device{d}})
	}
	return turns
}
