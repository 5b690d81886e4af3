package test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
)

// rolloutIs waits until a rollout is in a phase.
func (w *world) rolloutIs(t *testing.T, id uuid.UUID, phase patch.Phase) (r *api.Rollout) {
	t.Helper()
	w.awaitFor(t, 2*time.Minute, "the rollout is "+string(phase), func() bool {
		r = must(client.Result(w.owner.GetRolloutWithResponse(t.Context(), id)))(t)
		return r.Phase == string(phase)
	})
	return r
}

func (w *world) steer(t *testing.T, id uuid.UUID, in api.RolloutAction) error {
	t.Helper()
	_, err := client.Result(w.owner.SteerRolloutWithResponse(t.Context(), id, in))
	return err
}

// soaked ends the time for which a ring is watched.
func (w *world) soaked(t *testing.T, id uuid.UUID, ring int) {
	t.Helper()
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(t.Context())
	must(db.Exec(t.Context(), fmt.Sprintf("UPDATE rollouts SET state = jsonb_set(state, '{rings,%d,until}', to_jsonb(now())) WHERE id = $1",
		ring), id))(t)
}

func (w *world) rolloutDevices(t *testing.T, id uuid.UUID) (out map[string]api.RolloutDevice) {
	t.Helper()
	out = map[string]api.RolloutDevice{}
	for d, err := range client.Pages(func(cursor *string) (*api.RolloutDevicePage, error) {
		return client.Result(w.owner.ListRolloutDevicesWithResponse(t.Context(), id,
			&api.ListRolloutDevicesParams{Cursor: cursor, Limit: new(2)}))
	}) {
		if err != nil {
			t.Fatal(err)
		}
		out[d.Device] = d
	}
	return out
}

