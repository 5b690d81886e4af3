package patch

import (
	"context"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/core/access"
	"moorwatch.example/service/front"
)

// actionAdopt makes the caller a rollout's owner.
const actionAdopt = "adopt"

// owned tells whether the owner of a rollout may still install updates at all of its devices, and do what else it
// does there. Where not it waits until somebody adopts it.
func (c *Service) owned(ctx context.Context, r *rollout) (bool, error) {
	rights, err := c.people.RightsOf(ctx, r.owner)
	if err != nil {
		return false, err
	}
	for _, p := range r.asks() {
		view, err := c.fleet.View(ctx, &front.Caller{ID: r.owner, Rights: rights}, p)
		if err != nil {
			return false, err
		}
		if view == nil {
			continue
		}
		outside, err := c.store.outside(ctx, r.id, view)
		if err != nil || outside > 0 {
			return false, err
		}
	}
	return true, nil
}

// asks is what a rollout's owner must be permitted at each of its devices.
func (r *rollout) asks() []access.Permission {
	needs := []access.Permission{act}
	if len(r.spec.Before)+len(r.spec.After) > 0 {
		needs = append(needs, access.Of("command", access.Act))
	}
	if r.spec.Wake {
		needs = append(needs, access.Of("power", access.Act))
	}
	return needs
}

// adopt makes the caller a rollout's owner, and that of its jobs that are not over.
func (c *Service) adopt(g *gin.Context, r *rollout) error {
	ctx, caller := g.Request.Context(), front.CallerOf(g)
	was := r.owner
	r.owner = caller.ID
	if caller.Limited {
		return front.Lacking(act)
	}
	if owned, err := c.owned(ctx, r); err != nil || !owned {
		r.owner = was
		if err == nil {
			err = front.Lacking(act)
		}
		return err
	}
	if err := c.store.adopt(ctx, r.id, caller.ID, caller.Email); err != nil {
		return err
	}
	for _, ring := range r.state.Rings {
		for _, one := range []string{ring.Job, ring.Staging, ring.Back} {
			if id, err := uuid.Parse(one); err == nil {
				if err := c.jobs.Adopt(ctx, id, caller.ID, caller.Email); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
