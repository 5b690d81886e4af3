package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
	"moorwatch.example/test/wait"
)

// A job that stands begins a run where a device is enrolled, connects, or comes to be meant; and each time
// that it falls due by the device's clock, once. It ends when it is cancelled.
func TestStandingJobs(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	hello := w.scriptID(t, "Hello", "hostname\n", func(s *script.Script) { s.Interpreter = "powershell" })
	stand := func(name string, where string, when job.When) uuid.UUID {
		t.Helper()
		j := w.job(t, api.NewJob{Script: hello, Name: &name, Where: &where, When: &when, Limits: &job.Limits{WaitHours: 1}})
		if j.EndedAt != nil || j.State != "running" {
			t.Errorf("%s: %+v", name, j)
		}
		return j.ID
	}
	succeeded := func(id uuid.UUID, n int) func() bool {
		return func() bool {
			return must(client.Result(w.owner.GetJobWithResponse(t.Context(), id)))(t).Counts["succeeded"] == n
		}
	}
	enrolled := stand("enrolled", "", job.When{Event: job.Enrolled})
	online := stand("online", `name == "hay-desk-01"`, job.When{Event: job.Online})
	follow := stand("follow", `"loan" in tags`, job.When{Follow: true})
	minute := time.Now().UTC().Truncate(time.Minute)
	recurs := stand("recurs", "", job.When{Rule: "FREQ=DAILY", Start: minute.AddDate(0, 0, -3).Format(calendar.LocalTime), Zone: "UTC"})
	next := time.Now().UTC().Add(time.Minute).Truncate(time.Minute)
	soon := stand("soon", `name == "hay-desk-02"`, job.When{Rule: "FREQ=DAILY", Start: next.Format(calendar.LocalTime), Zone: "UTC"})
	d := w.simulated(t, "hay-desk-01")
	w.simulated(t, "hay-desk-02")
	w.await(t, "both that were enrolled ran it", succeeded(enrolled, 2))
	w.await(t, "one that connected ran it", succeeded(online, 1)) // or its run is still open as it connects anew
	w.Bus.IdentityRevoked.Publish(t.Context(), d.id)
	w.await(t, "one that connected anew ran it again", func() bool {
		return must(client.Result(w.owner.GetJobWithResponse(t.Context(), online)))(t).Counts["succeeded"] >= 2
	})
	if !succeeded(follow, 0)() {
		t.Error("what follows began where nothing is meant")
	}
	must(client.Result(w.owner.SetTagsWithResponse(t.Context(), d.id, api.TagList{Tags: []string{"loan"}})))(t)
	w.await(t, "the device that came to be meant ran it", succeeded(follow, 1))
	// It fell due this minute before it was begun: tomorrow is its first time.
	j := must(client.Result(w.owner.GetJobWithResponse(t.Context(), recurs)))(t)
	if n := len(j.Counts); n > 0 || j.NextAt == nil || j.NextAt.Sub(minute) != 24*time.Hour {
		t.Errorf("it recurs: %v, next %v", j.Counts, j.NextAt)
	}
	must(client.Result(w.owner.SteerJobWithResponse(t.Context(), recurs, api.JobAction{Action: "cancel"})))(t)
	w.jobIs(t, recurs, "cancelled")
	page := must(client.Result(w.owner.ListDeviceRunsWithResponse(t.Context(), d.id, &api.ListDeviceRunsParams{})))(t).Items
	if len(page) < 4 || page[0].JobName != "follow" || page[0].Run.State != "succeeded" {
		t.Errorf("what jobs did at the device: %+v", page)
	}
	cmp := must(client.Result(w.owner.CompareJobsWithResponse(t.Context(), online, &api.CompareJobsParams{With: online})))(t).Items
	if len(cmp) != 1 || cmp[0].Changed || cmp[0].Before == nil || cmp[0].After == nil || cmp[0].Before.ID == cmp[0].After.ID {
		t.Errorf("two turns beside each other: %+v", cmp)
	}
	// What falls due is done once, also when the service is started again in the same minute.
	w.awaitFor(t, 3*time.Minute, "it fell due", succeeded(soon, 1))
	w.Stop()
	w.start(t)
	w.await(t, "the devices are back", func() bool { return w.Online() == 2 })
	if j := must(client.Result(w.owner.GetJobWithResponse(t.Context(), soon)))(t); j.Counts["succeeded"] != 1 || len(*j.Turns) != 1 ||
		(*j.Turns)[0] != next.Format("2006-01-02 15:04") || j.NextAt.Sub(next) != 24*time.Hour {
		t.Errorf("%+v, turns %v, next %v", j.Counts, *j.Turns, j.NextAt)
	}
	// Who began it may do less now: it begins nothing more.
	lesser := w.client(t, w.personWith(t, wholly(access.Technician)))
	me := must(client.Result(lesser.GetMeWithResponse(t.Context())))(t)
	theirs := must(client.Made(lesser.AddJobWithResponse(t.Context(),
		api.NewJob{Script: hello, Name: new("theirs"), Where: new(""), When: &job.When{Event: job.Online}})))(t)
	must(client.Result(w.owner.SetPersonWithResponse(t.Context(), me.ID,
		api.PersonChange{Name: me.Name, Grants: wholly(access.Viewer)})))(t)
	mine := must(client.Result(w.owner.GetJobWithResponse(t.Context(), online)))(t).Counts["succeeded"]
	for range 3 { // each time, however soon it is after the one before
		w.Bus.IdentityRevoked.Publish(t.Context(), d.id)
		w.awaitFor(t, 2*time.Minute, "mine went on", func() bool {
			return must(client.Result(w.owner.GetJobWithResponse(t.Context(), online)))(t).Counts["succeeded"] > mine
		})
		mine++
	}
	if got := must(client.Result(w.owner.GetJobWithResponse(t.Context(), theirs.ID)))(t); len(got.Counts) != 0 {
		t.Errorf("theirs went on: %v", got.Counts)
	}
}