// A rollout patches its first ring, finds that an update breaks a service there, and is held; what was
// installed is taken back, the update is left out, and it goes on to its end, through a restart of the
// service. What each device has and had is told, and who did what.
func TestRollout(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.policy(t, "Kiosks", health.Scope{Kind: health.Everywhere}, watched)
	var ids []string
	var last *running
	var kiosk sim.Device
	for i := range 5 {
		d := sim.Device{Name: fmt.Sprintf("hay-kiosk-%d", i), Kind: sim.Kiosk, Seed: uint64(9 + 2*i), Address: "192.0.2.14",
			Dir: t.TempDir()}
		d.Away = func(bool) {}
		last = w.agent(t, d.Name, d.Host(time.Now), nil)
		kiosk = d
		ids = append(ids, last.id.String())
	}
	var missing []api.MissingUpdate
	w.await(t, "what is missing is told", func() bool {
		missing = must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(), &api.ListUpdatesParams{})))(t).Items
		return len(missing) == 4 && missing[0].Devices == 5
	})
	if u := missing[0]; u.Update.Name != "heathssl" || u.Update.Severity != "high" || u.States["undecided"] != 5 {
		t.Errorf("the most pressing is %+v", u)
	}
	spec := patch.Rollout{Name: "Security, November", Restart: patch.RestartNever, WaitHours: 1, Enough: 60,
		Rings: []patch.Ring{{Name: "two of ours", Devices: ids[:2], SoakMinutes: 60}, {Name: "the rest"}}}
	plan := func() *api.Rollout {
		return must(client.Made(w.owner.AddRolloutWithResponse(t.Context(),
			api.NewRollout{Spec: spec, Where: new(""), Plan: new(true)})))(t)
	}
	w.await(t, "it is known of all that they offer updates", func() bool {
		p := plan()
		return *p.LeftOut == 5 && len(p.Updates) == 0 // as nothing is approved
	})
	_, err := client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: "Never mind", Do: patch.Exclude, Scope: everywhere}))
	refused(t, err, http.StatusBadRequest, "say why")
	approval := must(client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: "Security", Do: patch.Approve, Scope: everywhere, Classes: []update.Class{update.Security}})))(t)
	if approval.ScopeName != "everywhere" || approval.Rule.ID == "" {
		t.Errorf("%+v", approval)
	}
	p := plan()
	if *p.LeftOut != 0 || len(p.Updates) != 3 || p.Rings[0].States["planned"] != 2 || p.Rings[1].States["planned"] != 3 {
		t.Errorf("the plan is %+v", p)
	}
	bad := spec
	bad.Rings = []patch.Ring{}
	_, err = client.Made(w.owner.AddRolloutWithResponse(t.Context(), api.NewRollout{Spec: bad, Where: new("")}))
	refused(t, err, http.StatusBadRequest, "1 to 10 rings")

	r := must(client.Made(w.owner.AddRolloutWithResponse(t.Context(), api.NewRollout{Spec: spec, Where: new("")})))(t)
	r = w.rolloutIs(t, r.ID, patch.Soaking)
	if r.Rings[0].States["patched"] != 2 || r.Rings[1].States["planned"] != 3 {
		t.Errorf("%+v", r.Rings)
	}
	w.awaitFor(t, 2*time.Minute, "both kiosks are alerted about", func() bool {
		return len(must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
			&api.ListAlertsParams{Check: new(health.CheckService)})))(t).Items) == 2
	})
	w.soaked(t, r.ID, 0)
	r = w.rolloutIs(t, r.ID, patch.PhaseHeld)
	if r.Why == nil || !strings.Contains(*r.Why, "2 of 2 that have the updates have new alerts, and 0 of 3 of the others") {
		t.Errorf("it is held as %v", r.Why)
	}
	refused(t, w.steer(t, r.ID, api.RolloutAction{Action: new("resume")}), http.StatusConflict, "not paused")
	if err := w.steer(t, r.ID, api.RolloutAction{Action: new("revert")}); err != nil {
		t.Fatal(err)
	}
	w.Stop()
	w.start(t)
	r = w.rolloutIs(t, r.ID, patch.PhaseHeld)
	w.awaitFor(t, 2*time.Minute, "what was installed is taken back", func() bool {
		r = w.rolloutIs(t, r.ID, patch.PhaseHeld)
		return r.Rings[0].States["reverted"] == 2
	})
	if one := w.rolloutDevices(t, r.ID)["hay-kiosk-0"]; one.State != "reverted" || len(one.Patched) != 3 ||
		one.Patched[0].State != "reverted" {
		t.Errorf("%+v", one)
	}
	if err := w.steer(t, r.ID, api.RolloutAction{Without: &[]string{"catalogue-screen"}, Action: new("again")}); err != nil {
		t.Fatal(err)
	}
	w.rolloutIs(t, r.ID, patch.Soaking)
	w.awaitFor(t, 2*time.Minute, "the kiosks are well again", func() bool {
		return len(must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
			&api.ListAlertsParams{State: new("current")})))(t).Items) == 0
	})
	last.stop() // it is away, and caught up when it is back
	w.await(t, "one is away", func() bool { return !must(w.owner.Device(t.Context(), last.id))(t).Device.Online })
	w.soaked(t, r.ID, 0)
	r = w.rolloutIs(t, r.ID, patch.Done)
	if n := r.Rings[1].States; n["planned"] != 1 || n["patched"] != 2 {
		t.Errorf("with one away: %v", n)
	}
	w.back(t, last, kiosk.Host(time.Now))
	w.awaitFor(t, 2*time.Minute, "it is caught up", func() bool {
		r = must(client.Result(w.owner.GetRolloutWithResponse(t.Context(), r.ID)))(t)
		return r.Rings[1].States["patched"] == 3
	})
	if past := *r.Rings[0].Past; len(past) != 1 || !past[0].Reverted || past[0].Verdict == nil || past[0].Verdict.Go {
		t.Errorf("what came before is not kept: %+v", past)
	}
	if r.EndedAt == nil || r.Rings[0].States["patched"] != 2 || r.Rings[1].States["patched"] != 3 || *r.Rings[0].Try != 1 {
		t.Errorf("%+v", r.Rings)
	}
	refused(t, w.steer(t, r.ID, api.RolloutAction{Action: new("cancel")}), http.StatusConflict, "is over")
	var one *api.DeviceUpdates
	w.await(t, "the device tells that it is current", func() bool {
		one = must(client.Result(w.owner.GetDeviceUpdatesWithResponse(t.Context(), uuid.MustParse(ids[0]))))(t)
		return len(one.Missing) == 2
	})
	states := map[string]int{}
	for _, p := range one.Patched {
		states[p.State]++
	}
	if one.Missing[0].Update.Name != "catalogue-screen" || one.Missing[0].Decision.State != patch.Approved || states["installed"] != 2 ||
		states["reverted"] != 3 {
		t.Errorf("%+v", one)
	}
	exposure := must(client.Result(w.owner.ListExposureWithResponse(t.Context(), &api.ListExposureParams{Limit: new(2)})))(t)
	if len(exposure.Items) != 2 || exposure.Next == nil || exposure.Totals.Devices != 5 || exposure.Totals.Exposed != 0 {
		t.Errorf("%+v", exposure)
	}
	entries := must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{Text: new("rollout.")})))(t).Items
	var actions []string
	for _, d := range entries {
		actions = append(actions, d.Action)
	}
	if !slices.Contains(actions, "rollout.begin") || !slices.Contains(actions, "rollout.revert") ||
		!slices.Contains(actions, "rollout.again") {
		t.Errorf("on record: %v", actions)
	}
}
