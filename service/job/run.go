package job

import (
	"context"
	"log/slog"
	"maps"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/service/front"
)

// Begin fills the library where it never held anything, and takes up the jobs that are not over.
func (c *Service) Begin(ctx context.Context) error {
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
	return c.readOwners(ctx)
}

// Run has jobs go on until ctx ends.
func (c *Service) Run(ctx context.Context) {
	var working sync.WaitGroup
	working.Go(func() { c.write(ctx) })
	working.Go(func() { c.stand(ctx) })
	defer working.Wait()
	sends := make(chan struct{}, sendsAtOnce)
	tick, owners := time.NewTicker(pollEvery), time.NewTicker(ownersEvery)
	defer tick.Stop()
	defer owners.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-owners.C:
			c.RightsChanged(ctx, front.RightsChange{})
		case <-tick.C:
		case <-c.wake:
		}
		c.poll(ctx, time.Now(), func(r *run) {
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

// poll has runs begin whose turn it is, asks devices that came back what became of theirs, and ends
// what is over.
func (c *Service) poll(ctx context.Context, now time.Time, send func(*run)) {
	var begin, ask []*run
	var over []outcome
	c.mu.Lock()
	for _, o := range c.inOrder() {
		if o.state == running && !o.beginAt.After(now) && o.limits.Stops(o.recent) == "" {
			for _, r := range c.turn(o, now) {
				// What a device is may not have been known when the job was begun.
				if m, ok := c.fleet.Known(r.device); ok {
					if why := unfit(o.work, m.Subject); why != "" {
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
				over = append(over, outcome{id: r.id, device: r.device, state: job.Interrupted,
					reason: "the device was told, and did not come back since", ended: now})
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

// settle stops jobs of which too many runs failed, and ends those of which all runs are over.
func (c *Service) settle(ctx context.Context) {
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
		if len(o.waiting)+len(o.sent) == 0 && (!o.when.Standing() || o.state == cancelled || o.state == stopped || !o.when.Until.IsZero() &&
			time.Now().After(o.when.Until)) {
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
func (c *Service) drop(ctx context.Context, o *open, reason string) {
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
func (c *Service) steer(ctx context.Context, id uuid.UUID, action string) error {
	c.mu.Lock()
	o := c.open[id]
	if o == nil {
		c.mu.Unlock()
		return front.Problem(http.StatusConflict, "The job is over.", "Begin it anew, or try again where it failed.")
	}
	want := map[string]string{"pause": paused, "resume": running, "cancel": cancelled}[action]
	was := o.state
	if was == want {
		c.mu.Unlock()
		return nil
	}
	if (action == "pause" && was != running) || (action == "resume" && was != paused) {
		c.mu.Unlock()
		return front.Problem(http.StatusConflict, "The job is "+was+".",
			"Only a job that runs is paused, and only one that is paused goes on.")
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
func (c *Service) tell() {
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
