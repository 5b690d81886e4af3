package job

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// open is a job that is not over, as it stands in memory. The column's lock is held over it.
type open struct {
	id       uuid.UUID
	name     string
	content  script.Script
	values   map[string]string
	secrets  []byte
	limits   job.Limits
	state    string
	beginAt  time.Time
	deadline time.Time
	waiting  map[uuid.UUID]*run
	sent     map[uuid.UUID]*run
	order    []*run // waiting ones in their order; those that are not are passed over
	counts   job.Counts
	pace     job.Pace
	changed  bool // since it was last told of
}

// run is a run that is not over.
type run struct {
	job     *open
	id      uuid.UUID
	device  uuid.UUID
	name    string
	site    string
	place   float64
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
func (c *Column) admit(o *open, runs []*run) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, r := range runs {
		o.counts[r.state]++
		o.put(r)
	}
	slices.SortStableFunc(o.order, func(a, b *run) int {
		switch {
		case a.place < b.place:
			return -1
		case a.place > b.place:
			return 1
		}
		return 0
	})
	c.open[o.id] = o
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

// Begin fills the library where it never held anything, and takes up the jobs that are not over.
func (c *Column) Begin(ctx context.Context) error {
	if err := c.fill(ctx); err != nil {
		return err
	}
	all, err := c.store.unended(ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		counts := o.counts
		o.counts = job.Counts{}
		var runs []*run
		for _, list := range []map[uuid.UUID]*run{o.waiting, o.sent} {
			for _, r := range list {
				runs = append(runs, r)
			}
		}
		o.waiting, o.sent, o.order = map[uuid.UUID]*run{}, map[uuid.UUID]*run{}, nil
		c.admit(o, runs)
		c.mu.Lock()
		o.counts = counts
		c.mu.Unlock()
	}
	return nil
}

// Run has jobs go on until ctx ends.
func (c *Column) Run(ctx context.Context) {
	var working sync.WaitGroup
	working.Go(func() { c.write(ctx) })
	defer working.Wait()
	sends := make(chan struct{}, sendsAtOnce)
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-c.wake:
		}
		c.look(ctx, time.Now(), func(r *run) {
			working.Go(func() {
				select {
				case sends <- struct{}{}:
					c.send(ctx, r)
					<-sends
				case <-ctx.Done():
				}
			})
		})
		c.settle(ctx)
		c.tell()
	}
}

// look has runs begin whose turn it is, asks devices that came back what became of theirs, and ends
// what is over.
func (c *Column) look(ctx context.Context, now time.Time, send func(*run)) {
	var begin, ask []*run
	var over []outcome
	c.mu.Lock()
	for _, o := range c.open {
		if o.state == running && !o.beginAt.After(now) && o.limits.Stops(o.counts) == "" {
			for _, r := range c.turn(o, now) {
				r.asking, r.journal = true, c.here(r.device)
				begin = append(begin, r)
			}
		}
		if now.After(o.deadline.Add(grace)) && now.After(c.since.Add(returns)) {
			for _, r := range o.waiting {
				if !r.asking && c.here(r.device) == "" {
					over = append(over, outcome{id: r.id, device: r.device, state: job.Missed, reason: missed(o), ended: now})
				}
			}
		}
		for _, r := range o.sent {
			switch {
			case r.asking || now.Before(r.later):
			case c.here(r.device) != "" && (r.again || r.cancel):
				r.asking = true
				ask = append(ask, r)
			case c.here(r.device) == "" && now.After(o.deadline.Add(lostAfter)) && now.After(r.sentAt.Add(lostAfter)):
				over = append(over, outcome{id: r.id, device: r.device, state: job.Interrupted, reason: "the device was told, and did not come back since", ended: now})
			}
		}
	}
	c.mu.Unlock()
	if len(begin) > 0 {
		ids, journals := make([]uuid.UUID, len(begin)), make([]string, len(begin))
		for i, r := range begin {
			ids[i], journals[i] = r.id, r.journal
		}
		err := c.store.sent(ctx, ids, journals)
		c.mu.Lock()
		for _, r := range begin {
			if err != nil {
				r.asking = false
				continue
			}
			c.move(r, job.Sent)
			r.sentAt, r.cancel = now, r.job.state == cancelled // which it may have become meanwhile
		}
		c.mu.Unlock()
		if err != nil {
			if ctx.Err() == nil {
				slog.Warn("runs cannot be begun; trying again", "error", err)
			}
			begin = nil
		}
	}
	for _, r := range append(begin, ask...) {
		send(r)
	}
	if len(over) > 0 {
		c.end(ctx, over)
	}
}

