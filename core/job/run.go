package job

import (
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/device"
	"moorwatch.example/core/selector"
)

// ID identifies a job, a run or a device.
type ID = uuid.UUID

// Device is a device as work is planned for it.
type Device struct {
	ID      ID
	Subject *selector.Subject
}

// Run is a job at one device. Its exported fields are set before a schedule takes it, and are the schedule's from then
// on.
type Run struct {
	ID     ID
	Job    *Job // set by the schedule
	Device ID
	Name   string // of the device
	Site   string
	Place  float64   // where in the order of the job's runs it stands, from 0 to 1
	Turn   string    // which of the job's times it belongs to; "" where there is one
	Due    time.Time // it begins no sooner
	Until  time.Time // it is missed when it has not begun by then
	State  State
	Reason string
	// Journal is what the device called its journal when it was chosen, and SentAt when it was told of the run; zero
	// where that never happened.
	Journal string
	SentAt  time.Time

	again  bool      // the device must be asked what became of it
	asking bool      // it is being told
	cancel bool      // it is to end
	later  time.Time // before which it is not tried again
}

// RunsFor makes the runs of work at devices, due at a time; those where it cannot be done are over at once. until is
// when they are missed, and newID names each.
func RunsFor(w Work, devices []Device, turn string, due, until time.Time, newID func() ID) (runs []*Run) {
	for i, d := range devices {
		r := &Run{ID: newID(), Device: d.ID, Name: d.Subject.Name, Site: d.Subject.Organisation + "/" + d.Subject.Site,
			Place: float64(i) / float64(len(devices)), Turn: turn, Due: due, Until: until, State: Waiting}
		if why := w.Unfit(d.Subject); why != "" {
			r.State, r.Reason = Unfit, why
		}
		runs = append(runs, r)
	}
	return runs
}

// Unfit is why work cannot be done on a device; "" where it can, and where the device has not told yet
// what it is and offers, as after its first connection.
func (w Work) Unfit(d *selector.Subject) string {
	if d.OS != "" {
		if ok, why := w.Fits(d.OS); !ok {
			return why
		}
	}
	want := device.CapabilityCommands
	if w.Action != RunIt {
		want = device.CapabilityPackages
	}
	if d.Online && len(d.Capabilities) > 0 && !slices.Contains(d.Capabilities, want) {
		return "its agent does not offer " + want
	}
	return ""
}
