package test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
	"moorwatch.example/lab"
)

// TestMachines are the tests of whole machines, one after another: those of several share what the kernel gives
// one user, such as inotify(7) instances, of which each systemd takes some; and while they wait for each
// other nothing else could be tested.
func TestMachines(t *testing.T) {
	t.Parallel()
	for _, one := range []struct {
		name string
		test func(t *testing.T)
	}{
		{"WaysToInstall", testWaysToInstall},
		{"OtherInits", testOtherInits},
		{"ABootedMachine", testABootedMachine}, {"ServiceInItsUnit", testServiceInItsUnit},
		{"Lab", testLab},
		{"LabBadDays", testLabBadDays},
		{"WindowsRooms", testWindowsRooms},
		{"WindowsAgent", testWindowsAgent},
		{"WindowsInstaller", testWindowsInstaller},
		{"WindowsScreen", testWindowsScreen},
	} {
		t.Run(one.name, one.test)
	}
}

// machines starts a lab with real machines, and waits until all are connected.
func (w *world) machines(t *testing.T, names ...string) (*lab.Lab, map[string]*lab.Machine, map[string]uuid.UUID) {
	t.Helper()
	if why := lab.Missing(); why != "" {
		t.Skip(why)
	}
	ids := map[string]uuid.UUID{}
	l, err := lab.New(t.Context(), lab.Options{Agent: filepath.Join(must(programs())(t), "moor-agent"), Service: w.Service.URL,
		Enrol: func(ctx context.Context, name, dir string) error {
			i, err := identity.Enrol(ctx, dir, w.Service.URL, w.enrolmentToken(t, 1), device.Facts{HostName: name})
			if err == nil {
				ids[name] = uuid.MustParse(i.Device)
			}
			return err
		}})
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]*lab.Machine{}
	defer t.Cleanup(func() { // before the machines are asked what they said
		for name, m := range all {
			if t.Failed() {
				t.Logf("%s at its end: %s", name, state(m))
			}
		}
		l.Close()
	})
	began := time.Now()
	for _, name := range names {
		m := must(l.Start(t.Context(), name))(t)
		all[name] = m
		t.Cleanup(func() {
			if t.Failed() {
				t.Logf("%s said: %.1500s", name, m.Said())
			}
		})
	}
	again := map[string]bool{}
	w.awaitFor(t, 4*time.Minute, "all machines are connected", func() bool {
		for name, id := range ids {
			if d := must(w.owner.Device(t.Context(), id))(t); !d.Device.Online || d.Facts == nil {
				// A machine has been seen to stand still as it booted, on a busy host: it is started once more, as by a power cut.
				if time.Since(began) > time.Minute && !again[name] {
					again[name] = true
					t.Logf("%s is started again: it has not connected: %s", name, state(all[name]))
					if err := all[name].Kill(); err != nil {
						t.Error(err)
					}
				}
				return false
			}
		}
		return true
	})
	t.Logf("%d machines are there after %s", len(names), time.Since(began).Round(time.Second))
	return l, all, ids
}

// state is what a machine tells of itself within 10 s.
func state(m *lab.Machine) string {
	within, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	text, err := m.Do(within, `uptime; systemctl list-jobs --no-pager; ps -e -o pid,etimes,stat,wchan:20,args | grep -v '\[' | tail -n 40
systemctl status --no-pager -n 30 moor-agent`)
	if err != nil {
		text += err.Error()
	}
	return text
}

func read(t *testing.T, parts ...string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(parts...))
	if err != nil {
		return err.Error()
	}
	return strings.TrimSpace(string(text))
}