func missed(o *open) string {
	if o.limits.WaitHours == 0 {
		return "the device was not connected, and was not to be awaited"
	}
	return fmt.Sprintf("the device did not connect within %d hours", o.limits.WaitHours)
}

// turn picks the runs of a job whose turn it is, of devices that are connected.
func (c *Column) turn(o *open, now time.Time) (out []*run) {
	if len(o.waiting) == 0 {
		return nil
	}
	var candidates []job.Candidate
	order := o.order[:0]
	running := map[string]int{}
	for _, r := range o.sent {
		running[r.site]++
	}
	for _, r := range o.order {
		if o.waiting[r.id] == nil {
			continue
		}
		order = append(order, r)
		if c.here(r.device) != "" && !r.asking && !now.Before(r.later) {
			candidates = append(candidates, job.Candidate{Run: len(order) - 1, Site: r.site, Place: r.place})
		}
	}
	o.order = order
	for _, i := range o.pace.Choose(o.limits, now, candidates, running) {
		out = append(out, order[i])
	}
	return out
}

// move changes the state of a run that is not over. The lock is held.
func (c *Column) move(r *run, to job.State) {
	o := r.job
	delete(o.waiting, r.id)
	delete(o.sent, r.id)
	o.counts[r.state]--
	r.state = to
	o.counts[to]++
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

// send tells a device of a run, or asks what became of it.
func (c *Column) send(ctx context.Context, r *run) {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	c.mu.Lock()
	o, stop, again, journal := r.job, r.cancel, r.again, r.journal
	r.again = true // until an answer has come
	c.mu.Unlock()
	var status link.RunStatus
	var err error
	if stop {
		status, err = c.call(ctx, r.device, "/runs/cancel", link.RunCancel{ID: r.id.String()})
	} else {
		var secrets map[string]string
		if secrets, err = c.reveal(o.id, o.secrets); err != nil {
			c.end(ctx, []outcome{{id: r.id, device: r.device, state: job.Failed, reason: "the secrets of the job cannot be read with the service's key", ended: time.Now()}})
			return
		}
		status, err = c.call(ctx, r.device, "/runs", link.RunOrder{ID: r.id.String(), Journal: journal, Title: o.name, Interpreter: o.content.Interpreter, Body: o.content.Body,
			Env: o.values, Secrets: secrets, Seconds: o.content.Limit(), Repeatable: o.content.Repeatable})
	}
	now := time.Now()
	ended := outcome{id: r.id, device: r.device, ended: now}
	c.mu.Lock()
	r.asking = false
	switch refused := (*refusal)(nil); {
	case errors.As(err, &refused):
		ended.state, ended.reason = job.Failed, "the device refused: "+refused.reason
	case err != nil: // it is asked again once it is connected
		r.later = now.Add(retryAfter)
	case status.State == link.RunEnded && status.Result != nil:
		ended = outcomeOf(r.device, r.id, *status.Result)
	case status.State == link.RunBegun:
		r.again = false
		if stop { // its result is on the way
			r.cancel = false
		}
	case stop: // the device never heard of it
		ended.state, ended.reason = job.Cancelled, "it was cancelled before it began"
	case again: // it may have run before the journal was lost
		ended.state, ended.reason = job.Interrupted, "the device lost its journal after it was told; whether it ran is not known"
	default: // the journal is another than was thought, and the device was never told
		c.journals[r.device] = status.Journal
		r.again = false
		c.move(r, job.Waiting)
	}
	c.mu.Unlock()
	if ended.state != "" {
		c.end(ctx, []outcome{ended})
	}
}

// refusal is an answer of a device that says no, for good.
type refusal struct{ reason string }

func (r *refusal) Error() string { return r.reason }

func (c *Column) call(ctx context.Context, id uuid.UUID, path string, in any) (out link.RunStatus, err error) {
	body, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	answer, err := c.hub.Call(ctx, http.MethodPost, id, path, nil, bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, link.MaxResult))
	switch {
	case err != nil:
		return out, err
	case answer.StatusCode == http.StatusInsufficientStorage || answer.StatusCode >= 400 && answer.StatusCode < 500:
		return out, &refusal{device.CleanText(string(text))}
	case answer.StatusCode != http.StatusOK:
		return out, fmt.Errorf("the device answers %d", answer.StatusCode)
	}
	return out, json.Unmarshal(text, &out)
}

