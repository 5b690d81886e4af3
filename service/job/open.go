package job

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/core/selector"
)

// open is a job that is not over, as it stands in memory. The column's lock is held over it.
type open struct {
	id        uuid.UUID
	name      string
	work      job.Work
	files     []string // that its work brings
	values    map[string]string
	secrets   []byte
	limits    job.Limits
	when      job.When
	needs     *selector.Selector // of when; nil for none
	selection selection
	origin    string
	owner     uuid.UUID // with whose rights it is done, where a person began it
	by        string    // their address
	state     string
	createdAt time.Time
	beginAt   time.Time
	deadline  time.Time
	waiting   map[uuid.UUID]*run
	sent      map[uuid.UUID]*run
	order     []*run // waiting ones in their order; those that are not are passed over
	counts    job.Counts
	recent    job.Counts // of the latest turn, by which a job that recurs is stopped
	pace      job.Pace
	changed   bool // consoles are to be told

	// Of jobs that stand: when they are looked at next, the devices that had a run, and who was signed
	// in where.
	nextCheck time.Time
	known     map[uuid.UUID]bool
	signed    map[uuid.UUID][]string
}

func newOpen() *open {
	return &open{waiting: map[uuid.UUID]*run{}, sent: map[uuid.UUID]*run{}, counts: job.Counts{}, recent: job.Counts{},
		known: map[uuid.UUID]bool{}, signed: map[uuid.UUID][]string{}}
}

// run is a run that is not over.
type run struct {
	id      uuid.UUID
	job     *open
	device  uuid.UUID
	name    string
	site    string
	place   float64
	turn    string
	due     time.Time
	until   time.Time // it is missed when it has not begun by then
	state   job.State
	reason  string
	journal string
	sentAt  time.Time
	again   bool      // the device must be asked what became of it
	asking  bool      // it is being told
	cancel  bool      // it is to end
	later   time.Time // before which it is not tried again
}

func (o *open) put(r *run) {
	r.job = o
	switch r.state {
	case job.Waiting:
		o.waiting[r.id] = r
		o.order = append(o.order, r)
	case job.Sent:
		o.sent[r.id] = r
	}
}

// admit has a job be worked on.
func (c *Service) admit(o *open, runs []*run) {
	c.mu.Lock()
	defer c.mu.Unlock()
	o.files = o.work.Files()
	if o.when.Needs != "" {
		o.needs, _ = selector.Compile(o.when.Needs) // it was compiled before it was taken
	}
	c.open[o.id] = o
	c.enter(o, runs)
}

// enter has runs of a job be worked on. The lock is held.
func (c *Service) enter(o *open, runs []*run) {
	for _, r := range runs {
		o.counts[r.state]++
		o.recent[r.state]++
		o.put(r)
	}
	o.changed = true
	slices.SortStableFunc(o.order, func(a, b *run) int {
		switch {
		case !a.due.Equal(b.due):
			return a.due.Compare(b.due)
		case a.place < b.place:
			return -1
		case a.place > b.place:
			return 1
		}
		return 0
	})
	for _, all := range []map[uuid.UUID]*run{o.waiting, o.sent} {
		for id, r := range all {
			c.runs[id] = r
			if c.at[r.device] == nil {
				c.at[r.device] = map[uuid.UUID]*run{}
			}
			c.at[r.device][id] = r
		}
	}
	c.poke()
}

func missed(o *open, why string) string {
	if o.limits.WaitHours == 0 {
		return "it was not to wait, and it waited " + why
	}
	return fmt.Sprintf("it waited for %d hours %s", o.limits.WaitHours, why)
}

// inOrder are the jobs that are not over, in the order in which they come first at a device. The lock is
// held.
func (c *Service) inOrder() []*open {
	return slices.SortedFunc(maps.Values(c.open), func(a, b *open) int {
		return cmp.Or(a.beginAt.Compare(b.beginAt), a.createdAt.Compare(b.createdAt), bytes.Compare(a.id[:], b.id[:]))
	})
}

