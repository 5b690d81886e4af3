package job

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/selector"
	"moorwatch.example/core/work"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
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
	target    target
	origin    string
	by        string
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
	lookAt time.Time
	known  map[uuid.UUID]bool
	signed map[uuid.UUID][]string
}

func newOpen() *open {
	return &open{waiting: map[uuid.UUID]*run{}, sent: map[uuid.UUID]*run{}, counts: job.Counts{}, recent: job.Counts{}, known: map[uuid.UUID]bool{}, signed: map[uuid.UUID][]string{}}
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
func (c *Column) admit(o *open, runs []*run) {
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
func (c *Column) enter(o *open, runs []*run) {
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
		o.counts, o.recent = job.Counts{}, job.Counts{}
		var runs []*run
		for _, list := range []map[uuid.UUID]*run{o.waiting, o.sent} {
			for _, r := range list {
				runs = append(runs, r)
			}
		}
		o.waiting, o.sent, o.order = map[uuid.UUID]*run{}, map[uuid.UUID]*run{}, nil
		c.admit(o, runs)
		c.mu.Lock()
		if o.counts = counts; !o.when.Standing() {
			o.recent = maps.Clone(counts)
		}
		c.mu.Unlock()
	}
	return nil
}

// Run has jobs go on until ctx ends.
func (c *Column) Run(ctx context.Context) {
	var working sync.WaitGroup
	working.Go(func() { c.write(ctx) })
	working.Go(func() { c.stand(ctx) })
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
	for _, o := range c.inOrder() {
		if o.state == running && !o.beginAt.After(now) && o.limits.Stops(o.recent) == "" {
			for _, r := range c.turn(o, now) {
				// What a device is may not have been known when the job was begun.
				if m, ok := c.fleet.Known(r.device); ok && m.Subject.OS != "" {
					if fits, why := o.work.Fits(m.Subject.OS); !fits {
						over = append(over, outcome{id: r.id, device: r.device, state: job.Unfit, reason: why, ended: now})
						continue
					}
				}
				r.asking, r.journal = true, c.here(r.device)
				begin = append(begin, r)
			}
		}
		if now.After(c.since.Add(returns)) {
			for _, r := range o.waiting {
				if r.asking || !now.After(r.until.Add(grace)) {
					continue
				}
				// What is held by this service alone, such as by a limit of how many at once, is not missed.
				if why, theirs := c.obstacle(r, now); theirs {
					over = append(over, outcome{id: r.id, device: r.device, state: job.Missed, reason: missed(o, why), ended: now})
				}
			}
		}
		for _, r := range o.sent {
			switch {
			case r.asking || now.Before(r.later):
			case c.here(r.device) != "" && (r.again || r.cancel):
				r.asking = true
				ask = append(ask, r)
			case c.here(r.device) == "" && now.After(r.until.Add(lostAfter)) && now.After(r.sentAt.Add(lostAfter)):
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

func missed(o *open, why string) string {
	if o.limits.WaitHours == 0 {
		return "it was not to wait, and it waited " + why
	}
	return fmt.Sprintf("it waited for %d hours %s", o.limits.WaitHours, why)
}

// inOrder are the jobs that are not over, in the order in which they come first at a device. The lock is
// held.
func (c *Column) inOrder() []*open {
	return slices.SortedFunc(maps.Values(c.open), func(a, b *open) int {
		return cmp.Or(a.beginAt.Compare(b.beginAt), a.createdAt.Compare(b.createdAt), bytes.Compare(a.id[:], b.id[:]))
	})
}

// obstacle is what a run waits for at a time, in words that follow "waits"; "" for nothing but its turn.
// theirs tells that it lies with the device, and not with the job. The lock is held.
func (c *Column) obstacle(r *run, now time.Time) (why string, theirs bool) {
	o := r.job
	switch {
	case o.state == paused:
		return "as the job is paused", false
	case o.beginAt.After(now):
		return "until " + clock(o.beginAt), false
	case r.due.After(now):
		return "until " + clock(r.due), false
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

func clock(t time.Time) string { return t.UTC().Format("2 January 15:04 UTC") }

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
func (c *Column) move(r *run, to job.State) {
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
		status, err = c.call(ctx, r.device, "/runs", link.RunOrder{ID: r.id.String(), Journal: journal, Title: o.name, Parts: partsOf(o.work), Env: o.values, Secrets: secrets, Seconds: o.work.Seconds()})
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

// partsOf is work as a device is told of it.
func partsOf(w job.Work) (parts []link.RunPart) {
	if s := w.Script; s != nil {
		return []link.RunPart{{Name: s.Name, Steps: []work.Step{{Do: work.Script, Interpreter: s.Interpreter, Body: s.Body, Repeatable: s.Repeatable, Seconds: s.Limit()}}}}
	}
	for _, p := range w.Parts {
		part := link.RunPart{Name: p.Package.Name, Version: p.Package.Version, Remove: p.Remove, Steps: p.Steps(), Files: p.Package.Files}
		if p.Package.There.Kind != "" {
			part.There = &p.Package.There
		}
		parts = append(parts, part)
	}
	return parts
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
	c.Happened(job.Online, id, "")
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
	type told struct {
		outcome
		job uuid.UUID
	}
	var tell []told
	c.mu.Lock()
	for _, o := range all {
		if r := c.runs[o.id]; r != nil && r.device == o.device {
			c.move(r, o.state)
			if r.job.origin != "person" {
				tell = append(tell, told{o, r.job.id})
			}
		}
	}
	c.mu.Unlock()
	for _, t := range tell {
		c.ended(t.job, t.device, t.state == job.Succeeded, why(t.state, t.exit, t.reason))
	}
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
		if reason := o.limits.Stops(o.recent); reason != "" && o.state == running && (len(o.waiting) > 0 || o.when.Standing()) {
			changes = append(changes, change{o, stopped, reason, false})
		}
		if len(o.waiting)+len(o.sent) == 0 && (!o.when.Standing() || o.state == cancelled || o.state == stopped || !o.when.Until.IsZero() && time.Now().After(o.when.Until)) {
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
