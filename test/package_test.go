package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/script"
	"moorwatch.example/core/work"
	"moorwatch.example/test/wait"
)

// pack adds a package to the library.
func (w *world) pack(t *testing.T, p pack.Package) api.Package {
	t.Helper()
	file := must(p.File())(t)
	return *must(client.Made(w.owner.AddPackageWithResponse(t.Context(), api.NewPackage{File: string(file)})))(t)
}

// content sends a file to the content store.
func (w *world) content(t *testing.T, name string, text []byte) pack.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	return must(w.owner.StoreContent(t.Context(), path, nil))(t)
}

// A package is put together, with its file in the content store; installed with what it needs on a real
// device, found there and not installed again, and removed; what is missing, wrong or in use is told.
func TestPackages(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "sal-records")
	place := t.TempDir()
	big := bytes.Repeat([]byte("heath and moor\n"), 200_000)
	f := w.content(t, "moor.txt", big)
	p := pack.Package{Name: "Moor", Version: "1.2", Files: []pack.File{f}, Needs: []string{"Ground"},
		There: pack.There{Condition: work.Condition{Kind: work.OfFile, Of: place + "/version"}, Pattern: `moor (\S+)`},
		Install: []work.Step{{Do: work.Copy, File: "moor.txt", To: place + "/moor.txt"},
			{Do: work.Script, Interpreter: "sh", Body: "echo moor 1.2 > " + place + "/version; echo ran >> " + place + "/ran\n"}},
		Remove: []work.Step{{Do: work.Delete, Path: place + "/version"}, {Do: work.Delete, Path: place + "/moor.txt"}}}
	ground := pack.Package{Name: "Ground", Version: "1",
		There:   pack.There{Condition: work.Condition{Kind: work.OfFile, Of: place + "/ground"}},
		Install: []work.Step{{Do: work.Edit, Path: place + "/ground", Find: "^soil=", Line: "soil=peat"}}}
	stray := p
	stray.Files = []pack.File{{Name: "moor.txt", SHA256: strings.Repeat("ab", 32), Size: 3}}
	_, err := client.Made(w.owner.AddPackageWithResponse(t.Context(), api.NewPackage{File: string(must(stray.File())(t))}))
	refused(t, err, http.StatusBadRequest, "does not have moor.txt")
	made := w.pack(t, p)
	_, err = client.Made(w.owner.AddJobWithResponse(t.Context(), api.NewJob{Package: &made.ID, Devices: &[]uuid.UUID{d.id}}))
	refused(t, err, http.StatusBadRequest, "needs Ground, which the library does not have")
	below := w.pack(t, ground)
	do := func(remove bool) (*api.Job, string) {
		t.Helper()
		j := w.job(t, api.NewJob{Package: &made.ID, Remove: &remove, Devices: &[]uuid.UUID{d.id}})
		j = w.jobIs(t, j.ID, "done")
		run := must(client.Result(w.owner.GetRunWithResponse(t.Context(), j.ID, w.jobRuns(t, j.ID)[0].ID)))(t)
		return j, *run.Output
	}
	j, out := do(false)
	if j.Counts["succeeded"] != 1 || j.Name != "Install Moor" || !strings.Contains(out, "== Moor is there, in version 1.2") {
		t.Fatalf("%+v\n%s", j, out)
	}
	if got, _ := os.ReadFile(place + "/moor.txt"); !bytes.Equal(got, big) {
		t.Error("the file that was copied is another")
	}
	if got, _ := os.ReadFile(place + "/ground"); string(got) != "soil=peat\n" {
		t.Errorf("what it needs is %q", got)
	}
	if _, out := do(false); !strings.Contains(out, "Moor is there already, in version 1.2") {
		t.Errorf("again: %s", out)
	}
	if got, _ := os.ReadFile(place + "/ran"); string(got) != "ran\n" {
		t.Errorf("its steps were done again: %q", got)
	}
	listed := must(client.Result(w.owner.ListPackagesWithResponse(t.Context(), &api.ListPackagesParams{})))(t).Items
	if len(listed) != 2 || listed[1].Content.Name != "Moor" || *listed[1].Devices != 1 {
		t.Errorf("%+v", listed)
	}
	refused(t, client.Done(w.owner.RemovePackageWithResponse(t.Context(), below.ID)), http.StatusConflict, "Moor needs it")
	refused(t, client.Done(w.owner.RemoveContentWithResponse(t.Context(), f.SHA256)), http.StatusConflict, "is brought by Moor")
	if j, _ := do(true); j.Counts["succeeded"] != 1 {
		t.Errorf("removing: %+v", j)
	}
	if _, err := os.Stat(place + "/moor.txt"); err == nil {
		t.Error("it is there still")
	}

	// The store loses the file: the device is told so, and nothing is half done.
	broken := filepath.Join(w.config.Contents, f.SHA256[:2], f.SHA256)
	if err := os.WriteFile(broken, append([]byte("x"), big[1:]...), 0o600); err != nil {
		t.Fatal(err)
	}
	j, _ = do(false)
	if run := w.jobRuns(t, j.ID)[0]; j.Counts["failed"] != 1 || !strings.Contains(*run.Reason, "is not as the service stored it") {
		t.Errorf("%+v, %v", j, run.Reason)
	}
	if _, err := os.Stat(place + "/moor.txt"); err == nil {
		t.Error("a file with a wrong digest was put in place")
	}

	helper := w.person(t, access.Helper)
	if _, err := client.Result(helper.ListPackagesWithResponse(t.Context(), &api.ListPackagesParams{})); err != nil {
		t.Errorf("a helper may see packages: %v", err)
	}
	own := w.person(t, w.role(t, "runner", access.FleetRead, access.Of("scripts", access.Act), access.Of("scripts", access.See)))
	_, err = client.Made(own.AddJobWithResponse(t.Context(), api.NewJob{Package: &made.ID, Devices: &[]uuid.UUID{d.id}}))
	refused(t, err, http.StatusBadRequest, "no device is selected where you may do this")
}