func outcomeOf(from, id uuid.UUID, r link.RunResult) outcome {
	o := outcome{id: id, device: from, state: job.State(r.State), exit: r.Exit, head: r.Head[:min(len(r.Head), link.RunHead)], tail: r.Tail[:min(len(r.Tail), link.RunTail)],
		dropped: max(r.Dropped, 0), reason: device.CleanText(r.Reason), began: &r.BeganAt, ended: r.EndedAt}
	if !o.state.Over() || o.state == job.Missed || o.state == job.Unfit {
		o.state, o.reason = job.Interrupted, "the device told of an end that there is none of"
	}
	return o
}

// ServeJournal takes a device's journal as it connects: POST /journal. Of what it was told before, it is
// asked again.
func (c *Column) ServeJournal(w http.ResponseWriter, r *http.Request) {
	var in link.Journal
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&in); err != nil || uuid.Validate(in.ID) != nil {
		http.Error(w, "a journal has a UUID", http.StatusBadRequest)
		return
	}
	id := hub.Device(r)
	c.mu.Lock()
	c.journals[id] = in.ID
	for _, one := range c.at[id] {
		one.again = one.again || one.state == job.Sent
	}
	c.mu.Unlock()
	c.poke()
	w.WriteHeader(http.StatusNoContent)
}

// here is the journal of a device that is connected; "" of one that is not. The lock is held.
func (c *Column) here(id uuid.UUID) string {
	if j := c.journals[id]; j != "" && c.hub.Online(id) {
		return j
	}
	return ""
}

// ServeResults takes how a run ended: POST /results. It answers once that is on disk.
func (c *Column) ServeResults(w http.ResponseWriter, r *http.Request) {
	var in link.RunResult
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, link.MaxResult)).Decode(&in); err != nil {
		hub.Refuse(w, err)
		return
	}
	id, err := uuid.Parse(in.ID)
	if err != nil {
		http.Error(w, "a run has a UUID", http.StatusBadRequest)
		return
	}
	o := outcomeOf(hub.Device(r), id, in)
	o.done = make(chan error, 1)
	select {
	case c.came <- o:
	case <-r.Context().Done():
		return
	}
	select {
	case err = <-o.done:
	case <-r.Context().Done():
		return
	}
	if err != nil {
		http.Error(w, "the result cannot be stored now; keep it and send it later", http.StatusServiceUnavailable)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// write writes results together as they come.
func (c *Column) write(ctx context.Context) {
	for {
		var all []outcome
		select {
		case <-ctx.Done():
			return
		case o := <-c.came:
			all = append(all, o)
		}
		for full := time.After(gather); len(all) < together && full != nil; {
			select {
			case o := <-c.came:
				all = append(all, o)
			case <-full:
				full = nil
			}
		}
		err := c.end(ctx, all)
		for _, o := range all {
			if o.done != nil {
				o.done <- err
			}
		}
	}
}

// end writes how runs ended, and takes them out of memory. Where the database takes nothing they stay
// as they are, and it is tried again.
func (c *Column) end(ctx context.Context, all []outcome) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), writeWithin)
	defer cancel()
	if _, err := c.store.end(ctx, all); err != nil {
		slog.Warn("results cannot be written; the devices keep them", "error", err)
		return err
	}
	c.mu.Lock()
	for _, o := range all {
		if r := c.runs[o.id]; r != nil && r.device == o.device {
			c.move(r, o.state)
		}
	}
	c.mu.Unlock()
	c.poke()
	return nil
}

