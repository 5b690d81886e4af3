package patch

import (
	"context"
	"fmt"
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
	// ShutDown shuts a device down. Where it must stay on, as when somebody is signed in, it says why.
	ShutDown(ctx context.Context, id uuid.UUID, by string) (stays string, err error)
}

// Times and numbers of waking.
const (
	wakeWithin = time.Minute
	wakeAgain  = 20 * time.Minute // a device that did not come
	wakeAtOnce = 50
	comeBack   = time.Minute     // within which all are connected again after a start of the service
	shutAgain  = 5 * time.Second // after a first failure to shut a device down; the next waits twice as long, and so on
	shutTries  = 8
)

// attempt is what was tried to shut a device down.
type attempt struct {
	under  bool // one is under way
	failed int
	next   time.Time // no sooner than then
}

// rouse has the devices of a ring woken that are off, as soon as they may be patched.
func (c *Service) rouse(ctx context.Context, r *rollout, now time.Time) error {
	if !r.spec.Wake || r.state.Phase != patch.Patching {
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

// shut shuts devices down that were woken, once their ring was judged or the rollout is over. One that could not be
// asked, because its connection or the service ended meanwhile, is asked again.
func (c *Service) shut(ctx context.Context) error {
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
		var before attempt
		if known, ok := c.shutting.Load(a); ok {
			before = known.(attempt)
		}
		if before.under || time.Now().Before(before.next) {
			continue
		}
		before.under = true
		c.shutting.Store(a, before)
		c.each(ctx, []uuid.UUID{a.device}, "shut down", func(ctx context.Context, id uuid.UUID) error {
			if err := c.shutOne(ctx, a); err != nil && before.failed+1 < shutTries {
				wait := shutAgain << before.failed
				c.shutting.Store(a, attempt{failed: before.failed + 1, next: time.Now().Add(wait)})
				return fmt.Errorf("tried again in %s: %w", wait, err)
			}
			defer c.shutting.Delete(a)
			return c.store.wasShut(ctx, a)
		})
	}
	return nil
}

// shutOne shuts one device down, unless it is off or must stay on.
func (c *Service) shutOne(ctx context.Context, a awake) error {
	if !c.power.Online(a.device) {
		return nil
	}
	stays, err := c.power.ShutDown(ctx, a.device, a.by)
	if stays != "" {
		slog.Info("a device that a rollout woke is left on", "device", a.device, "reason", stays)
	}
	return err
}

// each does something to devices by itself: the rollouts do not wait for it.
func (c *Service) each(ctx context.Context, devices []uuid.UUID, what string, do func(context.Context, uuid.UUID) error) {
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
