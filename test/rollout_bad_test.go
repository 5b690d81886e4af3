package test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/patch"
)

// Two rollouts that want the same devices are carried out one after the other, and install each update once, through
// a restart of the service at every step; a device that is off is woken by its neighbours, and shut down afterwards.
func TestRolloutsInTheWay(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	off := make(chan string, 8)
	var last *running
	var lastDevice sim.Device
	for i := range 3 {
		d := sim.Device{Name: fmt.Sprintf("hay-kiosk-%d", i), Kind: sim.Kiosk, Seed: uint64(9 + 2*i),
			Address: fmt.Sprintf("192.0.2.%d", 14+i), Dir: t.TempDir()}
		d.Away = func(whole bool) {
			if whole {
				off <- d.Name
			}
		}
		last, lastDevice = w.agent(t, d.Name, d.Host(time.Now), nil), d
	}
	w.await(t, "what is missing is told, and the adapters", func() bool {
		all := must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(), &api.ListUpdatesParams{Search: new("heathssl")})))(t).Items
		return len(all) == 1 && all[0].Devices == 3 &&
			len(must(client.Result(w.owner.GetInventoryWithResponse(t.Context(), last.id, &api.GetInventoryParams{})))(t).Items) > 0
	})
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(), patch.Rule{Name: "All", Do: patch.Approve, Scope: everywhere})))(t)
	w.await(t, "it is known of all that they offer updates", func() bool {
		n := 0
		for _, d := range must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t).Items {
			if slices.Contains(d.Capabilities, device.CapabilityUpdates) {
				n++
			}
		}
		return n == 3
	})
	last.stop()
	w.await(t, "one is off", func() bool { return !must(w.owner.Device(t.Context(), last.id))(t).Device.Online })
	begin := func(name string, rings ...patch.Ring) uuid.UUID {
		return must(client.Made(w.owner.AddRolloutWithResponse(t.Context(),
			api.NewRollout{Where: new(""), Spec: patch.Rollout{Name: name, Names: []string{"heathssl", "moss-tools"},
				Restart: patch.RestartNever, WaitHours: 1, Enough: 100, Wake: true, Rings: rings}})))(t).ID
	}
	both := []uuid.UUID{begin("First", patch.Ring{Name: "some", Devices: []string{last.id.String()}}, patch.Ring{Name: "the rest"}),
		begin("Second", patch.Ring{Name: "all"})}
	// Changed while it runs: what has begun goes on, the rings to come leave it out.
	w.rolloutIs(t, both[0], patch.Patching)
	if err := w.steer(t, both[0], api.RolloutAction{Without: &[]string{"moss-tools"}}); err != nil {
		t.Fatal(err)
	}
	w.await(t, "it is called by its neighbours", func() bool {
		n := 0
		for _, e := range must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
			&api.ListAuditParams{Text: new("power.wake")})))(t).Items {
			if strings.HasPrefix(e.Result, "sent by hay-kiosk-") {
				n++
			}
		}
		return n > 0
	})
	w.back(t, last, lastDevice.Host(time.Now))
	was := ""
	w.awaitFor(t, 6*time.Minute, "both rollouts are done", func() bool {
		now, done := "", 0
		for _, id := range both {
			r := must(client.Result(w.owner.GetRolloutWithResponse(t.Context(), id)))(t)
			now += r.Phase
			for _, ring := range r.Rings {
				now += fmt.Sprint(ring.States)
			}
			if r.Phase == string(patch.Done) {
				done++
			}
		}
		if now != was && done < 2 { // at every step
			was = now
			w.Stop()
			w.start(t)
			w.owner = w.client(t, w.token)
		}
		return done == 2
	})
	installed := 0
	for _, id := range both {
		for name, d := range w.rolloutDevices(t, id) {
			for _, p := range d.Patched {
				if id == both[0] && d.Ring == 1 && p.Name == "moss-tools" {
					t.Errorf("%s got what was left out meanwhile", name)
				}
			}
			if d.State != "patched" && d.State != "current" {
				t.Errorf("%s is %s: %+v", name, d.State, d)
			}
			if d.JobID == nil {
				continue
			}
			for _, run := range must(client.Result(w.owner.ListRunsWithResponse(t.Context(), *d.JobID, &api.ListRunsParams{})))(t).Items {
				if run.Device != d.DeviceID {
					continue
				}
				one := must(client.Result(w.owner.GetRunWithResponse(t.Context(), *d.JobID, run.ID)))(t)
				installed += strings.Count(*one.Output, "Setting up ")
			}
		}
	}
	if installed != 6 {
		t.Errorf("two updates were installed %d times at three devices", installed)
	}
	select {
	case name := <-off:
		if name != lastDevice.Name {
			t.Errorf("%s was shut down", name)
		}
	case <-time.After(4 * time.Minute): // what failed is tried after 5 s, then after twice as long, up to some minutes
		t.Error("what was woken was not shut down")
	}
}
