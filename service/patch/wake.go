package patch

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/patch"
)

// Power wakes devices and shuts them down.
type Power interface {
	Online(id uuid.UUID) bool
	// Wake has the neighbours of a device send it the call to wake.
	Wake(ctx context.Context, id uuid.UUID, by string) error
	// ShutDown shuts a device down, unless somebody is signed in there.
	ShutDown(ctx context.Context, id uuid.UUID, by string) error
}

// JoinPower gives the column the way to wake devices; without it none is woken.
func (c *Column) JoinPower(p Power) { c.power = p }

// Times and numbers of waking.
const (
	wakeWithin = time.Minute
	wakeAgain  = 20 * time.Minute // a device that did not come
	wakeAtOnce = 50
	comeBack   = time.Minute // within which all are connected again after a start of the service
)

// rouse has the devices of a ring woken that are off, as soon as they may be patched.
func (c *Column) rouse(ctx context.Context, r *rollout, now time.Time) error {
	if !r.spec.Wake || c.power == nil || r.state.Phase != patch.Patching {
		return nil
	}
	all, err := c.store.asleep(ctx, r.id, r.state.At, now.Add(-wakeAgain))
	if err != nil {
		return err
	}
	var due []uuid.UUID
	for _, id := range all {
		m, ok := c.fleet.Known(id)
		open := ok && (!r.spec.Windows || !c.windows.WindowUntil(m.Place, m.Subject.TimeZone, now).IsZero())
		if open && !c.power.Online(id) && len(due) < wakeAtOnce {
			due = append(due, id)
		}
	}
	if err := c.store.woke(ctx, r.id, due, now); err != nil {
		return err
	}
	c.each(ctx, due, "woken", func(ctx context.Context, id uuid.UUID) error { return c.power.Wake(ctx, id, r.begunBy) })
	return nil
}

// shut shuts devices down that were woken, once their ring was judged or the rollout is over.
func (c *Column) shut(ctx context.Context) error {
	if c.power == nil {
		return nil
	}
	all, err := c.store.toShut(ctx, wakeAtOnce)
	if err != nil {
		return err
	}
	for _, a := range all {
		if !c.power.Online(a.device) && time.Since(c.began) < comeBack {
			continue // it may be about to connect again
		}
		if _, under := c.shutting.LoadOrStore(a, true); under {
			continue
		}
		c.each(ctx, []uuid.UUID{a.device}, "shut down", func(ctx context.Context, id uuid.UUID) error {
			defer c.shutting.Delete(a)
			var failed error
			if c.power.Online(id) {
				failed = c.power.ShutDown(ctx, id, a.by)
			}
			return errors.Join(failed, c.store.wasShut(ctx, a))
		})
	}
	return nil
}

// each does something to devices by itself: the rollouts do not wait for it.
func (c *Column) each(ctx context.Context, devices []uuid.UUID, what string, do func(context.Context, uuid.UUID) error) {
	for _, id := range devices {
		go func() {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), wakeWithin)
			defer cancel()
			if err := do(ctx, id); err != nil {
				slog.Info("a device of a rollout was not "+what, "device", id, "error", err)
			}
		}()
	}
}
