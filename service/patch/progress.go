package patch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// advance has all rollouts go on that are not over.
func (c *Service) advance(ctx context.Context, now time.Time) error {
	c.moving.Lock()
	defer c.moving.Unlock()
	all, err := c.store.open(ctx)
	if err != nil {
		return err
	}
	var bad []error
	for _, r := range all {
		if err := c.move(ctx, &r, now); err != nil {
			bad = append(bad, fmt.Errorf("rollout %s: %w", r.spec.Name, err))
		}
	}
	bad = append(bad, c.shut(ctx))
	late, err := c.store.late(ctx)
	for _, id := range late {
		bad = append(bad, c.store.settle(ctx, id))
	}
	return errors.Join(append(bad, err)...)
}

// jobOf is the identity of a job of a rollout: the same each time that it is asked for, so that a service
// that died before it noted what it began begins it once.
func jobOf(r *rollout, what string) uuid.UUID {
	return uuid.NewSHA1(r.id, fmt.Appendf(nil, "%s %d %d", what, r.state.At, r.state.Rings[r.state.At].Try))
}

// move has one rollout go on as far as it can now. The lock is held.
func (c *Service) move(ctx context.Context, r *rollout, now time.Time) error {
	if err := c.store.settle(ctx, r.id); err != nil {
		return err
	}
	if err := c.overdue(ctx, r, now); err != nil {
		return err
	}
	if err := c.rouse(ctx, r, now); err != nil {
		return err
	}
	if owned, err := c.owned(ctx, r); err != nil || !owned {
		return err
	}
	for range 2 * len(r.spec.Rings) {
		runs, err := c.runs(ctx, r)
		if err != nil {
			return err
		}
		do, changed := r.spec.Next(&r.state, runs, now)
		switch do {
		case patch.DoBegin:
			err = c.beginRing(ctx, r, now)
		case patch.DoRevert:
			err = c.revertRing(ctx, r)
		case patch.DoJudge:
			var v patch.Verdict
			if v, err = c.judge(ctx, r); err == nil {
				r.spec.Judged(&r.state, v)
			}
		}
		if err != nil {
			return err
		}
		if do == patch.DoNothing && !changed {
			return nil
		}
		if err := c.store.save(ctx, *r); err != nil {
			return err
		}
		c.fleet.Publish("rollouts", map[string]any{"ids": []uuid.UUID{r.id}})
		if do == patch.DoNothing || do == patch.DoFinish {
			return nil
		}
	}
	return nil
}

// overdue tells which devices went away in the middle of their run and are not back when they should be.
func (c *Service) overdue(ctx context.Context, r *rollout, now time.Time) error {
	all, err := c.store.midway(ctx, r.id)
	for _, m := range all {
		why := ""
		if !m.online {
			why = patch.Overdue(now.Sub(m.since), m.start)
		}
		if err == nil && why != m.reason {
			err = c.store.because(ctx, r.id, m.device, why)
		}
	}
	return err
}

// runs is how the job stands that the rollout waits for.
func (c *Service) runs(ctx context.Context, r *rollout) (runs patch.Runs, err error) {
	if r.state.At >= len(r.state.Rings) {
		return runs, nil
	}
	ring := r.state.Rings[r.state.At]
	which := ring.Job
	if r.state.Phase == patch.Reverting {
		which = ring.Back
	}
	if which == "" {
		return runs, nil
	}
	id, err := uuid.Parse(which)
	if err != nil {
		return runs, err
	}
	runs.All, runs.Over, runs.Away, err = c.jobs.Progress(ctx, id)
	return runs, err
}

// beginRing has the devices of a ring install what they miss of what is approved.
func (c *Service) beginRing(ctx context.Context, r *rollout, now time.Time) error {
	ring := &r.state.Rings[r.state.At]
	all, err := c.store.inRing(ctx, r.id, r.state.At)
	if err != nil {
		return err
	}
	plan, err := c.wanted(ctx, r.spec, all, now)
	if err != nil {
		return err
	}
	id := jobOf(r, "patch")
	if err := c.store.plan(ctx, r.id, r.state.At, id, plan); err != nil {
		return err
	}
	if len(plan) > 0 {
		limits := job.Limits{PerSite: r.spec.PerSite, WaitHours: r.spec.WaitHours}
		devices, refs := ordered(plan, update.Update.Ref)
		name := r.spec.Name + ", " + r.spec.Rings[r.state.At].Name
		if r.spec.Windows && r.spec.Stage && len(own(refs)) > 0 {
			staging := jobOf(r, "stage")
			ring.Staging = staging.String()
			if err := c.jobs.Carry(ctx, staging, name+", fetching", r.owner, r.begunBy, stepsOnly(name, patch.Fetch(own(refs))...), devices,
				false, limits); err != nil {
				return err
			}
		}
		parts := c.parts(ctx, r.spec, name, refs)
		if err := c.jobs.Carry(ctx, id, name, r.owner, r.begunBy, parts, devices, r.spec.Windows, limits); err != nil {
			return err
		}
	}
	ring.Job, ring.BeganAt, ring.Without = id.String(), now, r.spec.Without
	return nil
}

