package job

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/job"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/front"
)

// What persons begin is done with their own rights, for as long as they have them: each run is held
// against them as its turn comes. What they may do no longer waits until somebody adopts the job.

// personal tells whether a job is done with the rights of a person, and not with those of a policy.
func (o *open) personal() bool { return o.origin == "person" || o.origin == "rollout" }

// asks is the permission that a job's owner needs at each of its devices.
func (o *open) asks() access.Permission {
	if o.origin == "rollout" {
		return access.Of("updates", access.Act)
	}
	return needed(o.Work)
}

// readOwners reads anew what the owners of jobs may do that are not over.
func (c *Service) readOwners(ctx context.Context) error {
	owners := map[uuid.UUID]access.Rights{}
	c.mu.Lock()
	for _, o := range c.open {
		if o.personal() {
			owners[o.owner] = nil
		}
	}
	c.mu.Unlock()
	for id := range owners {
		rights, err := c.people.RightsOf(ctx, id)
		if err != nil {
			return err
		}
		owners[id] = rights
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	maps.Copy(c.owners, owners)
	return nil
}

// learnOwner reads what the owner of a new job may do.
func (c *Service) learnOwner(ctx context.Context, j newJob) error {
	if j.owner == uuid.Nil {
		return nil
	}
	rights, err := c.people.RightsOf(ctx, j.owner)
	if err == nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.owners[j.owner] = rights
	}
	return err
}

// rightsChanged takes note that what people may do has changed.
func (c *Service) rightsChanged(ctx context.Context, _ bus.RightsChanged) {
	if err := c.readOwners(ctx); err != nil {
		slog.Warn("what the owners of jobs may do cannot be read; trying again", "error", err)
	}
	c.poke()
}

// owned tells whether a job's owner may still do it at a device. The lock is held.
func (c *Service) owned(o *open, device uuid.UUID) bool {
	if !o.personal() {
		return true
	}
	rights := c.owners[o.owner]
	if rights.Everywhere(o.asks()) {
		return true
	}
	m, ok := c.fleet.Known(device)
	return ok && rights.May(o.asks(), m.Place)
}

// unowned tells whether something of a job waits until somebody adopts it.
func (c *Service) unowned(id uuid.UUID) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	o := c.open[id]
	if o == nil || !o.personal() || c.owners[o.owner].Everywhere(o.asks()) {
		return false
	}
	if o.When.Standing() && !c.owners[o.owner].Somewhere(o.asks()) {
		return true
	}
	return slices.ContainsFunc(o.WaitingAt(), func(device uuid.UUID) bool { return !c.owned(o, device) })
}

// tellOwned says of jobs whether somebody must adopt them.
func (c *Service) tellOwned(all ...*api.Job) {
	for _, j := range all {
		if j.EndedAt == nil && c.unowned(j.ID) {
			j.Unowned = new(true)
		}
	}
}

// adopt makes the caller a job's owner: what is still to be done is done with their rights.
func (c *Service) adopt(g *gin.Context, id uuid.UUID) error {
	caller := front.CallerOf(g)
	if caller.Limited {
		return limited()
	}
	c.mu.Lock()
	o := c.open[id]
	c.mu.Unlock()
	switch {
	case o == nil:
		return over()
	case !o.personal():
		return front.Problem(http.StatusConflict, "The job belongs to a policy.", "Change the policy.")
	case o.origin == "rollout":
		return front.Problem(http.StatusConflict, "The job belongs to a rollout.", "Adopt the rollout.")
	case !caller.Rights.Somewhere(o.asks()):
		return front.Lacking(o.asks())
	}
	return c.Adopt(g.Request.Context(), id, caller.ID, caller.Email)
}

// Adopt makes somebody the owner of a job that is not over.
func (c *Service) Adopt(ctx context.Context, id, owner uuid.UUID, by string) error {
	if err := c.store.adopt(ctx, id, owner, by); err != nil {
		return err
	}
	c.mu.Lock()
	if o := c.open[id]; o != nil {
		o.owner, o.by = owner, by
		c.schedule.Touch(&o.Job)
	}
	c.mu.Unlock()
	err := c.readOwners(ctx)
	c.poke()
	return err
}

// limited refuses a caller with a limited API token what would later be done with all of their rights.
func limited() error {
	return front.Problem(http.StatusForbidden, "A limited API token begins nothing that goes on.",
		"Sign in, or use a token without limits.")
}

// checkLater refuses a job that stands to a caller with a limited API token.
func checkLater(caller *front.Caller, when job.When) error {
	if caller.Limited && when.Standing() {
		return limited()
	}
	return nil
}

// reseal seals anew what was sealed under an older key, and returns how much that was.
func (c *Service) reseal(ctx context.Context) (int, error) {
	n, err := c.store.reseal(ctx, c.box)
	files, bad := c.store.resealContents(ctx, c.files)
	return n + files, errors.Join(err, bad)
}
