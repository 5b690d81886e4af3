// Package journal is what a device remembers of the runs that it was told to do: it is written before
// a run begins and when it has ended, so that an order that is repeated is answered from it and never
// run again, whatever dies in between. Results stay in it until the service has them.
package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/steps"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/secret"
)

// Journal is a folder with a file for each run. Its methods are called from any goroutine.
type Journal struct {
	id  string
	dir string
	box *secret.Box // seals the secrets of runs that may be taken up again

	mu      sync.Mutex
	entries map[string]*entry
	waiting []string // runs whose result is to be told, in the order in which they ended
}

// entry is what is remembered of one run.
type entry struct {
	BeganAt time.Time `json:"began_at"`
	// Order and Progress are kept while a run goes on that may be taken up again.
	Order    *link.RunOrder  `json:"order,omitempty"`
	Sealed   []byte          `json:"sealed,omitempty"` // the order's secrets
	Progress steps.Progress  `json:"progress,omitzero"`
	Result   *link.RunResult `json:"result,omitempty"`
	// Told tells that the service has the result, of which the output is then dropped.
	Told  bool `json:"told,omitempty"`
	Times int  `json:"times"` // how often the step was begun at which it stands
}

// remembered is for how long a run whose result was told is remembered.
const remembered = 90 * 24 * time.Hour

// ErrKnown is returned for a run that the journal holds already.
var ErrKnown = errors.New("the run is in the journal already")

// Open reads the journal in a folder, and makes it where there is none. seed is the device's own secret, under
// which those of runs are sealed: a copy of the folder alone tells none.
func Open(dir string, seed []byte) (*Journal, error) {
	box, err := secret.New(seed, "secrets")
	if err != nil {
		return nil, err
	}
	j := &Journal{dir: dir, box: box, entries: map[string]*entry{}}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "journal-id")
	text, err := os.ReadFile(path)
	if _, bad := uuid.ParseBytes(text); err != nil || bad != nil {
		text = []byte(uuid.NewString())
		if err := atomicfile.Write(path, text, atomicfile.OnDisk); err != nil {
			return nil, err
		}
	}
	j.id = string(text)
	files, err := filepath.Glob(filepath.Join(dir, "*.run"))
	if err != nil {
		return nil, err
	}
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		e := &entry{}
		if err := json.Unmarshal(text, e); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err) // it was renamed whole: something else wrote it
		}
		id := strings.TrimSuffix(filepath.Base(path), ".run")
		if err := j.unseal(id, e); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		if e.Told && time.Since(e.BeganAt) > remembered {
			os.Remove(path)
			continue
		}
		j.entries[id] = e
		if e.Result != nil && !e.Told {
			j.waiting = append(j.waiting, id)
		}
	}
	slices.SortFunc(j.waiting, func(a, b string) int { return j.entries[a].Result.EndedAt.Compare(j.entries[b].Result.EndedAt) })
	return j, nil
}

// ID is the journal's identity: another one remembers other runs.
func (j *Journal) ID() string { return j.id }

// Status tells what is known of a run; ok is false where nothing is.
func (j *Journal) Status(id string) (s link.RunStatus, ok bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	e := j.entries[id]
	if e == nil {
		return link.RunStatus{State: link.RunUnknown, Journal: j.id}, false
	}
	if e.Result == nil {
		return link.RunStatus{State: link.RunBegun, Journal: j.id}, true
	}
	r := *e.Result
	return link.RunStatus{State: link.RunEnded, Journal: j.id, Result: &r}, true
}

// Begin notes on disk that a run begins, before it does. Where it returns an error, it must not.
func (j *Journal) Begin(o link.RunOrder, now time.Time) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.entries[o.ID] != nil {
		return ErrKnown
	}
	e := &entry{BeganAt: now, Times: 1}
	if steps.Keep(o) {
		e.Order = &o
	}
	if steps.Single(o) {
		e.Progress.Steps.Begin()
	}
	if err := j.write(o.ID, e, atomicfile.OnDisk); err != nil {
		return err
	}
	j.entries[o.ID] = e
	return nil
}

