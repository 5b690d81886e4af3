package link

import (
	"time"

	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
)

// RunOrder has a device carry out steps, once: POST /runs. An order that is repeated is answered from
// the device's journal, and not run again.
type RunOrder struct {
	ID string `json:"id"` // a UUID
	// Journal is the identity of the device's journal when the order was first sent: a device whose
	// journal is another cannot tell whether it ran it.
	Journal string            `json:"journal"`
	Title   string            `json:"title"`
	Parts   []RunPart         `json:"parts"`
	Env     map[string]string `json:"env,omitempty"`     // of scripts and programs
	Secrets map[string]string `json:"secrets,omitempty"` // as Env, and kept out of all that is told
	Seconds int               `json:"seconds"`           // the time limit of all of it, without times of restart
	// Window is for how many seconds, from when the order is taken, the maintenance window lasts in which it is
	// to be done: no step is begun later. 0 where it may be done at any time.
	Window int `json:"window,omitempty"`
	// Shut is when that is, by the device's own clock: the device sets it as it takes the order.
	Shut time.Time `json:"shut,omitzero"`
}

// RunPart is a script, or a package that is installed or removed.
type RunPart struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"` // of a package
	// There tells whether the device has the package: one that it has is not installed again, one that
	// it has not is not removed. Nil for a script.
	There  *pack.There `json:"there,omitempty"`
	Remove bool        `json:"remove,omitempty"`
	// Having is what the device must have for the part to be done; nil where it always is.
	Having *pack.There `json:"having,omitempty"`
	Steps  []work.Step `json:"steps"`
	Files  []pack.File `json:"files,omitempty"`
}

// States of a run at a device.
const (
	RunBegun   = "begun"
	RunEnded   = "ended"
	RunUnknown = "unknown" // by a journal that is not the one of the order
)

// RunStatus answers a RunOrder.
type RunStatus struct {
	State   string     `json:"state"`
	Journal string     `json:"journal"`
	Result  *RunResult `json:"result,omitempty"` // of one that has ended
}

// How a run ended, as core/job names the states.
const (
	RunSucceeded = "succeeded"
	RunFailed    = "failed"
	RunTimedOut  = "timed-out"
	RunMissed    = "missed"
	RunCancelled = "cancelled"
)

// RunResult is how a run ended. A device keeps it until the service has it on disk: POST /results.
type RunResult struct {
	ID      string    `json:"id"`
	State   string    `json:"state"` // one of those above, or of core/job's others that are over
	Exit    *int      `json:"exit,omitempty"`
	Head    []byte    `json:"head,omitempty"` // of its output, at most RunHead bytes
	Tail    []byte    `json:"tail,omitempty"` // at most RunTail bytes, where there was more
	Dropped int64     `json:"dropped,omitempty"`
	Reason  string    `json:"reason,omitempty"` // in words, where there is more to say than the exit status
	BeganAt time.Time `json:"began_at"`
	EndedAt time.Time `json:"ended_at"`
	// Restarted is when the device was started again within it; zero where it was not.
	Restarted time.Time `json:"restarted,omitzero"`
}

// RunCancel ends a run that goes on: POST /runs/cancel.
type RunCancel struct {
	ID string `json:"id"`
}

// Journal tells the service which journal a device has, as it connects: POST /journal.
type Journal struct {
	ID string `json:"id"`
}

// Contents is where a device reads a file of a package, by its digest, from an offset, as Bulk: GET.
// A device may read what runs that it was told of bring.
const Contents = "/contents/"

// QuickDigest is the header in which an answer for a file tells the digest that is quickly compared
// (pack.Quick), where it is known.
const QuickDigest = "Moorwatch-Quick-Digest"

// How much of a run's output is kept, in bytes: its beginning and its end.
const (
	RunHead   = 32 << 10
	RunTail   = 32 << 10
	MaxRun    = 4 << 20   // of an order
	MaxResult = 256 << 10 // of a result, as JSON
)
