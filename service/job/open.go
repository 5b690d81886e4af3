package job

import (
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/fleet"
)

// open is a job that is not over: what the schedule knows of it, and what is needed to do it. The service's lock is
// held over it.
type open struct {
	job.Job
	files     []string // that its work brings
	values    map[string]string
	secrets   []byte
	selection selection
	origin    string
	owner     uuid.UUID // with whose rights it is done, where a person began it
	by        string    // their address
}

// admit has a job be worked on.
func (c *Service) admit(o *open, runs []*job.Run) {
	c.mu.Lock()
	defer c.mu.Unlock()
	o.files = o.Work.Files()
	c.open[o.ID] = o
	c.schedule.Admit(&o.Job, runs)
	c.poke()
}

// world is what the schedule asks. The service's lock is held.
type world struct{ c *Service }

// Known implements job.World.
func (w world) Known(device uuid.UUID) (*selector.Subject, bool) {
	m, ok := w.c.fleet.Known(device)
	return m.Subject, ok
}

// Online implements job.World.
func (w world) Online(device uuid.UUID) bool { return w.c.hub.Online(device) }

// WindowUntil implements job.World.
func (w world) WindowUntil(device uuid.UUID, now time.Time) time.Time {
	m, ok := w.c.fleet.Known(device)
	if !ok {
		return time.Time{}
	}
	return w.c.windows.WindowUntil(m.Place, m.Subject.TimeZone, now)
}

// WindowNext implements job.World.
func (w world) WindowNext(device uuid.UUID, now time.Time) time.Time {
	m, ok := w.c.fleet.Known(device)
	if !ok {
		return time.Time{}
	}
	return w.c.windows.WindowNext(m.Place, m.Subject.TimeZone, now)
}

// Owned implements job.World.
func (w world) Owned(j *job.Job, device uuid.UUID) bool {
	o := w.c.open[j.ID]
	return o != nil && w.c.owned(o, device)
}

// windowLeft is for how many seconds the maintenance window still lasts that a run is to be done in; 0 where it
// needs none.
func (c *Service) windowLeft(o *open, device uuid.UUID, now time.Time) int {
	if !o.When.Windows {
		return 0
	}
	return max(int(world{c}.WindowUntil(device, now).Sub(now).Seconds()), 1)
}

// devicesOf are targets as work is planned for them.
func devicesOf(targets []fleet.Target) []job.Device {
	out := make([]job.Device, len(targets))
	for i, t := range targets {
		out[i] = job.Device{ID: t.ID, Subject: t.Subject}
	}
	return out
}

// once makes the runs of work that is done once, and missed after a deadline.
func once(w job.Work, targets []fleet.Target, due, deadline time.Time) []*job.Run {
	return job.RunsFor(w, devicesOf(targets), "", due, deadline, uuid.New)
}
