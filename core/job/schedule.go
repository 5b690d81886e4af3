package job

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"moorwatch.example/core/selector"
)

// JobState is how a job goes on.
type JobState string

// The states of a job.
const (
	JobRunning   JobState = "running"
	JobPaused    JobState = "paused"
	JobStopped   JobState = "stopped" // by its limits
	JobCancelled JobState = "cancelled"
	JobDone      JobState = "done"
)

// Job is a job that is not over. Its exported fields are set before a schedule takes it.
type Job struct {
	ID        ID
	Name      string
	Work      Work
	Limits    Limits
	When      When
	State     JobState
	CreatedAt time.Time
	BeginAt   time.Time // no run begins sooner

	needs   *selector.Selector // of When; nil for none
	waiting map[ID]*Run
	sent    map[ID]*Run
	order   []*Run // waiting ones in their order; those that are not are passed over
	counts  Counts
	recent  Counts // of the latest turn, by which a job that recurs is stopped
	pace    Pace
	changed bool

	// Of jobs that stand: when they are reconciled next, the devices that had a run, and who was signed in where.
	next   time.Time
	known  map[ID]bool
	signed map[ID][]string
}

// Until is when a run of a job that stands is missed that is due at a time.
func (j *Job) Until(due time.Time) time.Time { return j.Limits.Awaited(due, true) }

// World is what a schedule asks of devices. Its answers hold at the moment of the question.
type World interface {
	// Known is what is known of a device.
	Known(device ID) (subject *selector.Subject, ok bool)
	Online(device ID) bool
	// WindowUntil is when the maintenance windows of a device end that are open; zero outside any. WindowNext is when
	// the next opens; zero where none ever does.
	WindowUntil(device ID, now time.Time) time.Time
	WindowNext(device ID, now time.Time) time.Time
	// Owned tells whether whoever answers for a job may still do it at a device.
	Owned(j *Job, device ID) bool
}

// Times of a schedule.
const (
	// grace is how long after its deadline a run may still begin, and returns how long after the schedule began all
	// devices have to connect.
	grace      = 3 * time.Second
	returns    = 90 * time.Second
	retryAfter = time.Second
	// lostAfter is how long after its deadline a run is awaited of a device that was told and went away.
	lostAfter = 7 * 24 * time.Hour
)

// Schedule decides what runs when. It is told what happened, and answers with what is to be done: what is to be put on
// record, what devices are to be told, and what is over. Whoever uses it does so, and tells it what came of that. It
// has no clock, and is used by one goroutine at a time.
type Schedule struct {
	world    World
	began    time.Time
	jobs     map[ID]*Job
	runs     map[ID]*Run        // those that are not over, by id
	at       map[ID]map[ID]*Run // and by device
	journals map[ID]string      // of the devices that connected
}

// NewSchedule makes a schedule that begins at a time without jobs.
func NewSchedule(world World, began time.Time) *Schedule {
	return &Schedule{world: world, began: began, jobs: map[ID]*Job{}, runs: map[ID]*Run{}, at: map[ID]map[ID]*Run{},
		journals: map[ID]string{}}
}

// Admit has a job be worked on, with its first runs.
func (s *Schedule) Admit(j *Job, runs []*Run) {
	j.waiting, j.sent, j.order = map[ID]*Run{}, map[ID]*Run{}, nil
	j.counts, j.recent, j.known, j.signed = Counts{}, Counts{}, map[ID]bool{}, map[ID][]string{}
	if j.When.Needs != "" {
		j.needs, _ = selector.Compile(j.When.Needs) // it was compiled before the job was taken
	}
	s.jobs[j.ID] = j
	for _, r := range runs {
		j.known[r.Device] = true
	}
	s.enter(j, runs)
}

// Readmit has a job go on that was worked on by another schedule: counts are those of all its runs, runs those that
// are not over, and known the devices that had one. Devices that were told are asked what became of theirs.
func (s *Schedule) Readmit(j *Job, counts Counts, runs []*Run, known []ID) {
	s.Admit(j, runs)
	for _, r := range runs {
		r.again = r.State == Sent
	}
	for _, id := range known {
		j.known[id] = true
	}
	if j.counts = counts; !j.When.Standing() {
		j.recent = maps.Clone(counts)
	}
}

// Add adds runs to a job that stands. A turn of its own begins the count of failures anew by which the job's limits
// stop it, where nothing of the turn before is under way.
func (s *Schedule) Add(j *Job, runs []*Run, ownTurn bool) {
	if ownTurn && len(j.waiting)+len(j.sent) == 0 {
		j.recent = Counts{}
	}
	s.enter(j, runs)
}