// A run waits for a maintenance window, for what must hold of its device, and behind another job's; each
// says so; a window that never opens is told when the job is planned.
func TestWhatRunsWaitFor(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "sal-records")
	devices := &[]uuid.UUID{d.id}
	w.await(t, "it is known what it is",
		func() bool { return must(w.owner.Device(t.Context(), d.id))(t).Device.OS == "linux" })
	place := t.TempDir()
	quick := w.scriptID(t, "Quick", "echo quick\n", nil)
	waits := func(id uuid.UUID, words string) {
		t.Helper()
		w.await(t, "it waits "+words, func() bool {
			r := w.jobRuns(t, id)[0]
			return r.State == "waiting" && r.Reason != nil && strings.Contains(*r.Reason, words)
		})
	}
	plan := w.job(t, api.NewJob{Script: quick, Devices: devices, When: &job.When{Windows: true}, Limits: &job.Limits{WaitHours: 2},
		Plan: new(true)})
	if *plan.ShutCount != 1 || (*plan.Shut)[0] != "sal-records" {
		t.Errorf("a window that never opens: %+v", plan)
	}
	inWindow := w.job(t, api.NewJob{Script: quick, Devices: devices, When: &job.When{Windows: true}, Limits: &job.Limits{WaitHours: 48}})
	waits(inWindow.ID, "the device has none")
	opens := time.Now().UTC().Add(24 * time.Hour)
	span := calendar.Window{Start: opens.Format(calendar.LocalTime), Minutes: 60, Zone: "UTC"}
	made := must(client.Made(w.owner.AddWindowWithResponse(t.Context(),
		api.NewWindow{Name: "tomorrow", Scope: health.Scope{Kind: health.Everywhere}, Span: span})))(t)
	waits(inWindow.ID, "which opens on "+opens.Format("2 January 15:04"))
	plan = w.job(t, api.NewJob{Script: quick, Devices: devices, When: &job.When{Windows: true}, Limits: &job.Limits{WaitHours: 48},
		Plan: new(true)})
	if *plan.ShutCount != 0 || plan.Opens == nil || !plan.Opens.Equal(opens.Truncate(time.Minute)) {
		t.Errorf("planned %+v", plan)
	}

	needs := w.job(t, api.NewJob{Script: quick, Devices: devices, When: &job.When{Needs: `"ready" in tags`},
		Limits: &job.Limits{WaitHours: 2}})
	waits(needs.ID, `hold that "ready" in tags`)
	must(client.Result(w.owner.SetTagsWithResponse(t.Context(), d.id, api.TagList{Tags: []string{"ready"}})))(t)
	w.jobIs(t, needs.ID, "done")

	first := w.job(t, api.NewJob{Script: w.scriptID(t, "First", "until [ -e "+place+"/go ]; do sleep 0.1; done; echo first >> "+place+
		"/order\n", nil), Name: new("The first"), Devices: devices})
	w.await(t, "the first runs", func() bool { return w.jobRuns(t, first.ID)[0].State == "sent" })
	plan = w.job(t, api.NewJob{Script: quick, Devices: devices, Plan: new(true)})
	if *plan.Busy != 1 {
		t.Errorf("planned %+v", plan)
	}
	second := w.job(t, api.NewJob{Script: w.scriptID(t, "Second", "echo second >> "+place+"/order\n", nil), Devices: devices})
	waits(second.ID, "behind the job The first")
	os.WriteFile(place+"/go", nil, 0o600)
	w.jobIs(t, second.ID, "done")
	if text, _ := os.ReadFile(place + "/order"); string(text) != "first\nsecond\n" {
		t.Errorf("they ran as %q", text)
	}

	span.Start = time.Now().UTC().Add(-time.Minute).Format(calendar.LocalTime)
	must(client.Result(w.owner.SetWindowWithResponse(t.Context(), made.ID,
		api.NewWindow{Name: "now", Scope: health.Scope{Kind: health.Everywhere}, Span: span})))(t)
	w.jobIs(t, inWindow.ID, "done")

	for words, in := range map[string]api.NewJob{
		"choose one":           {Script: quick, When: &job.When{Event: "online", Follow: true}},
		"an event is":          {Script: quick, When: &job.When{Event: "eclipse"}},
		"undeclared reference": {Script: quick, When: &job.When{Needs: "moon"}},
		"one of them alone":    {},
		"tried on one device":  {Draft: new("# --- moorwatch\n# name: x\n# interpreter: sh\n# ---\ntrue\n")},
	} {
		in.Where = new("")
		_, err := client.Made(w.owner.AddJobWithResponse(t.Context(), in))
		refused(t, err, http.StatusBadRequest, words)
	}
	_, err := client.Made(w.person(t, access.Helper).AddJobWithResponse(t.Context(), api.NewJob{Draft: new("true"), Devices: devices}))
	refused(t, err, http.StatusForbidden, "")
	draft := w.job(t, api.NewJob{Draft: new("#!/bin/sh\r\n# --- moorwatch\r\n# name: Draft\r\n# interpreter: sh\r\n# ---\r\necho " +
		"drafted\r\n"), Devices: devices})
	w.jobIs(t, draft.ID, "done")
	if r := w.jobRuns(t, draft.ID)[0]; *r.Output != "drafted\n" {
		t.Errorf("a draft printed %q", *r.Output)
	}
}

