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

// Happened is told what happened to a device, of core/job's events. It never waits.
func (c *Service) Happened(kind string, device uuid.UUID, check string) {
	select {
	case c.events <- event{kind, device, check, time.Now()}:
	default:
		slog.Warn("so much happens at once that a job may miss some of it", "event", kind, "device", device)
	}
}

// knownWithin is how long a device that was enrolled is given to tell what it is.
const knownWithin = time.Minute

// standing are the jobs that stand and go on, with what one needs to ask who they are meant for.
func (c *Service) standing(which func(*open) bool) (all []*open) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range c.open {
		if o.state == running && o.when.Standing() && (o.when.Until.IsZero() || time.Now().Before(o.when.Until)) && which(o) {
			all = append(all, o)
		}
	}
	return all
}

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
			for _, o := range c.standing(func(o *open) bool {
				return o.when.Event == e.kind && (o.when.Check == "" || o.when.Check == e.check)
			}) {
				c.answer(ctx, o, e)
			}
		case now := <-tick.C:
			for _, o := range c.standing(func(o *open) bool {
				return (o.when.Rule != "" || o.when.Follow || o.when.Event == job.SignedIn) && !now.Before(o.nextCheck)
			}) {
				if err := c.beginDue(ctx, o, now); err != nil && ctx.Err() == nil {
					slog.Warn("a job that stands cannot be looked at; trying again", "job", o.id, "error", err)
				}
			}
		}
	}
}

// targets are the devices that a job is meant for now, among those where who began it may still do it.
func (c *Service) targets(ctx context.Context, o *open) ([]fleet.Target, error) {
	rights, err := c.people.RightsOf(ctx, o.owner)
	if err != nil {
		return nil, err
	}
	return c.chosen(&front.Caller{ID: o.owner, Email: o.by, Rights: rights}, needed(o.work), o.selection)
}

// beginDue begins runs of a job whose times have come, or whose devices came to be meant.
func (c *Service) beginDue(ctx context.Context, o *open, now time.Time) error {
	devices, err := c.targets(ctx, o)
	if err != nil {
		return err
	}
	next := now.Add(followEvery)
	switch {
	case o.when.Follow:
		fresh := slices.DeleteFunc(devices, func(m fleet.Target) bool { return o.known[m.ID] })
		_, err = c.add(ctx, o, runsFor(o.work, fresh, "", now, o.until), false)
		if err == nil {
			for _, m := range fresh {
				o.known[m.ID] = true
			}
		}
	case o.when.Event == job.SignedIn:
		for _, m := range devices {
			if m.Subject.Readings == nil {
				continue // it has not told yet who is there: whoever it tells of first did not sign in just then
			}
			was, seen := o.signed[m.ID]
			o.signed[m.ID] = slices.Clone(m.Subject.People)
			if seen && slices.ContainsFunc(m.Subject.People, func(p string) bool { return !slices.Contains(was, p) }) {
				c.Happened(job.SignedIn, m.ID, "")
			}
		}
	default:
		next, err = c.recur(ctx, o, devices, now)
	}
	c.mu.Lock()
	o.nextCheck = next
	c.mu.Unlock()
	return err
}

// recurEvery is the longest that a job that recurs is not looked at: devices come and change their zone.
const recurEvery = time.Minute

// recur begins the runs of a job that recurs at the devices where its time has come, and returns when it
// is to be looked at again.
func (c *Service) recur(ctx context.Context, o *open, devices []fleet.Target, now time.Time) (next time.Time, err error) {
	zones := map[string][]fleet.Target{}
	for _, m := range devices {
		zones[m.Subject.TimeZone] = append(zones[m.Subject.TimeZone], m)
	}
	next = now.Add(recurEvery)
	for name, here := range zones {
		zone := calendar.Zone(name)
		if at := o.when.Next(now, zone); !at.IsZero() && at.Before(next) {
			next = at
		}
		due := o.when.Last(o.createdAt, now, zone)
		if due.IsZero() || now.After(o.until(due)) {
			continue
		}
		runs := runsFor(o.work, here, due.In(turnZone(o.when.Zone, zone)).Format("2006-01-02 15:04"), due, o.until)
		for _, r := range runs {
			r.due = due.Add(time.Duration(r.place*float64(o.limits.Spread)) * time.Second)
		}
		if _, err := c.add(ctx, o, runs, true); err != nil {
			return now.Add(retryAfter), err
		}
	}
	return next, nil
}

// turnZone is the zone by whose clock a turn is called.
func turnZone(own string, device *time.Location) *time.Location {
	if own != "" {
		return calendar.Zone(own)
	}
	return device
}

// until is when a run is missed that is due at a time.
func (o *open) until(due time.Time) time.Time { return o.limits.Awaited(due, true) }

// soonest bounds by how much a turn's name may be later than what it answers.
const soonest = 10 * time.Second

// answer begins a run of a job at a device where something happened, unless one is under way there.
func (c *Service) answer(ctx context.Context, o *open, e event) {
	c.mu.Lock()
	for _, r := range c.at[e.device] {
		if r.job == o {
			c.mu.Unlock()
			return
		}
	}
	c.mu.Unlock()
	devices, err := c.targets(ctx, o)
	here := slices.DeleteFunc(devices, func(m fleet.Target) bool { return m.ID != e.device })
	// It may have happened twice within the second by which a turn is called.
	for at, n := e.at, 0; err == nil && n == 0 && len(here) > 0 && at.Sub(e.at) < soonest; at = at.Add(time.Second) {
		n, err = c.add(ctx, o, runsFor(o.work, here, at.UTC().Format("2006-01-02 15:04:05"), e.at, o.until), false)
	}
	if err != nil && ctx.Err() == nil {
		slog.Warn("a job cannot answer what happened", "job", o.id, "event", e.kind, "device", e.device, "error", err)
	}
}

// add adds runs to a job that stands; fresh tells that they are a turn of their own, by which its limits
// of failures are counted. It returns how many there were not yet.
func (c *Service) add(ctx context.Context, o *open, runs []*run, fresh bool) (n int, err error) {
	if len(runs) == 0 {
		return 0, nil
	}
	added, err := c.store.addRuns(ctx, o.id, runs)
	if err != nil || len(added) == 0 {
		return 0, err
	}
	if err := c.audit.Record(ctx, front.Entry{Actor: o.by, Via: "job", Action: "job.turn", Result: "begun",
		Detail: fmt.Sprintf("%s, %s on %d devices, job %s", o.name, o.work, len(added), o.id)}); err != nil {
		return 0, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if fresh && len(o.waiting)+len(o.sent) == 0 {
		o.recent = job.Counts{}
	}
	c.enter(o, added)
	return len(added), nil
}

// explain tells of runs that wait for what they do.
func (c *Service) explain(runs []api.Run) {
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range runs {
		r := c.runs[runs[i].ID]
		if r == nil || runs[i].State != string(job.Waiting) {
			continue
		}
		why, _ := c.obstacle(r, now)
		if why == "" {
			why = "for its turn"
		}
		why = "waits " + why
		runs[i].Reason = &why
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