// enter has runs of a job be worked on.
func (s *Schedule) enter(j *Job, runs []*Run) {
	for _, r := range runs {
		j.counts[r.State]++
		j.recent[r.State]++
		r.Job = j
		switch r.State {
		case Waiting:
			j.waiting[r.ID] = r
			j.order = append(j.order, r)
		case Sent:
			j.sent[r.ID] = r
		default:
			continue
		}
		s.runs[r.ID] = r
		if s.at[r.Device] == nil {
			s.at[r.Device] = map[ID]*Run{}
		}
		s.at[r.Device][r.ID] = r
	}
	j.changed = true
	slices.SortStableFunc(j.order, func(a, b *Run) int { return cmp.Or(a.Due.Compare(b.Due), cmp.Compare(a.Place, b.Place)) })
}

// Job finds a job that is not over; nil where there is none.
func (s *Schedule) Job(id ID) *Job { return s.jobs[id] }

// At are the runs at a device that are not over.
func (s *Schedule) At(device ID) []*Run { return slices.Collect(maps.Values(s.at[device])) }

// WaitingAt are the devices at which runs of a job wait, one of them several times where it has several.
func (j *Job) WaitingAt() (devices []ID) {
	for _, r := range j.waiting {
		devices = append(devices, r.Device)
	}
	return devices
}

// Connected takes note of the journal of a device that connected. Of what it was told before, it is asked again.
func (s *Schedule) Connected(device ID, journal string) {
	s.journals[device] = journal
	for _, r := range s.at[device] {
		r.again = r.again || r.State == Sent
	}
}

// journal is that of a device that is connected; "" of one that is not.
func (s *Schedule) journal(device ID) string {
	if j := s.journals[device]; j != "" && s.world.Online(device) {
		return j
	}
	return ""
}

// Obstacle is what a run waits for at a time, in words that follow "waits"; "" for nothing but its turn. theirs tells
// that it lies with the device, and not with the job.
func (s *Schedule) Obstacle(r *Run, now time.Time) (why string, theirs bool) {
	j := r.Job
	switch {
	case j.State == JobPaused:
		return "as the job is paused", false
	case j.BeginAt.After(now):
		return "until " + clock(j.BeginAt), false
	case r.Due.After(now):
		return "until " + clock(r.Due), false
	case !s.world.Owned(j, r.Device):
		return "until somebody adopts the job: whoever began it may not do this here any more", false
	case s.journal(r.Device) == "":
		return "for the device, which is not connected", true
	}
	for _, other := range s.at[r.Device] {
		if other != r && (other.State == Sent || other.asking) {
			return fmt.Sprintf("behind the job %s, which runs at this device", other.Job.Name), false
		}
	}
	if !j.When.Windows && j.needs == nil {
		return "", false
	}
	subject, ok := s.world.Known(r.Device)
	if !ok {
		return "for the device to be known", true
	}
	if j.When.Windows && s.world.WindowUntil(r.Device, now).IsZero() {
		next := s.world.WindowNext(r.Device, now)
		if next.IsZero() {
			return "for a maintenance window, and the device has none", true
		}
		return "for a maintenance window, which opens on " + clock(next), true
	}
	if j.needs != nil {
		if holds, err := j.needs.Match(subject, now); err != nil || !holds {
			return "for it to hold that " + j.When.Needs, true
		}
	}
	return "", false
}

// Waits says in words what a run waits for that has not begun; "" of one that has.
func (s *Schedule) Waits(run ID, now time.Time) string {
	r := s.runs[run]
	if r == nil || r.State != Waiting {
		return ""
	}
	why, _ := s.Obstacle(r, now)
	return "waits " + cmp.Or(why, "for its turn")
}

func clock(t time.Time) string { return t.UTC().Format("2 January 15:04 UTC") }

// turn picks the runs of a job whose turn it is, of devices that are connected.
func (s *Schedule) turn(j *Job, now time.Time) (out []*Run) {
	if len(j.waiting) == 0 {
		return nil
	}
	var candidates []Candidate
	order := j.order[:0]
	running := map[string]int{}
	for _, r := range j.sent {
		running[r.Site]++
	}
	taken := map[ID]bool{}
	for _, r := range j.order {
		if j.waiting[r.ID] == nil {
			continue
		}
		order = append(order, r)
		if r.asking || now.Before(r.later) || taken[r.Device] {
			continue
		}
		if why, _ := s.Obstacle(r, now); why == "" {
			taken[r.Device] = true // a device has one run of a job at a time
			candidates = append(candidates, Candidate{Run: len(order) - 1, Site: r.Site, Place: r.Place})
		}
	}
	clear(j.order[len(order):])
	j.order = order
	for _, i := range j.pace.Choose(j.Limits, now, candidates, running) {
		out = append(out, order[i])
	}
	return out
}

