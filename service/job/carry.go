package job

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
	"moorwatch.example/service/db"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
)

// Carry has parts of work done at devices, by a job of an identity. One that was begun before is not begun again.
func (c *Service) Carry(ctx context.Context, id uuid.UUID, name string, owner uuid.UUID, by string, parts []pack.Part, devices []uuid.UUID,
	windows bool, limits job.Limits) error {
	for _, p := range parts {
		files := make([]string, len(p.Package.Files))
		for i, f := range p.Package.Files {
			files[i] = f.Name
		}
		if err := work.Validate(p.Steps(), files); err != nil {
			return err
		}
	}
	now := time.Now()
	j := newJob{id: id, name: name, work: job.OfParts(name, parts...), origin: "rollout", state: job.JobRunning, beginAt: now, by: by,
		owner: owner, when: job.When{Windows: windows}, limits: limits, selection: selection{Devices: devices}, values: map[string]string{}}
	var chosen []fleet.Target
	for _, d := range devices {
		if m, ok := c.fleet.Known(d); ok {
			chosen = append(chosen, m)
		}
	}
	j.deadline = limits.Awaited(now, false)
	j.runs = once(j.work, chosen, now, j.deadline)
	err := c.put(ctx, j, front.Entry{Actor: by, Via: "rollout", Action: "job.begin", Result: "begun"})
	if db.Duplicate(err) {
		return nil
	}
	return err
}

// Offers are the packages of the library that are told by software that a device has, in their latest versions.
func (c *Service) Offers(ctx context.Context) (out []pack.Package, err error) {
	all, err := c.store.packages(ctx, "", math.MaxInt32)
	for _, p := range all {
		if p.Content.There.Kind == work.OfSoftware && p.Content.Version != "" {
			out = append(out, p.Content)
		}
	}
	return out, err
}

// Upgrade is what brings devices that have an older version of a package's software to its version, and does nothing
// to others.
func (c *Service) Upgrade(ctx context.Context, name, version string) ([]pack.Part, error) {
	all, err := c.store.packages(ctx, "", math.MaxInt32)
	if err != nil {
		return nil, err
	}
	find := shelved(all)
	p, ok := find(name)
	if !ok || p.Version != version {
		return nil, fmt.Errorf("the library does not offer %s %s any more", name, version)
	}
	parts, err := pack.Plan(p, find)
	for i := range parts {
		parts[i].Having = &p.There
	}
	return parts, err
}

// Progress is how the runs of a job stand: away are those that wait for their device, or its window.
func (c *Service) Progress(ctx context.Context, id uuid.UUID) (all, over, away int, err error) {
	c.mu.Lock()
	if j := c.schedule.Job(id); j != nil {
		defer c.mu.Unlock()
		all, over, away = c.schedule.Progress(j, time.Now())
		return all, over, away, nil
	}
	c.mu.Unlock()
	counts, err := c.store.counts(ctx, id)
	for state, n := range counts {
		all += n
		if state.Over() {
			over += n
		}
	}
	return all, over, 0, err
}

// End cancels a job, where it is not over.
func (c *Service) End(ctx context.Context, id uuid.UUID) error {
	c.mu.Lock()
	over := c.open[id] == nil
	c.mu.Unlock()
	if over {
		return nil
	}
	if err := c.steer(ctx, id, job.JobCancelled); err != nil {
		return fmt.Errorf("cancelling the job: %w", err)
	}
	return nil
}