// What came of a job is exported whole, and two jobs are compared device by device.
func TestJobsComparedAndExported(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "sal-records")
	place := t.TempDir()
	os.WriteFile(place+"/says", []byte("=before\n"), 0o600)
	s := w.scriptID(t, "Says", "cat "+place+"/says\n", nil)
	one := w.job(t, api.NewJob{Script: s, Devices: &[]uuid.UUID{d.id}, Limits: &job.Limits{WaitHours: 1}})
	w.jobIs(t, one.ID, "done")
	os.WriteFile(place+"/says", []byte("=after\n"), 0o600)
	two := w.job(t, api.NewJob{Script: s, Devices: &[]uuid.UUID{d.id}, Limits: &job.Limits{WaitHours: 1}})
	w.jobIs(t, two.ID, "done")
	rows := must(client.Result(w.owner.CompareJobsWithResponse(t.Context(), two.ID,
		&api.CompareJobsParams{With: one.ID, Changed: new(true)})))(t).Items
	if len(rows) != 1 || !rows[0].Changed || *rows[0].Before.Output != "=before\n" || *rows[0].After.Output != "=after\n" {
		t.Errorf("%+v", rows)
	}
	three := w.job(t, api.NewJob{Script: s, Devices: &[]uuid.UUID{d.id}, Limits: &job.Limits{WaitHours: 1}})
	w.jobIs(t, three.ID, "done")
	if rows := must(client.Result(w.owner.CompareJobsWithResponse(t.Context(), three.ID,
		&api.CompareJobsParams{With: two.ID, Changed: new(true)})))(t).Items; len(rows) != 0 {
		t.Errorf("alike: %+v", rows)
	}
	for format, want := range map[api.ExportRunsParamsFormat]string{"csv": "sal-records,succeeded,,0,", "jsonl": `"output":"=after\n"`} {
		answer := must(w.owner.ExportRuns(t.Context(), two.ID, &api.ExportRunsParams{Format: format}))(t)
		text := must(io.ReadAll(answer.Body))(t)
		answer.Body.Close()
		if !bytes.Contains(text, []byte(want)) || format == "csv" && !bytes.Contains(text, []byte("'=after")) {
			t.Errorf("%s: %s", format, text)
		}
	}
	slow := must(client.Result(w.owner.ListRunsWithResponse(t.Context(), two.ID, &api.ListRunsParams{Slowest: new(true)})))(t).Items
	if len(slow) != 1 {
		t.Error(fmt.Sprint("the slowest: ", slow))
	}
}

