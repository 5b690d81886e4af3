package job

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/front"
)

// takeUp fills the library where it never held anything, and takes up the jobs that are not over.
func (c *Service) takeUp(ctx context.Context) error {
	if err := c.fill(ctx); err != nil {
		return err
	}
	all, err := c.store.unended(ctx)
	if err != nil {
		return err
	}
	c.mu.Lock()
	for _, t := range all {
		t.open.files = t.open.Work.Files()
		c.open[t.open.ID] = t.open
		c.schedule.Readmit(&t.open.Job, t.counts, t.runs, t.known)
	}
	c.mu.Unlock()
	return c.readOwners(ctx)
}

// run has jobs go on until ctx ends.
func (c *Service) run(ctx context.Context) {
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
			c.rightsChanged(ctx, bus.RightsChanged{})
		case <-tick.C:
		case <-c.wake:
		}
		c.poll(ctx, time.Now(), func(r *job.Run) {
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

// poll has done what the schedule orders.
func (c *Service) poll(ctx context.Context, now time.Time, send func(*job.Run)) {
	c.mu.Lock()
	orders := c.schedule.Poll(now)
	ids, journals := make([]uuid.UUID, len(orders.Begin)), make([]string, len(orders.Begin))
	for i, r := range orders.Begin {
		ids[i], journals[i] = r.ID, r.Journal
	}
	c.mu.Unlock()
	if len(ids) > 0 {
		err := c.store.sent(ctx, ids, journals)
		c.mu.Lock()
		if err == nil {
			c.schedule.Sent(orders.Begin, now)
		} else {
			c.schedule.Unsent(orders.Begin)
		}
		c.mu.Unlock()
		if err != nil {
			if ctx.Err() == nil {
				slog.Warn("runs cannot be begun; trying again", "error", err)
			}
			orders.Begin = nil
		}
	}
	for _, r := range append(orders.Begin, orders.Ask...) {
		send(r)
	}
	c.end(ctx, ends(orders.End...))
}

// settle stops jobs of which too many runs failed, and ends those of which all runs are over.
func (c *Service) settle(ctx context.Context) {
	now := time.Now()
	c.mu.Lock()
	changes := c.schedule.Settle(now)
	c.mu.Unlock()
	for _, ch := range changes {
		id := ch.Job.ID
		if err := c.store.setState(ctx, id, ch.State, ch.Reason, ch.Over); err != nil {
			if ctx.Err() == nil {
				slog.Warn("the state of a job cannot be written; trying again", "job", id, "error", err)
			}
			continue
		}
		c.mu.Lock()
		dropped := c.schedule.Settled(ch, now)
		if ch.Over {
			delete(c.open, id)
		}
		c.mu.Unlock()
		if ch.Over {
			c.fleet.Publish("jobs", map[string]any{"ids": []uuid.UUID{id}})
		}
		c.end(ctx, ends(dropped...))
	}
}

// steer changes how a job goes on.
func (c *Service) steer(ctx context.Context, id uuid.UUID, to job.JobState) error {
	c.mu.Lock()
	dropped, undo, err := c.schedule.Steer(id, to, time.Now())
	c.mu.Unlock()
	switch {
	case errors.Is(err, job.ErrOver):
		return over()
	case err != nil:
		return front.Problem(http.StatusConflict, "The job cannot be made "+string(to)+" now.", sentence(err))
	case undo == nil:
		return nil
	}
	if err := c.store.setState(ctx, id, to, "", false); err != nil {
		c.mu.Lock()
		undo()
		c.mu.Unlock()
		return err
	}
	c.end(ctx, ends(dropped...))
	c.poke()
	return nil
}

// over refuses to change a job that is over.
func over() error {
	return front.Problem(http.StatusConflict, "The job is over.", "Begin it anew, or try again where it failed.")
}

// sentence is an error as it is shown to people.
func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// ends are ends of runs as they are put on record.
func ends(all ...job.End) []outcome {
	out := make([]outcome, len(all))
	for i, e := range all {
		out[i] = outcome{End: e}
	}
	return out
}

// tell tells consoles which jobs have changed.
func (c *Service) tell() {
	c.mu.Lock()
	ids := c.schedule.Changed()
	c.mu.Unlock()
	if len(ids) > 0 {
		c.fleet.Publish("jobs", map[string]any{"ids": ids})
	}
}