// role makes a role of permissions.
func (w *world) role(t *testing.T, name access.Role, permissions ...access.Permission) access.Role {
	t.Helper()
	must(client.Result(w.owner.SetRoleWithResponse(t.Context(), string(name), api.NewRole{Permissions: permissions})))(t)
	return name
}

// A file on its way to the content store goes on where it was cut; one that is not what it was said to be
// is dropped; a device may read only what its runs bring.
func TestContentStore(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	text := bytes.Repeat([]byte("sphagnum "), 100_000)
	sum := sha256.Sum256(text)
	digest := hex.EncodeToString(sum[:])
	put := func(offset int64, part []byte) (*api.Content, error) {
		return client.Result(w.owner.SendContentWithBodyWithResponse(t.Context(), digest, &api.SendContentParams{Offset: offset},
			"application/octet-stream", bytes.NewReader(part)))
	}
	_, err := put(0, text)
	refused(t, err, http.StatusNotFound, "")
	begun := must(client.Made(w.owner.AddContentWithResponse(t.Context(),
		api.NewContent{Sha256: digest, Name: "bog.txt", Size: int64(len(text))})))(t)
	if begun.Have != 0 || begun.Whole {
		t.Errorf("%+v", begun)
	}
	if x, err := put(0, text[:300_000]); err != nil || x.Have != 300_000 || x.Whole {
		t.Errorf("%+v, %v", x, err)
	}
	_, err = put(0, text)
	refused(t, err, http.StatusConflict, "It has 300000 bytes")
	_, err = put(300_000, append([]byte{'x'}, text[300_001:]...))
	refused(t, err, http.StatusUnprocessableEntity, "another digest")
	if x := must(client.Made(w.owner.AddContentWithResponse(t.Context(),
		api.NewContent{Sha256: digest, Name: "bog.txt", Size: int64(len(text))})))(t); x.Have != 0 {
		t.Errorf("what was wrong is kept: %+v", x)
	}
	_, err = put(0, append(text, 'x'))
	refused(t, err, http.StatusUnprocessableEntity, "longer than was said")
	if x, err := put(0, text); err != nil || !x.Whole {
		t.Errorf("%+v, %v", x, err)
	}
	_, err = client.Made(w.owner.AddContentWithResponse(t.Context(), api.NewContent{Sha256: digest, Name: "bog.txt", Size: 5}))
	refused(t, err, http.StatusConflict, "another size")
	if err := client.Done(w.owner.RemoveContentWithResponse(t.Context(), digest)); err != nil {
		t.Errorf("what nothing brings is not removed: %v", err)
	}
}