// crowd is a meter whose people are told by the test.
type crowd struct {
	host.Meter
	names *atomic.Pointer[[]string]
}

func (c crowd) Vitals(ctx context.Context) (device.Vitals, error) {
	v, err := c.Meter.Vitals(ctx)
	v.People = nil
	for _, n := range *c.names.Load() {
		v.People = append(v.People, device.SignedIn{Name: n, Where: "console"})
	}
	return v, err
}

// A job answers that somebody signs in, and that a check begins to fail: once each time.
func TestJobsAnswerEvents(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	var names atomic.Pointer[[]string]
	names.Store(&[]string{"Wren"})
	h := sim.Device{Name: "hay-kiosk", Kind: sim.Kiosk, Seed: 6, Dir: t.TempDir()}.Host(time.Now)
	h.Meter = crowd{h.Meter, &names}
	d := w.agent(t, "hay-kiosk", h, nil)
	w.policy(t, "Kiosks", health.Scope{Kind: health.Everywhere}, watched)
	hello := w.scriptID(t, "Hello", "hostname\n", nil)
	stand := func(when job.When) uuid.UUID {
		t.Helper()
		return w.job(t, api.NewJob{Script: hello, Where: new(""), When: &when, Limits: &job.Limits{WaitHours: 1}}).ID
	}
	signed, failed := stand(job.When{Event: job.SignedIn}), stand(job.When{Event: job.Checked, Check: health.CheckService})
	other := stand(job.When{Event: job.Checked, Check: health.CheckDisk})
	ran := func(id uuid.UUID) int {
		return must(client.Result(w.owner.GetJobWithResponse(t.Context(), id)))(t).Counts["succeeded"]
	}
	w.await(t, "who is signed in is known", func() bool {
		return len(must(w.owner.Device(t.Context(), d.id))(t).Device.People) == 1
	})
	wait.Pause(t, 6*time.Second) // the job has looked once: who was there before does not sign in
	names.Store(&[]string{"Wren", "Tobias"})
	w.await(t, "somebody signed in", func() bool { return ran(signed) == 1 })
	names.Store(&[]string{"Tobias"})
	must(client.Result(w.owner.ChangeServiceWithResponse(t.Context(), d.id,
		link.ServiceAction{Action: link.ServiceStop, Name: screenService})))(t)
	w.awaitFor(t, 2*time.Minute, "the check failed", func() bool { return ran(failed) == 1 })
	if ran(signed) != 1 || ran(other) != 0 {
		t.Errorf("who leaves ran it %d times, another check %d times", ran(signed), ran(other))
	}
}