// own are the updates of the devices' own sources.
func own(refs []update.Ref) (out []update.Ref) {
	for _, r := range refs {
		if r.Source != patch.PackageSource {
			out = append(out, r)
		}
	}
	return out
}

// stepsOnly is work of steps alone.
func stepsOnly(name string, steps ...work.Step) []pack.Part {
	return []pack.Part{{Package: pack.Package{Name: name, Install: steps}}}
}

// parts are what the devices of a ring do: the updates of their sources, the packages of the library, and what makes
// both take effect. A package that the library does not offer any more is left out.
func (c *Service) parts(ctx context.Context, spec patch.Rollout, name string, refs []update.Ref) (parts []pack.Part) {
	first, last := spec.Steps(own(refs))
	var packages []pack.Part
	for _, r := range refs {
		if r.Source != patch.PackageSource {
			continue
		}
		some, err := c.jobs.Upgrade(ctx, r.Name, r.To)
		if err != nil {
			slog.Warn("a package is left out of a rollout", "rollout", spec.Name, "error", err)
			continue
		}
		packages = append(packages, some...)
	}
	if len(packages) == 0 {
		return stepsOnly(name, slices.Concat(first, last)...)
	}
	if len(first) > 0 {
		parts = stepsOnly(name, first...)
	}
	if parts = append(parts, packages...); len(last) > 0 {
		parts = append(parts, stepsOnly(name+", taking effect", last...)...)
	}
	return parts
}

// ordered is what one job is told of: at which devices, and all versions, each once.
func ordered(plan []plannedFor, version func(update.Update) update.Ref) (devices []uuid.UUID, refs []update.Ref) {
	seen := map[update.Ref]bool{}
	for _, p := range plan {
		devices = append(devices, p.device)
		for _, u := range p.updates {
			if ref := version(u); !seen[ref] {
				seen[ref] = true
				refs = append(refs, ref)
			}
		}
	}
	return devices, refs
}

// wanted is what devices miss of what is approved and is this rollout's.
func (c *Service) wanted(ctx context.Context, spec patch.Rollout, devices []uuid.UUID, now time.Time) (plan []plannedFor, err error) {
	s, err := c.readDecisions(ctx, now)
	if err != nil {
		return nil, err
	}
	err = c.store.wholly(ctx, devices, func(b brief, details map[int32]detail) {
		m, ok := c.fleet.Known(b.device)
		if !ok {
			return
		}
		p, state := plannedFor{device: b.device}, s.at(m.Place)
		s.each(b, func(id int32, u *known, blocked bool) {
			if !blocked && spec.Takes(&u.Update) && state(id) == patch.Approved {
				one := u.Update
				one.From = details[id].From
				p.updates = append(p.updates, one)
			}
		})
		if len(p.updates) > 0 {
			plan = append(plan, p)
		}
	})
	return plan, err
}

// revertRing has the devices of a ring go back to what they had.
func (c *Service) revertRing(ctx context.Context, r *rollout) error {
	ring := &r.state.Rings[r.state.At]
	if ring.Job != "" { // what has not begun does not begin any more
		id, err := uuid.Parse(ring.Job)
		if err == nil {
			err = c.jobs.End(ctx, id)
		}
		if err != nil {
			return err
		}
	}
	id := jobOf(r, "back")
	all, err := c.store.planBack(ctx, r.id, r.state.At, id)
	if err != nil {
		return err
	}
	if len(all) > 0 {
		devices, refs := ordered(all, func(u update.Update) update.Ref { return update.Ref{Source: u.Source, Name: u.Name, To: u.From} })
		name := r.spec.Name + ", " + r.spec.Rings[r.state.At].Name + ", back"
		if err := c.jobs.Carry(ctx, id, name, r.owner, r.begunBy, stepsOnly(name, r.spec.Back(refs)...), devices, false,
			job.Limits{WaitHours: max(r.spec.WaitHours, 24)}); err != nil {
			return err
		}
	}
	ring.Back = id.String()
	return nil
}

// judge has the gate look at what became of a ring.
func (c *Service) judge(ctx context.Context, r *rollout) (patch.Verdict, error) {
	f, patched, others, err := c.store.facts(ctx, r.id, r.state.At, r.state.Rings[r.state.At].BeganAt)
	if err != nil {
		return patch.Verdict{}, err
	}
	level := func(devices []uuid.UUID, reading string) (all []float64) {
		for _, id := range devices {
			if m, ok := c.fleet.Known(id); ok && m.Subject.Readings != nil {
				if v, ok := m.Subject.Readings.Value(reading); ok {
					all = append(all, v)
				}
			}
		}
		return all
	}
	// Crashed since the ring was begun: the last crash lies no further back than that.
	crashed := func(devices []uuid.UUID) (s patch.Share) {
		s.Of = len(level(devices, "crashes"))
		for _, since := range level(devices, "since-crash") {
			if since < time.Since(r.state.Rings[r.state.At].BeganAt).Seconds() {
				s.Bad++
			}
		}
		return s
	}
	f.LogOn, f.LogOn0 = level(patched, "log-on"), level(others, "log-on")
	f.Start, f.Start0 = level(patched, "start"), level(others, "start")
	f.Crashes, f.Crash0 = crashed(patched), crashed(others)
	return r.spec.Gate.Judge(f), nil
}