// On six real machines a security rollout patches its first ring, restarts what needs it, finds that an
// update breaks a service, is held, and takes back what was installed; without that update it reaches all.
func testLab(t *testing.T) {
	w := begin(t, false)
	w.policy(t, "Kiosks", health.Scope{Kind: health.Everywhere},
		health.Setting{Check: health.CheckService, Subject: "kiosk-screen.service", Level: health.Critical, EverySeconds: 10})
	l, machines, ids := w.machines(t, "hay-lab-1", "hay-lab-2", "hay-lab-3", "hay-lab-4", "hay-lab-5", "hay-lab-6")
	if err := l.Publish(t.Context()); err != nil {
		t.Fatal(err)
	}
	must(w.importFeed(t, "lab", true, strings.NewReader(lab.Advisory)))(t)
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: "Security", Do: patch.Approve, Scope: everywhere, Classes: []update.Class{update.Security}})))(t)
	asked := w.jobIs(t, must(client.Made(w.owner.AskUpdatesWithResponse(t.Context(), api.UpdatesAsk{Where: new("")})))(t).JobID, "done")
	if asked.Counts["succeeded"] != 6 {
		t.Fatalf("asking: %+v, %+v", asked.Counts, asked.Groups)
	}
	missing := func() map[string]api.MissingUpdate {
		out := map[string]api.MissingUpdate{}
		for _, x := range must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(),
			&api.ListUpdatesParams{Limit: new(500)})))(t).Items {
			out[x.Update.Name] = x
		}
		return out
	}
	w.awaitFor(t, 3*time.Minute, "all machines tell what they miss", func() bool {
		all := missing()
		return all["tarnlib"].Devices == 6 && all["sedge"].Blocked == 6
	})
	w.awaitFor(t, 2*time.Minute, "the advisory is about all machines, and mended by the update", func() bool {
		a := must(client.Result(w.owner.GetAdvisoryWithResponse(t.Context(), "CVE-2026-70901")))(t).Advisory
		return a.Devices == 6 && len(a.Updates) == 1 && missing()["tarnlib"].Update.Severity == "critical"
	})
	if u := missing()["tarnlib"]; u.Update.Class != update.Security || u.States["approved"] != 6 {
		t.Errorf("%+v", u)
	}
	began := map[string]string{}
	pid := func(name string) string {
		s := must(client.Result(w.owner.GetServiceWithResponse(t.Context(), ids[name], "heathd")))(t)
		return s.State + " since " + s.Since
	}
	for name := range ids {
		began[name] = pid(name)
	}
	first := []string{ids["hay-lab-1"].String(), ids["hay-lab-2"].String()}
	spec := patch.Rollout{Name: "Security in the lab", Classes: []update.Class{update.Security}, Restart: patch.RestartNeeded, WaitHours: 1,
		Gate:  patch.Gate{Rollback: true},
		Rings: []patch.Ring{{Name: "two of ours", Devices: first, SoakMinutes: 60}, {Name: "the rest"}}}
	r := must(client.Made(w.owner.AddRolloutWithResponse(t.Context(), api.NewRollout{Spec: spec, Where: new("")})))(t)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("the rollout: %+v", r)
		}
	})
	phase := func(want patch.Phase) {
		t.Helper()
		w.awaitFor(t, 6*time.Minute, "the rollout is "+string(want), func() bool {
			r = must(client.Result(w.owner.GetRolloutWithResponse(t.Context(), r.ID)))(t)
			return r.Phase == string(want)
		})
	}
	phase(patch.Soaking)
	for _, name := range []string{"hay-lab-1", "hay-lab-2"} {
		root := machines[name].Root
		if got := read(t, root, "usr/share/tarnlib/version") + read(t, root, "usr/share/kiosk-screen/version") +
			read(t, root, "usr/share/bracken/version"); got != "1.13.31" {
			t.Errorf("%s has %s: %+v", name, got, w.rolloutDevices(t, r.ID)[name])
		}
	}
	w.awaitFor(t, 3*time.Minute, "the broken service is alerted about", func() bool {
		return len(must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
			&api.ListAlertsParams{Check: new(health.CheckService)})))(t).Items) == 2
	})
	w.soaked(t, r.ID, 0)
	phase(patch.PhaseHeld)
	if got := read(t, machines["hay-lab-1"].Root, "usr/share/kiosk-screen/version"); got != "3.2" {
		t.Errorf("after taking back it has kiosk-screen %s", got)
	}
	// The technician reads on the board why, leaves the package out, and has the ring patched again.
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/rollouts/" + r.ID.String()))
	p.sees("main", "2 of 2 that have the updates have new alerts")
	p.sees("[aria-label=Updates]", "security, critical")
	p.until(`document.querySelector("[aria-label='Leave out kiosk-screen']") !== null`, "a way to leave out the broken package")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Leave out kiosk-screen']").click()`))
	p.sees("[aria-label=Updates]", "Take in")
	p.press("main", "Patch ring 1 again")
	phase(patch.Soaking)
	w.awaitFor(t, 3*time.Minute, "the service runs again", func() bool {
		return len(must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
			&api.ListAlertsParams{State: new("current"), Check: new(health.CheckService)})))(t).Items) == 0
	})
	w.soaked(t, r.ID, 0)
	phase(patch.Done)
	for name, m := range machines {
		if got := read(t, m.Root, "usr/share/tarnlib/version") + read(t, m.Root, "usr/share/kiosk-screen/version") +
			read(t, m.Root, "usr/share/fell-kernel/version"); got != "1.13.26.2" {
			t.Errorf("%s has %s: %+v", name, got, w.rolloutDevices(t, r.ID)[name])
		}
		if now := pid(name); now == began[name] || !strings.HasPrefix(now, "running") {
			t.Errorf("%s: heathd was %s and is %s", name, began[name], now)
		}
	}
	w.awaitFor(t, 2*time.Minute, "no machine has the weakness any more", func() bool {
		return must(client.Result(w.owner.GetAdvisoryWithResponse(t.Context(), "LAB-2026-0001")))(t).Advisory.Devices == 0
	})
	// Each machine's own record tells what was printed, and when it was restarted.
	record := must(client.Result(w.owner.GetDeviceUpdatesWithResponse(t.Context(), ids["hay-lab-4"])))(t).Patched
	if len(record) != 2 || record[0].RestartedAt == nil || record[0].RestartedAt.Before(r.BegunAt) || record[0].Log == nil ||
		!strings.Contains(*record[0].Log, record[0].Name) {
		t.Errorf("the record of a machine is %+v", record)
	}
	// The report says what happened.
	answer := must(w.owner.MakeReport(t.Context(), &api.MakeReportParams{Format: api.HTML}))(t)
	defer answer.Body.Close()
	page := string(must(io.ReadAll(answer.Body))(t))
	for _, want := range []string{"Security in the lab", "Held: ", "2 of 2 that have the updates have new alerts, and 0 of 4 of the others",
		"It went on without kiosk-screen.", "6 patched", "tarnlib", "fell-kernel"} {
		if !strings.Contains(page, want) {
			t.Errorf("the report lacks %q", want)
		}
	}
	if t.Failed() {
		t.Log(page)
	}
}

