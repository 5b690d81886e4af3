package demo

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
)

// Times of the rollout's story, from when the fleet is connected.
const (
	rolloutBegins = 30 * time.Second // when devices have told what they miss
	thinksFor     = 40 * time.Second // the technician, before they leave the update out
	storyEnds     = 30 * time.Minute
)

// approvals are the rules of Curlew & Sedge.
func (d *demo) approvals(ctx context.Context) error {
	everywhere := health.Scope{Kind: health.Everywhere}
	for _, r := range []patch.Rule{
		{Name: "Security, after two days", Do: patch.Approve, Scope: everywhere, Classes: []update.Class{update.Security, update.Critical},
			DeferDays: 2},
		{Name: "Definitions of malware, at once", Do: patch.Approve, Scope: everywhere, Classes: []update.Class{update.Definition}},
		{Name: "Network driver", Do: patch.Hold, Scope: everywhere, Names: []string{"Fennick network driver"},
			Reason: "Two laptops of the trial lost their connection; the maker looks at it.", Until: d.Began.AddDate(0, 0, 21)},
	} {
		if _, err := client.Made(d.client.AddApprovalWithResponse(ctx, r)); err != nil {
			return fmt.Errorf("%s: %w", r.Name, err)
		}
	}
	return nil
}

// rollout tells the story of an update that breaks the kiosks' program: a rollout finds it in its first ring,
// takes it back and is held; the technician leaves it out, and the rest reaches all kiosks. A demo that was ended
// goes on with it, within half an hour of its beginning.
func (d *demo) rollout(ctx context.Context) error {
	ctx, cancel := context.WithDeadline(ctx, d.Began.Add(storyEnds))
	defer cancel()
	wait := func(t time.Duration) error {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(t):
			return nil
		}
	}
	r, err := d.begun(ctx)
	if err != nil {
		return err
	}
	if r == nil {
		if err := wait(rolloutBegins); err != nil {
			return err
		}
		if r, err = d.beginRollout(ctx); err != nil {
			return err
		}
	}
	for r.Phase != string(patch.PhaseHeld) {
		if r.EndedAt != nil {
			return nil
		}
		if err := wait(2 * time.Second); err != nil {
			return err
		}
		if r, err = client.Result(d.client.GetRolloutWithResponse(ctx, r.ID)); err != nil {
			return err
		}
	}
	if err := wait(thinksFor); err != nil {
		return err
	}
	return d.leaveOut(ctx, r.ID, "catalogue-screen")
}

const storyRollout = "Security for the kiosks"

// begun is the story's rollout, nil where it was not begun.
func (d *demo) begun(ctx context.Context) (*api.Rollout, error) {
	page, err := client.Result(d.client.ListRolloutsWithResponse(ctx, &api.ListRolloutsParams{}))
	if err != nil {
		return nil, err
	}
	for _, r := range page.Items {
		if r.Spec.Name == storyRollout {
			return &r, nil
		}
	}
	return nil, nil
}

func (d *demo) beginRollout(ctx context.Context) (*api.Rollout, error) {
	if err := d.pastCompliance(ctx); err != nil {
		return nil, err
	}
	var first []string
	for _, name := range []string{"cen-kiosk-1", "cen-kiosk-4", "mil-kiosk"} {
		one, err := d.client.Find(ctx, name)
		if err != nil {
			return nil, err
		}
		first = append(first, one.ID.String())
	}
	return client.Made(d.client.AddRolloutWithResponse(ctx,
		api.NewRollout{Where: new(`name.contains("kiosk")`),
			Spec: patch.Rollout{Name: storyRollout, Classes: []update.Class{update.Security}, Restart: patch.RestartNeeded,
				WaitHours: 48, Enough: 80, Gate: patch.Gate{Rollback: true},
				Rings: []patch.Ring{{Name: "three that we see", Devices: first, SoakMinutes: 1},
					{Name: "a third", Share: 30, SoakMinutes: 1},
					{Name: "the rest"}}}}))
}

func (d *demo) leaveOut(ctx context.Context, id uuid.UUID, name string) error {
	_, err := client.Result(d.client.SteerRolloutWithResponse(ctx, id,
		api.RolloutAction{Without: &[]string{name}, Action: new(patch.ActionAgain)}))
	return err
}

// countedFor is of how many days before the demo it is told how current devices were.
const countedFor = 45

// pastCompliance has it counted for the days before the demo how current devices were: none of what they miss was
// installed in that time, so that it follows from when each update came out.
func (d *demo) pastCompliance(ctx context.Context) error {
	for ago := countedFor; ago > 0; ago-- {
		if err := d.service.Patch.Record(ctx, d.Began.AddDate(0, 0, -ago)); err != nil {
			return fmt.Errorf("counting how current devices were: %w", err)
		}
	}
	return d.service.Patch.Record(ctx, time.Now())
}

// reports has a client told each month how current its devices are.
func (d *demo) reports(ctx context.Context, organisation string) error {
	id, err := uuid.Parse(organisation)
	if err != nil {
		return err
	}
	next := time.Date(d.Began.Year(), d.Began.Month()+1, 1, 7, 0, 0, 0, time.UTC)
	_, err = client.Made(d.client.AddReportScheduleWithResponse(ctx,
		api.NewReportSchedule{Name: "Larkmoor Libraries, each month", Organisation: &id, To: []string{"office@larkmoor-libraries.example"},
			Days: 30,
			When: calendar.Window{Start: next.Format(calendar.LocalTime), Rule: "FREQ=MONTHLY"}}))
	return err
}