// End notes on disk how a run ended. Its result waits from then on.
func (j *Journal) End(r link.RunResult) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	old := j.entries[r.ID]
	if old == nil || old.Result != nil {
		return fmt.Errorf("run %s is not under way", r.ID)
	}
	if r.BeganAt = old.BeganAt; r.EndedAt.Before(r.BeganAt) { // the clock was set back
		r.EndedAt = r.BeganAt
	}
	e := &entry{BeganAt: old.BeganAt, Result: &r, Times: old.Times}
	err := j.write(r.ID, e, atomicfile.Content)
	// Where the disk takes nothing the result is told from memory, as long as the agent lives.
	j.entries[r.ID] = e
	j.waiting = append(j.waiting, r.ID)
	return err
}

// Note notes on disk how far a run has come. Where it returns an error, it must not go on.
func (j *Journal) Note(id string, p steps.Progress) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	old := j.entries[id]
	if old == nil || old.Result != nil {
		return fmt.Errorf("run %s is not under way", id)
	}
	next := *old
	next.Progress, next.Times = p, 1
	if err := j.write(id, &next, atomicfile.OnDisk); err != nil {
		return err
	}
	j.entries[id] = &next
	return nil
}

// mostTimes is how often a step is begun that may be repeated.
const mostTimes = 3

// Left is a run that an agent that died left under way.
type Left struct {
	Order    link.RunOrder
	Progress steps.Progress
	BeganAt  time.Time
}

// Recover ends what an agent that died left under way, but for runs that resume says can be taken up
// again from where it leaves their progress: those are returned.
func (j *Journal) Recover(now time.Time, resume func(*Left) error) (again []Left, err error) {
	j.mu.Lock()
	dead := map[string]string{}
	for id, e := range j.entries {
		if e.Result != nil {
			continue
		}
		if e.Order == nil {
			dead[id] = "the agent ended while it ran; whether it came to its end is not known"
			continue
		}
		left := Left{Order: *e.Order, Progress: e.Progress, BeganAt: e.BeganAt}
		if why := resume(&left); why != nil {
			dead[id] = why.Error()
			continue
		}
		if e.Times >= mostTimes {
			dead[id] = fmt.Sprintf("the agent ended while it ran, for the %dth time", mostTimes)
			continue
		}
		next := *e
		next.Times++
		next.Progress = left.Progress
		if failed := j.write(id, &next, atomicfile.OnDisk); failed != nil {
			err = errors.Join(err, failed)
			continue
		}
		j.entries[id] = &next
		again = append(again, left)
	}
	j.mu.Unlock()
	for id, why := range dead {
		err = errors.Join(err, j.End(link.RunResult{ID: id, State: "interrupted", Reason: why, EndedAt: now}))
	}
	return again, err
}

// Waiting returns results that are to be told, the oldest first, at most n.
func (j *Journal) Waiting(n int) (out []link.RunResult) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, id := range j.waiting[:min(n, len(j.waiting))] {
		out = append(out, *j.entries[id].Result)
	}
	return out
}

// Told notes that the service has a result. Its output is dropped; that it ran is remembered.
func (j *Journal) Told(id string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	e := j.entries[id]
	if e == nil || e.Result == nil {
		return nil
	}
	r := *e.Result
	r.Head, r.Tail = nil, nil
	next := &entry{BeganAt: e.BeganAt, Result: &r, Told: true, Times: e.Times}
	j.entries[id] = next
	j.waiting = slices.DeleteFunc(j.waiting, func(w string) bool { return w == id })
	return j.write(id, next, atomicfile.Soon) // where it fails, or is lost, it is told once more after a restart
}

// purpose binds the sealed secrets of a run to it.
func purpose(id string) string { return "run " + id }

// unseal gives an order its secrets again. Where they were sealed by what the device was before it was enrolled
// anew, the run is not taken up again.
func (j *Journal) unseal(id string, e *entry) error {
	if e.Order == nil || len(e.Sealed) == 0 {
		return nil
	}
	text, err := j.box.Open(e.Sealed, purpose(id))
	e.Sealed = nil
	if errors.Is(err, secret.ErrKey) {
		e.Order = nil
		return nil
	}
	return json.Unmarshal([]byte(text), &e.Order.Secrets)
}

func (j *Journal) write(id string, e *entry, how atomicfile.Surety) error {
	if e.Order != nil && len(e.Order.Secrets) > 0 {
		text, err := json.Marshal(e.Order.Secrets)
		if err != nil {
			return err
		}
		order := *e.Order
		order.Secrets = nil
		kept := *e
		kept.Order, kept.Sealed = &order, j.box.Seal(string(text), purpose(id))
		e = &kept
	}
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(j.dir, id+".run"), text, how)
}