// A machine that loses its power in the middle of an installation brings it to its end when it is back, once;
// one that is cut off is caught up; what cannot be installed says why, and so does a repository that is gone.
func testLabBadDays(t *testing.T) {
	w := begin(t, false)
	l, machines, ids := w.machines(t, "hay-lab-1", "hay-lab-2")
	if err := l.Publish(t.Context()); err != nil {
		t.Fatal(err)
	}
	ask := func() *api.Job {
		t.Helper()
		return w.jobIs(t, must(client.Made(w.owner.AskUpdatesWithResponse(t.Context(), api.UpdatesAsk{Where: new("")})))(t).JobID, "done")
	}
	ask()
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(), patch.Rule{Name: "All", Do: patch.Approve, Scope: everywhere})))(t)
	w.awaitFor(t, 2*time.Minute, "both tell what they miss", func() bool {
		all := must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(), &api.ListUpdatesParams{Search: new("peat")})))(t).Items
		return len(all) == 1 && all[0].Devices == 2
	})
	if err := machines["hay-lab-2"].Cut(t.Context()); err != nil {
		t.Fatal(err)
	}
	begin := func(name string) *api.Rollout {
		t.Helper()
		return must(client.Made(w.owner.AddRolloutWithResponse(t.Context(),
			api.NewRollout{Where: new(""), Spec: patch.Rollout{Name: name, Names: []string{name}, Restart: patch.RestartNever, WaitHours: 1,
				Rings: []patch.Ring{{Name: "all"}}}})))(t)
	}
	r := begin("peat")
	one := machines["hay-lab-1"]
	w.awaitFor(t, 2*time.Minute, "the installation is under way", func() bool { return read(t, one.Root, "usr/share/peat/version") == "2" })
	if err := one.Kill(); err != nil {
		t.Fatal(err)
	}
	w.awaitFor(t, 3*time.Minute, "the installation came to its end",
		func() bool { return w.rolloutDevices(t, r.ID)["hay-lab-1"].State == "patched" })
	if d := w.rolloutDevices(t, r.ID)["hay-lab-2"]; d.State != "planned" && d.State != "running" {
		t.Errorf("the machine that is cut off is %s", d.State)
	}
	if err := machines["hay-lab-2"].Join(t.Context()); err != nil {
		t.Fatal(err)
	}
	w.rolloutIs(t, r.ID, patch.Done)
	if d := w.rolloutDevices(t, r.ID)["hay-lab-2"]; d.State != "patched" ||
		read(t, machines["hay-lab-2"].Root, "usr/share/peat/version") != "2" {
		t.Errorf("the machine that was cut off: %+v", d)
	}
	status := read(t, one.Root, "var/lib/dpkg/status")
	if _, rest, _ := strings.Cut(status, "Package: peat\n"); !strings.HasPrefix(rest, "Status: install ok installed\n") {
		t.Errorf("dpkg has it as %.60q", rest)
	}

	r = begin("bracken")
	r = w.rolloutIs(t, r.ID, patch.PhaseHeld)
	if !strings.Contains(*r.Why, "2 of 2 installations failed") {
		t.Errorf("%s", *r.Why)
	}
	if d := w.rolloutDevices(t, r.ID)["hay-lab-1"]; d.State != "failed" || d.Reason == nil || !strings.Contains(*d.Reason, "bracken") {
		t.Errorf("%+v", d)
	}
	w.await(t, "what could not be installed is put back", func() bool {
		_, rest, _ := strings.Cut(read(t, one.Root, "var/lib/dpkg/status"), "Package: bracken\n")
		return strings.HasPrefix(rest, "Status: install ok installed\n") && read(t, one.Root, "usr/share/bracken/version") == "1"
	})
	// A disk that is full while it is fetched: said, and installed once there is room.
	full := func(name, before string) *api.Rollout {
		t.Helper()
		return must(client.Made(w.owner.AddRolloutWithResponse(t.Context(),
			api.NewRollout{Where: new(""), Spec: patch.Rollout{Name: name, Names: []string{"tarnlib"}, Restart: patch.RestartNever,
				WaitHours: 1, Rings: []patch.Ring{{Name: "all"}},
				Before: []work.Step{{Do: work.Script, Interpreter: "sh", Body: before}}}})))(t)
	}
	r = full("no room", "mount -t tmpfs -o size=16k tmpfs /var/cache/apt/archives && mkdir -p /var/cache/apt/archives/partial")
	w.rolloutIs(t, r.ID, patch.PhaseHeld)
	if d := w.rolloutDevices(t, r.ID)["hay-lab-1"]; d.State != "failed" || d.Reason == nil || !strings.Contains(*d.Reason, "free space") {
		t.Errorf("with a full disk: %+v", d)
	}
	// And while another holds dpkg's lock (fcntl(2), F_SETLK) it is waited for.
	r = full("room again", "umount /var/cache/apt/archives\n"+
		`systemd-run --quiet --unit=hold perl -e 'open(F, ">>", "/var/lib/dpkg/lock-frontend"); my $l = pack("s s x4 q q i", 1, 0, 0, 0, 0); fcntl(F, 6, $l) or exit 1; sleep 8'`+"\nsleep 1; systemctl is-active hold\n")
	w.rolloutIs(t, r.ID, patch.Done)
	if d := w.rolloutDevices(t, r.ID)["hay-lab-1"]; d.EndedAt == nil || d.EndedAt.Sub(r.BegunAt) < 8*time.Second {
		t.Errorf("an installation did not wait for the lock: %+v", d)
	}
	if got := read(t, one.Root, "usr/share/tarnlib/version"); got != "1.1" {
		t.Errorf("with room again it has tarnlib %s", got)
	}
	// A repository that is signed by a key that the machines do not know.
	if err := l.Resign(t.Context()); err != nil {
		t.Fatal(err)
	}
	if j := ask(); j.Counts["failed"] != 2 || !strings.Contains((*j.Groups)[0].Output, "apt cannot read its sources") ||
		!strings.Contains((*j.Groups)[0].Output, "sign") {
		t.Errorf("a repository that another key signs: %+v", j.Groups)
	}
	l.Vanish()
	if j := ask(); j.Counts["failed"] != 2 || !strings.Contains((*j.Groups)[0].Output, "apt cannot read its sources") {
		t.Errorf("a repository that is gone: %+v", j.Groups)
	}
	if d := must(client.Result(w.owner.GetDeviceUpdatesWithResponse(t.Context(), ids["hay-lab-1"])))(t); len(d.Missing) == 0 {
		t.Error("what is known of a repository that is gone is not told any more")
	}
}