// settle stops jobs of which too many runs failed, and ends those of which all runs are over.
func (c *Column) settle(ctx context.Context) {
	type change struct {
		o             *open
		state, reason string
		over          bool
	}
	var changes []change
	c.mu.Lock()
	for _, o := range c.open {
		if reason := o.limits.Stops(o.counts); reason != "" && o.state == running && len(o.waiting) > 0 {
			changes = append(changes, change{o, stopped, reason, false})
		}
		if len(o.waiting)+len(o.sent) == 0 {
			state := o.state
			if state == running || state == paused {
				state = done
			}
			changes = append(changes, change{o, state, "", true})
		}
	}
	c.mu.Unlock()
	for _, ch := range changes {
		if err := c.store.setState(ctx, ch.o.id, ch.state, ch.reason, ch.over); err != nil {
			if ctx.Err() == nil {
				slog.Warn("the state of a job cannot be written; trying again", "job", ch.o.id, "error", err)
			}
			continue
		}
		c.mu.Lock()
		ch.o.state, ch.o.changed = ch.state, true
		if ch.over {
			delete(c.open, ch.o.id)
		}
		c.mu.Unlock()
		if ch.over {
			c.fleet.Publish("jobs", map[string]any{"ids": []uuid.UUID{ch.o.id}})
		} else {
			c.drop(ctx, ch.o, "the job was stopped: "+ch.reason)
		}
	}
}

// drop cancels all runs of a job that wait.
func (c *Column) drop(ctx context.Context, o *open, reason string) {
	c.mu.Lock()
	var all []outcome
	for _, r := range o.waiting {
		if !r.asking {
			all = append(all, outcome{id: r.id, device: r.device, state: job.Cancelled, reason: reason, ended: time.Now()})
		}
	}
	c.mu.Unlock()
	if len(all) > 0 {
		c.end(ctx, all)
	}
}

// steer changes how a job goes on.
func (c *Column) steer(ctx context.Context, id uuid.UUID, deed string) error {
	c.mu.Lock()
	o := c.open[id]
	if o == nil {
		c.mu.Unlock()
		return front.Problem(http.StatusConflict, "The job is over.", "Begin it anew, or try again where it failed.")
	}
	want := map[string]string{"pause": paused, "resume": running, "cancel": cancelled}[deed]
	was := o.state
	if was == want {
		c.mu.Unlock()
		return nil
	}
	if (deed == "pause" && was != running) || (deed == "resume" && was != paused) {
		c.mu.Unlock()
		return front.Problem(http.StatusConflict, "The job is "+was+".", "Only a job that runs is paused, and only one that is paused goes on.")
	}
	o.state, o.changed = want, true
	if want == cancelled {
		for _, r := range o.sent {
			r.cancel = true
		}
	}
	c.mu.Unlock()
	if err := c.store.setState(ctx, id, want, "", false); err != nil {
		c.mu.Lock()
		o.state = was
		c.mu.Unlock()
		return err
	}
	if want == cancelled {
		c.drop(ctx, o, "the job was cancelled")
	}
	c.poke()
	return nil
}

// tell tells consoles which jobs have changed.
func (c *Column) tell() {
	c.mu.Lock()
	var ids []uuid.UUID
	for id, o := range c.open {
		if o.changed {
			o.changed = false
			ids = append(ids, id)
		}
	}
	c.mu.Unlock()
	if len(ids) > 0 {
		c.fleet.Publish("jobs", map[string]any{"ids": ids})
	}
}
