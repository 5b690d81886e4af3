package test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// A newer version of a package in the library is an update that devices miss which have the older: a rollout brings
// it to them, and to no others.
func TestPackagesAsUpdates(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	var ids []uuid.UUID
	for i := range 3 {
		d := sim.Device{Name: fmt.Sprintf("hay-kiosk-%d", i), Kind: sim.Kiosk, Seed: uint64(9 + 2*i), Address: "192.0.2.14",
			Dir: t.TempDir()}
		ids = append(ids, w.agent(t, d.Name, d.Host(time.Now), nil).id)
	}
	w.await(t, "all tell what else they miss", func() bool {
		all := must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(), &api.ListUpdatesParams{Search: new("heathssl")})))(t).Items
		return len(all) == 1 && all[0].Devices == 3
	})
	fonts := func(version string) pack.Package {
		f := w.content(t, "catalogue-fonts_"+version+"_all.deb", []byte("fonts "+version))
		return pack.Package{Name: "Catalogue Fonts", Version: version, Description: "The typefaces of the catalogue.",
			Files: []pack.File{f}, There: pack.There{Condition: work.Condition{Kind: work.OfSoftware, Of: "catalogue-fonts"}},
			Install: []work.Step{{Do: work.Install, File: f.Name}}}
	}
	made := w.pack(t, fonts("1.4"))
	j := w.job(t, api.NewJob{Package: &made.ID, Devices: &[]uuid.UUID{ids[0], ids[1]}})
	if j = w.jobIs(t, j.ID, "done"); j.Counts["succeeded"] != 2 {
		t.Fatalf("%+v", j)
	}
	missing := func() *api.MissingUpdate {
		for _, x := range must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(),
			&api.ListUpdatesParams{Search: new("Catalogue Fonts")})))(t).Items {
			return &x
		}
		return nil
	}
	file := must(fonts("1.5").File())(t)
	must(client.Result(w.owner.SetPackageWithResponse(t.Context(), made.ID, api.NewPackage{File: string(file)})))(t)
	w.await(t, "the newer package is missing at two devices",
		func() bool { x := missing(); return x != nil && x.Devices == 2 })
	if u := missing().Update; u.Source != patch.PackageSource || u.To != "1.5" || u.Title != "The typefaces of the catalogue." ||
		u.Class != update.Feature {
		t.Errorf("it is offered as %+v", u)
	}
	one := must(client.Result(w.owner.GetDeviceUpdatesWithResponse(t.Context(), ids[0])))(t)
	if !slices.ContainsFunc(one.Missing, func(x api.DecidedUpdate) bool {
		return x.Update.Name == "Catalogue Fonts" && x.Update.From == "1.4"
	}) {
		t.Errorf("the device misses %+v", one.Missing)
	}
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: "Ours", Do: patch.Approve, Scope: everywhere, Sources: []string{patch.PackageSource}})))(t)
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: "Security", Do: patch.Approve, Scope: everywhere, Names: []string{"heathssl"}})))(t)
	// Who may install updates, and no more, has no scripts run and wakes nobody.
	must(client.Result(w.owner.SetRoleWithResponse(t.Context(), "updater",
		api.NewRole{Permissions: []access.Permission{access.FleetRead, access.Of("updates", access.See),
			access.Of("updates", access.Act)}})))(t)
	updater := w.person(t, "updater")
	for _, spec := range []patch.Rollout{{Before: []work.Step{{Do: work.Script, Interpreter: "sh", Body: "id"}}},
		{After: []work.Step{{Do: work.Restart}}}, {Wake: true}} {
		spec.Name, spec.Restart, spec.Rings = "More", patch.RestartNever, []patch.Ring{{Name: "all"}}
		_, err := client.Made(updater.AddRolloutWithResponse(t.Context(), api.NewRollout{Where: new(""), Spec: spec}))
		refused(t, err, http.StatusForbidden, "It needs the permission")
	}
	plain := patch.Rollout{Name: "Plain", Restart: patch.RestartNever, Rings: []patch.Ring{{Name: "all"}}}
	must(client.Made(updater.AddRolloutWithResponse(t.Context(), api.NewRollout{Where: new(""), Spec: plain, Plan: new(true)})))(t)
	r := must(client.Made(w.owner.AddRolloutWithResponse(t.Context(),
		api.NewRollout{Where: new(""), Spec: patch.Rollout{Name: "Fonts", Restart: patch.RestartNever, WaitHours: 1,
			Rings: []patch.Ring{{Name: "all"}}}})))(t)
	w.rolloutIs(t, r.ID, patch.Done)
	for name, d := range w.rolloutDevices(t, r.ID) {
		fonts := false
		for _, p := range d.Patched {
			fonts = fonts || p.Name == "Catalogue Fonts"
		}
		if d.State != "patched" || fonts != (name != "hay-kiosk-2") {
			t.Fatalf("%s: %+v", name, d)
		}
		for _, run := range w.jobRuns(t, *d.JobID) {
			one := must(client.Result(w.owner.GetRunWithResponse(t.Context(), *d.JobID, run.ID)))(t)
			has := strings.Contains(*one.Output, "not for this device, which has no catalogue-fonts")
			if one.DeviceName == name && has != (name == "hay-kiosk-2") {
				t.Errorf("%s printed %s", name, *one.Output)
			}
		}
	}
	w.await(t, "nobody misses it any more", func() bool { return missing() == nil })
	having := must(client.Result(w.owner.ListInstalledWithResponse(t.Context(),
		&api.ListInstalledParams{Name: "catalogue-fonts", Version: new("1.5")})))(t).Items
	if len(having) != 2 {
		t.Errorf("%d devices have it", len(having))
	}
}