// move changes the state of a run that is not over.
func (s *Schedule) move(r *Run, to State) {
	j := r.Job
	delete(j.waiting, r.ID)
	delete(j.sent, r.ID)
	j.counts[r.State]--
	j.recent[r.State]--
	r.State = to
	j.counts[to]++
	j.recent[to]++
	j.changed = true
	switch to {
	case Waiting:
		j.waiting[r.ID] = r
		if !slices.Contains(j.order, r) {
			j.order = append(j.order, r)
		}
	case Sent:
		j.sent[r.ID] = r
	default:
		delete(s.runs, r.ID)
		if delete(s.at[r.Device], r.ID); len(s.at[r.Device]) == 0 {
			delete(s.at, r.Device)
		}
	}
}

// inOrder are the jobs in the order in which they come first at a device.
func (s *Schedule) inOrder() []*Job {
	return slices.SortedFunc(maps.Values(s.jobs), func(a, b *Job) int {
		return cmp.Or(a.BeginAt.Compare(b.BeginAt), a.CreatedAt.Compare(b.CreatedAt), bytes.Compare(a.ID[:], b.ID[:]))
	})
}

// End is how a run ended.
type End struct {
	Run, Device ID
	State       State
	Reason      string
	At          time.Time
}

// Orders are what is to be done now.
type Orders struct {
	Begin []*Run // to be put on record as sent, and once Sent is told, to be told to their devices
	Ask   []*Run // of which their devices are to be asked
	End   []End  // to be put on record, and then told to End
}

// Poll tells what is to be done at a time: runs whose turn it is begin, devices that came back are asked what became
// of theirs, and what nothing comes of any more ends.
func (s *Schedule) Poll(now time.Time) (out Orders) {
	for _, j := range s.inOrder() {
		if j.State == JobRunning && !j.BeginAt.After(now) && j.Limits.Stops(j.recent) == "" {
			for _, r := range s.turn(j, now) {
				// What a device is may not have been known when the job was begun.
				if subject, ok := s.world.Known(r.Device); ok {
					if why := j.Work.Unfit(subject); why != "" {
						out.End = append(out.End, End{r.ID, r.Device, Unfit, why, now})
						continue
					}
				}
				r.asking, r.Journal = true, s.journal(r.Device)
				out.Begin = append(out.Begin, r)
			}
		}
		if now.After(s.began.Add(returns)) {
			for _, r := range j.waiting {
				if r.asking || !now.After(r.Until.Add(grace)) {
					continue
				}
				// What is held by the service alone, such as by a limit of how many at once, is not missed.
				if why, theirs := s.Obstacle(r, now); theirs {
					out.End = append(out.End, End{r.ID, r.Device, Missed, j.missed(why), now})
				}
			}
		}
		for _, r := range j.sent {
			switch {
			case r.asking || now.Before(r.later):
			case s.journal(r.Device) != "":
				if r.again || r.cancel {
					r.asking = true
					out.Ask = append(out.Ask, r)
				}
			case now.After(r.Until.Add(lostAfter)) && now.After(r.SentAt.Add(lostAfter)):
				out.End = append(out.End, End{r.ID, r.Device, Interrupted, "the device was told, and did not come back since", now})
			}
		}
	}
	return out
}

func (j *Job) missed(why string) string {
	if j.Limits.WaitHours == 0 {
		return "it was not to wait, and it waited " + why
	}
	return fmt.Sprintf("it waited for %d hours %s", j.Limits.WaitHours, why)
}

// Sent takes note that runs are on record as sent: their devices are told now. Unsent takes note that they could not
// be put on record: they wait.
func (s *Schedule) Sent(runs []*Run, now time.Time) {
	for _, r := range runs {
		s.move(r, Sent)
		r.SentAt, r.cancel = now, r.Job.State == JobCancelled // which it may have become meanwhile
	}
}

// Unsent takes note that runs could not be put on record as sent.
func (s *Schedule) Unsent(runs []*Run) {
	for _, r := range runs {
		r.asking = false
	}
}

// End takes note that the end of a run is on record, and returns the run; nil where it is over already, or another
// device's.
func (s *Schedule) End(e End) *Run {
	r := s.runs[e.Run]
	if r == nil || r.Device != e.Device {
		return nil
	}
	s.move(r, e.State)
	return r
}

// Touch has a job be told of as changed.
func (s *Schedule) Touch(j *Job) { j.changed = true }

// Changed are the jobs that changed since it was asked before.
func (s *Schedule) Changed() (ids []ID) {
	for id, j := range s.jobs {
		if j.changed {
			j.changed = false
			ids = append(ids, id)
		}
	}
	return ids
}

// Progress is how the runs of a job stand: away are those that wait for their device, or its window.
func (s *Schedule) Progress(j *Job, now time.Time) (all, over, away int) {
	for _, r := range j.waiting {
		if _, theirs := s.Obstacle(r, now); theirs {
			away++
		}
	}
	for state, n := range j.counts {
		all += n
		if state.Over() {
			over += n
		}
	}
	return all, over, away
}