// A run of several steps is taken up again by the agent that follows one that is killed: what was done is
// not done again, and its file is fetched from where it stood.
func TestPackageThroughKills(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	dir, id := w.enrol(t, "sal-records")
	agent := agentProcess(t, dir)
	w.await(t, "it is known what it is", func() bool {
		d := must(w.owner.Device(t.Context(), id))(t).Device
		return d.Online && d.OS == "linux"
	})
	place := t.TempDir()
	f := w.content(t, "big.bin", bytes.Repeat([]byte("0123456789abcdef"), 1<<20))
	mark := func(word string) work.Step {
		return work.Step{Do: work.Run, Argv: []string{"sh", "-c", "echo " + word + " >> " + place + "/marks"}}
	}
	p := pack.Package{Name: "Steps", Version: "1", Files: []pack.File{f},
		There: pack.There{Condition: work.Condition{Kind: work.OfFile, Of: place + "/done"}},
		Install: []work.Step{mark("one"), {Do: work.Copy, File: "big.bin", To: place + "/big.bin"}, mark("two"),
			{Do: work.Wait, Seconds: 60, If: []work.Condition{{Kind: work.OfFile, Of: place + "/go"}}}, mark("three"),
			{Do: work.Edit, Path: place + "/done", Find: "^x", Line: "x"}}}
	made := w.pack(t, p)
	j := w.job(t, api.NewJob{Package: &made.ID, Devices: &[]uuid.UUID{id}, Limits: &job.Limits{WaitHours: 1}})
	reached := func(word string) func() bool {
		return func() bool { text, _ := os.ReadFile(place + "/marks"); return strings.Contains(string(text), word) }
	}
	w.await(t, "it waits in its fourth step", reached("two"))
	wait.Pause(t, 300*time.Millisecond) // it has noted that it waits
	agent.Process.Kill()
	agent.Wait()
	if err := os.WriteFile(place+"/go", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	agent = agentProcess(t, dir)
	over := w.jobIs(t, j.ID, "done")
	text, _ := os.ReadFile(place + "/marks")
	if over.Counts["succeeded"] != 1 || string(text) != "one\ntwo\nthree\n" {
		t.Errorf("%v, %q, %v", over.Counts, text, *over.Groups)
	}
	// Killed in the middle of a program that must not be run twice, it says which.
	long := w.pack(t, pack.Package{Name: "Long", Version: "1", There: p.There,
		Install: []work.Step{{Do: work.Wait, Seconds: 1},
			{Do: work.Run, Title: "Settle", Argv: []string{"sh", "-c", "rm " + place + "/done; echo four >> " + place +
				"/marks; sleep 60"}}}})
	os.Remove(place + "/done")
	os.WriteFile(place+"/elsewhere", nil, 0o600)
	j = w.job(t, api.NewJob{Package: &long.ID, Devices: &[]uuid.UUID{id}, Limits: &job.Limits{WaitHours: 1}})
	w.await(t, "it runs", reached("four"))
	agent.Process.Kill()
	agent.Wait()
	agentProcess(t, dir)
	over = w.jobIs(t, j.ID, "done")
	if run := w.jobRuns(t, j.ID)[0]; over.Counts["interrupted"] != 1 || !strings.Contains(*run.Reason, "in step 2 of 2, Settle") {
		t.Errorf("%v, %v", over.Counts, run.Reason)
	}
	if text, _ := os.ReadFile(place + "/marks"); strings.Count(string(text), "four") != 1 {
		t.Errorf("it ran again: %q", text)
	}
}

// A step restarts the device: what follows goes on once it is back, and the device is restarted once.
func TestRestartingStep(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	dir, id := w.enrol(t, "hay-kiosk")
	away := make(chan bool, 1)
	device := sim.Device{Name: "hay-kiosk", Kind: sim.Kiosk, Seed: 5, Dir: t.TempDir(), Away: func(off bool) { away <- off }}
	h := device.Host(time.Now)
	d := w.runs(t, "hay-kiosk", dir, id, h, nil)
	p := w.pack(t, pack.Package{Name: "Restarts", Version: "1",
		There: pack.There{Condition: work.Condition{Kind: work.OfFile, Of: "/srv/after"}}, Install: []work.Step{
			{Do: work.Edit, Path: "/srv/before", Find: "^x", Line: "x"}, {Do: work.Restart, Seconds: 60},
			{Do: work.Edit, Path: "/srv/after", Find: "^x", Line: "x"}}})
	j := w.job(t, api.NewJob{Package: &p.ID, Devices: &[]uuid.UUID{id}, Limits: &job.Limits{WaitHours: 1}})
	select {
	case <-away:
	case <-time.After(soon):
		t.Fatal("the device was not restarted")
	}
	// An agent that ends before the device is down is not taken for the restart.
	d.stop()
	w.await(t, "it is away", func() bool { return !must(w.owner.Device(t.Context(), id))(t).Device.Online })
	if r := w.jobRuns(t, j.ID)[0]; r.State != "sent" {
		t.Errorf("while it restarts its run is %s", r.State)
	}
	w.runs(t, "hay-kiosk", dir, id, h, nil)
	over := w.jobIs(t, j.ID, "done")
	run := must(client.Result(w.owner.GetRunWithResponse(t.Context(), j.ID, w.jobRuns(t, j.ID)[0].ID)))(t)
	if over.Counts["succeeded"] != 1 || strings.Count(*run.Output, "Restart the device") != 1 || !strings.Contains(*run.Output, "== 3/3") {
		t.Errorf("%v\n%s", over.Counts, *run.Output)
	}
	if len(away) != 0 {
		t.Error("it was restarted twice")
	}
}

// A job that is cancelled while its device is away never runs there; one under way there ends when the
// device is back.
func TestCancelledWhileAway(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "sal-records")
	devices := &[]uuid.UUID{d.id}
	place := t.TempDir()
	long := w.scriptID(t, "Long", "echo begun > "+place+"/begun; sleep 300; echo ended > "+place+"/ended\n",
		func(s *script.Script) { s.Repeatable = true })
	under := w.job(t, api.NewJob{Script: long, Devices: devices, Limits: &job.Limits{WaitHours: 1}})
	w.await(t, "it runs", func() bool { _, err := os.Stat(place + "/begun"); return err == nil })
	later := w.job(t, api.NewJob{Script: w.scriptID(t, "Never", "touch "+place+"/never\n", nil), Devices: devices,
		Limits: &job.Limits{WaitHours: 1}})
	d.stop()
	w.await(t, "it is away", func() bool { return !must(w.owner.Device(t.Context(), d.id))(t).Device.Online })
	for _, id := range []uuid.UUID{under.ID, later.ID} {
		must(client.Result(w.owner.SteerJobWithResponse(t.Context(), id, api.JobAction{Action: "cancel"})))(t)
	}
	w.jobIs(t, later.ID, "cancelled")
	if j := must(client.Result(w.owner.GetJobWithResponse(t.Context(), under.ID)))(t); j.EndedAt != nil || j.Counts["sent"] != 1 {
		t.Errorf("what is under way there is %+v", j.Counts)
	}
	w.rerun(t, d, "sal-records")
	over := w.jobIs(t, under.ID, "cancelled")
	if over.Counts["cancelled"]+over.Counts["interrupted"] != 1 {
		t.Errorf("%v", over.Counts)
	}
	for _, name := range []string{"/never", "/ended"} {
		if _, err := os.Stat(place + name); err == nil {
			t.Errorf("%s is there", name)
		}
	}
}