// obstacle is what a run waits for at a time, in words that follow "waits"; "" for nothing but its turn.
// theirs tells that it lies with the device, and not with the job. The lock is held.
func (c *Service) obstacle(r *run, now time.Time) (why string, theirs bool) {
	o := r.job
	switch {
	case o.state == paused:
		return "as the job is paused", false
	case o.beginAt.After(now):
		return "until " + clock(o.beginAt), false
	case r.due.After(now):
		return "until " + clock(r.due), false
	case !c.owned(o, r.device):
		return "until somebody adopts the job: whoever began it may not do this here any more", false
	case c.here(r.device) == "":
		return "for the device, which is not connected", true
	}
	for _, other := range c.at[r.device] {
		if other != r && (other.state == job.Sent || other.asking) {
			return fmt.Sprintf("behind the job %s, which runs at this device", other.job.name), false
		}
	}
	if !o.when.Windows && o.needs == nil {
		return "", false
	}
	m, ok := c.fleet.Known(r.device)
	if !ok {
		return "for the device to be known", true
	}
	if o.when.Windows && c.windows.WindowUntil(m.Place, m.Subject.TimeZone, now).IsZero() {
		next := c.windows.WindowNext(m.Place, m.Subject.TimeZone, now)
		if next.IsZero() {
			return "for a maintenance window, and the device has none", true
		}
		return "for a maintenance window, which opens on " + clock(next), true
	}
	if o.needs != nil {
		if holds, err := o.needs.Match(m.Subject, now); err != nil || !holds {
			return "for it to hold that " + o.when.Needs, true
		}
	}
	return "", false
}

// windowLeft is for how many seconds the maintenance window still lasts that a run is to be done in; 0 where it
// needs none.
func (c *Service) windowLeft(o *open, device uuid.UUID, now time.Time) int {
	if !o.when.Windows {
		return 0
	}
	m, ok := c.fleet.Known(device)
	if !ok {
		return 1
	}
	return max(int(c.windows.WindowUntil(m.Place, m.Subject.TimeZone, now).Sub(now).Seconds()), 1)
}

func clock(t time.Time) string { return t.UTC().Format("2 January 15:04 UTC") }

// turn picks the runs of a job whose turn it is, of devices that are connected.
func (c *Service) turn(o *open, now time.Time) (out []*run) {
	if len(o.waiting) == 0 {
		return nil
	}
	var candidates []job.Candidate
	order := o.order[:0]
	running := map[string]int{}
	for _, r := range o.sent {
		running[r.site]++
	}
	taken := map[uuid.UUID]bool{}
	for _, r := range o.order {
		if o.waiting[r.id] == nil {
			continue
		}
		order = append(order, r)
		if r.asking || now.Before(r.later) || taken[r.device] {
			continue
		}
		if why, _ := c.obstacle(r, now); why == "" {
			taken[r.device] = true // a device has one run of a job at a time
			candidates = append(candidates, job.Candidate{Run: len(order) - 1, Site: r.site, Place: r.place})
		}
	}
	clear(o.order[len(order):])
	o.order = order
	for _, i := range o.pace.Choose(o.limits, now, candidates, running) {
		out = append(out, order[i])
	}
	return out
}

// move changes the state of a run that is not over. The lock is held.
func (c *Service) move(r *run, to job.State) {
	o := r.job
	delete(o.waiting, r.id)
	delete(o.sent, r.id)
	o.counts[r.state]--
	o.recent[r.state]--
	r.state = to
	o.counts[to]++
	o.recent[to]++
	o.changed = true
	switch to {
	case job.Waiting:
		o.waiting[r.id] = r
		if !slices.Contains(o.order, r) {
			o.order = append(o.order, r)
		}
	case job.Sent:
		o.sent[r.id] = r
	default:
		delete(c.runs, r.id)
		delete(c.at[r.device], r.id)
	}
}

// here is the journal of a device that is connected; "" of one that is not. The lock is held.
func (c *Service) here(id uuid.UUID) string {
	if j := c.journals[id]; j != "" && c.hub.Online(id) {
		return j
	}
	return ""
}
