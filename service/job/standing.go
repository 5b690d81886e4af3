package job

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
)

// event is something that happened to a device, which jobs may wait for.
type event struct {
	kind   string
	device uuid.UUID
	check  string
	at     time.Time
}

// happened is told what happened to a device, of core/job's events. It never waits.
func (c *Service) happened(kind string, device uuid.UUID, check string) {
	select {
	case c.events <- event{kind, device, check, time.Now()}:
	default:
		slog.Warn("so much happens at once that a job may miss some of it", "event", kind, "device", device)
	}
}

// knownWithin is how long a device that was enrolled is given to tell what it is.
const knownWithin = time.Minute

// stand has jobs that stand begin runs as times come, devices are added and things happen, until ctx
// ends.
func (c *Service) stand(ctx context.Context) {
	tick := time.NewTicker(standEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-c.events:
			if e.kind == job.Enrolled && time.Since(e.at) < knownWithin {
				if m, ok := c.fleet.Known(e.device); !ok || m.Subject.OS == "" { // expressions need what it is
					time.AfterFunc(standEvery, func() {
						select {
						case c.events <- e:
						case <-ctx.Done():
						}
					})
					continue
				}
			}
			c.mu.Lock()
			answers := c.opened(c.schedule.Answers(e.kind, e.check, time.Now()))
			c.mu.Unlock()
			for _, o := range answers {
				c.answer(ctx, o, e)
			}
		case now := <-tick.C:
			c.mu.Lock()
			due := c.opened(c.schedule.Standing(now))
			c.mu.Unlock()
			for _, o := range due {
				if err := c.beginDue(ctx, o, now); err != nil && ctx.Err() == nil {
					slog.Warn("what a job that stands is to do now cannot be begun; trying again", "job", o.ID, "error", err)
				}
			}
		}
	}
}

// opened are jobs of the schedule with what is needed to do them. The lock is held.
func (c *Service) opened(jobs []*job.Job) []*open {
	out := make([]*open, len(jobs))
	for i, j := range jobs {
		out[i] = c.open[j.ID]
	}
	return out
}

// targets are the devices that a job is meant for now, among those where who began it may still do it.
func (c *Service) targets(ctx context.Context, o *open) ([]fleet.Target, error) {
	c.mu.Lock()
	owner, by := o.owner, o.by
	c.mu.Unlock()
	rights, err := c.people.RightsOf(ctx, owner)
	if err != nil {
		return nil, err
	}
	return c.chosen(&front.Caller{ID: owner, Email: by, Rights: rights}, needed(o.Work), o.selection)
}

// beginDue begins runs of a job whose times have come, or whose devices came to be meant.
func (c *Service) beginDue(ctx context.Context, o *open, now time.Time) error {
	targets, err := c.targets(ctx, o)
	c.mu.Lock()
	plan := c.schedule.Reconcile(&o.Job, devicesOf(targets), now)
	c.mu.Unlock()
	for _, t := range plan.Turns {
		if err == nil {
			_, err = c.add(ctx, o, t)
		}
	}
	for _, id := range plan.SignedIn {
		c.happened(job.SignedIn, id, "")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.schedule.Reconciled(&o.Job, plan, err == nil, now)
	return err
}

// answer begins a run of a job at a device where something happened, unless one is under way there.
func (c *Service) answer(ctx context.Context, o *open, e event) {
	targets, err := c.targets(ctx, o)
	here := slices.DeleteFunc(devicesOf(targets), func(d job.Device) bool { return d.ID != e.device })
	if err == nil && len(here) > 0 {
		c.mu.Lock()
		turns := c.schedule.Answering(&o.Job, here[0], e.at)
		c.mu.Unlock()
		for n := 0; err == nil && n == 0 && len(turns) > 0; turns = turns[1:] {
			n, err = c.add(ctx, o, turns[0])
		}
	}
	if err != nil && ctx.Err() == nil {
		slog.Warn("a job cannot answer what happened", "job", o.ID, "event", e.kind, "device", e.device, "error", err)
	}
}

// add adds a turn to a job that stands. It returns how many of its runs there were not yet.
func (c *Service) add(ctx context.Context, o *open, t job.Turn) (n int, err error) {
	added, err := c.store.addRuns(ctx, o.ID, t.Runs(&o.Job, uuid.New))
	if err != nil || len(added) == 0 {
		return 0, err
	}
	if err := c.audit.Record(ctx, front.Entry{Actor: o.by, Via: "job", Action: "job.turn", Result: "begun",
		Detail: fmt.Sprintf("%s, %s on %d devices, job %s", o.Name, o.Work, len(added), o.ID)}); err != nil {
		return 0, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.schedule.Add(&o.Job, added, t.Own)
	c.poke()
	return len(added), nil
}

// explain tells of runs that wait for what they do.
func (c *Service) explain(runs []api.Run) {
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range runs {
		if runs[i].State != string(job.Waiting) {
			continue
		}
		if why := c.schedule.Waits(runs[i].ID, now); why != "" {
			runs[i].Reason = &why
		}
	}
}

// everybody is who may do everything everywhere: times are told, and no devices.
var everybody = access.Rights{{Role: access.Owner, Scope: health.Scope{Kind: health.Everywhere}}}

// foretell tells when a job that recurs falls due next.
func (c *Service) foretell(j *api.Job) {
	if j.When.Rule == "" || j.EndedAt != nil {
		return
	}
	c.mu.Lock()
	o := c.open[j.ID]
	c.mu.Unlock()
	if o == nil {
		return
	}
	devices, err := c.chosen(&front.Caller{Rights: everybody}, see, o.selection)
	if err != nil {
		return
	}
	zones := map[string]bool{}
	for _, m := range devices {
		zones[m.Subject.TimeZone] = true
	}
	now := time.Now()
	for name := range maps.Keys(zones) {
		if at := j.When.Next(now, calendar.Zone(name)); !at.IsZero() && (j.NextAt == nil || at.Before(*j.NextAt)) {
			j.NextAt = &at
		}
	}
}

// whose is who began a job that is not over; "" for another.
func (c *Service) whose(id uuid.UUID) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if o := c.open[id]; o != nil {
		return o.by
	}
	return ""
}
