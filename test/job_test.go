package test

import (
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
)

// script adds a script of lines for sh to the library.
func (w *world) script(t *testing.T, name, body string, change func(*script.Script)) api.Script {
	t.Helper()
	s := script.Script{Name: name, Interpreter: "sh", Body: body}
	if change != nil {
		change(&s)
	}
	return *must(client.Made(w.owner.AddScriptWithResponse(t.Context(), api.NewScript{Content: &s})))(t)
}

// scriptID adds a script, and returns its identity as a job names it.
func (w *world) scriptID(t *testing.T, name, body string, change func(*script.Script)) *uuid.UUID {
	t.Helper()
	s := w.script(t, name, body, change)
	return &s.ID
}

// job begins a job.
func (w *world) job(t *testing.T, in api.NewJob) *api.Job {
	t.Helper()
	return must(client.Made(w.owner.AddJobWithResponse(t.Context(), in)))(t)
}

// jobIs waits until a job is over in a state.
func (w *world) jobIs(t *testing.T, id uuid.UUID, state string) (j *api.Job) {
	t.Helper()
	w.await(t, "the job is "+state, func() bool {
		j = must(client.Result(w.owner.GetJobWithResponse(t.Context(), id)))(t)
		return j.State == state && j.EndedAt != nil
	})
	return j
}

func (w *world) jobRuns(t *testing.T, id uuid.UUID) (all []api.Run) {
	t.Helper()
	for r, err := range client.Pages(func(cursor *string) (*api.RunPage, error) {
		return client.Result(w.owner.ListRunsWithResponse(t.Context(), id, &api.ListRunsParams{Cursor: cursor, Limit: new(2)}))
	}) {
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, r)
	}
	return all
}

// A script is written, changed and run on several devices: planned before, its outputs grouped and kept,
// its secrets told to nobody; one device fails, one is away and awaited; it is tried again where it
// failed.
func TestJobs(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "sal-records")
	w.simulated(t, "hay-desk-01")
	away := w.simulated(t, "hay-desk-02")
	away.stop()
	w.await(t, "one is away", func() bool { return !must(w.owner.Device(t.Context(), away.id))(t).Device.Online })
	place := t.TempDir()
	s := w.script(t, "Mark", "echo \"$WORD and $KEY\" | tee -a "+place+"/mark; tr '\\0' ' ' < /proc/$PPID/cmdline > "+place+
		"/seen; ps -ef >> "+place+"/seen; exit $CODE\n", func(s *script.Script) {
		s.Parameters = []script.Parameter{{Name: "WORD", Kind: script.Text, Default: "heather"},
			{Name: "KEY", Kind: script.Secret, Required: true}, {Name: "CODE", Kind: script.Number, Default: "0"}}
	})
	_, err := client.Made(w.owner.AddJobWithResponse(t.Context(), api.NewJob{Script: &s.ID, Where: new("")}))
	refused(t, err, http.StatusBadRequest, "KEY must be given")
	values := map[string]string{"KEY": "bog-cotton-7"}
	_, err = client.Made(w.owner.AddJobWithResponse(t.Context(), api.NewJob{Script: &s.ID, Values: &values}))
	refused(t, err, http.StatusBadRequest, "names no devices")
	var plan *api.Job
	w.await(t, "what each device is, is known", func() bool {
		plan = w.job(t, api.NewJob{Script: &s.ID, Values: &values, Where: new(""), Plan: new(true)})
		return plan.Counts["unfit"] == 2
	})
	if plan.Counts["waiting"] != 1 || plan.Counts["unfit"] != 2 || *plan.Online != 1 ||
		!slices.Equal(*plan.Sample, []string{"sal-records"}) {
		t.Errorf("planned %+v", plan)
	}
	begun := w.job(t, api.NewJob{Script: &s.ID, Values: &values, Where: new("")})
	j := w.jobIs(t, begun.ID, "done")
	if j.Counts["succeeded"] != 1 || j.Counts["unfit"] != 2 || j.EndedAt == nil || (*j.Values)["WORD"] != "heather" ||
		(*j.Values)["KEY"] != "" {
		t.Errorf("%+v", j)
	}
	runs := w.jobRuns(t, j.ID)
	i := slices.IndexFunc(runs, func(r api.Run) bool { return r.Device == d.id })
	one := must(client.Result(w.owner.GetRunWithResponse(t.Context(), j.ID, runs[i].ID)))(t)
	if *one.Output != "heather and ******\n" || one.Exit == nil || *one.Exit != 0 || one.BeganAt == nil {
		t.Errorf("%+v, %q", one, *one.Output)
	}
	if b, _ := os.ReadFile(place + "/mark"); string(b) != "heather and bog-cotton-7\n" {
		t.Errorf("it did %q", b)
	}
	if b, _ := os.ReadFile(place + "/seen"); len(b) < 100 || strings.Contains(string(b), "bog-cotton") {
		t.Errorf("a secret is in the list of processes: %s", b)
	}
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(t.Context())
	var kept string
	if err := db.QueryRow(t.Context(), "SELECT string_agg(j::text, ' ') || (SELECT string_agg(r::text, ' ') FROM runs r) || (SELECT "+
		"string_agg(a::text, ' ') FROM audit a) FROM jobs j").Scan(&kept); err != nil || strings.Contains(kept, "bog-cotton") {
		t.Errorf("a secret is kept as it is: %v", err)
	}

	bad := w.job(t, api.NewJob{Script: &s.ID, Name: new("Bad"), Values: &map[string]string{"KEY": "k", "CODE": "3"},
		Devices: &[]uuid.UUID{d.id}})
	j = w.jobIs(t, bad.ID, "done")
	if g := *j.Groups; j.Counts["failed"] != 1 || len(g) != 1 || g[0].State != job.Failed ||
		!strings.HasPrefix(g[0].Output, "heather and ") {
		t.Errorf("%+v, %+v", j, g)
	}
	again := must(client.Made(w.owner.RetryJobWithResponse(t.Context(), bad.ID)))(t)
	if j = w.jobIs(t, again.ID, "done"); j.Counts["failed"] != 1 || j.Name != "Bad" {
		t.Errorf("tried again %+v", j)
	}

	next := s.Content
	next.Body, next.Systems = "date\necho moss\n", nil
	next.Interpreter, next.Parameters = "powershell", nil
	changed := must(client.Result(w.owner.SetScriptWithResponse(t.Context(), s.ID, api.NewScript{Content: &next})))(t)
	old := must(client.Result(w.owner.GetScriptWithResponse(t.Context(), s.ID, &api.GetScriptParams{Version: new(1)})))(t)
	if changed.Version != 2 || old.Version != 1 || old.Content.Body != s.Content.Body {
		t.Errorf("%+v, %+v", changed, old)
	}
	wait := w.job(t, api.NewJob{Script: &s.ID, Where: new(`os == "windows"`), Limits: &job.Limits{WaitHours: 1}})
	w.await(t, "one has run, and one is awaited", func() bool {
		j = must(client.Result(w.owner.GetJobWithResponse(t.Context(), wait.ID)))(t)
		return j.Counts["succeeded"] == 1 && j.Counts["waiting"] == 1 && j.State == "running"
	})
	w.again(t, away, "hay-desk-02")
	if j = w.jobIs(t, wait.ID, "done"); j.Counts["succeeded"] != 2 {
		t.Errorf("%+v", j)
	}
}

// Jobs are paused and go on, are cancelled while they run, end at their time limit, stop at failures;
// output without end is kept in parts.
func TestJobsAreSteered(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "sal-records")
	devices := &[]uuid.UUID{d.id}
	steer := func(id uuid.UUID, action api.JobActionAction) error {
		_, err := client.Result(w.owner.SteerJobWithResponse(t.Context(), id, api.JobAction{Action: action}))
		return err
	}
	later := time.Now().Add(time.Hour)
	waits := w.job(t, api.NewJob{Script: w.scriptID(t, "True", "true\n", nil), Devices: devices, BeginAt: &later})
	must(0, steer(waits.ID, "pause"))(t)
	must(0, steer(waits.ID, "pause"))(t)
	must(0, steer(waits.ID, "resume"))(t)
	must(0, steer(waits.ID, "cancel"))(t)
	if j := w.jobIs(t, waits.ID, "cancelled"); j.Counts["cancelled"] != 1 {
		t.Errorf("%+v", j)
	}
	refused(t, steer(waits.ID, "resume"), http.StatusConflict, "is over")

	place := t.TempDir()
	long := w.job(t, api.NewJob{Script: w.scriptID(t, "Long", "echo begun; touch "+place+"/begun; sleep 600\n", nil), Devices: devices})
	w.await(t, "it runs", func() bool { _, err := os.Stat(place + "/begun"); return err == nil })
	must(0, steer(long.ID, "cancel"))(t)
	w.jobIs(t, long.ID, "cancelled")
	if r := w.jobRuns(t, long.ID)[0]; r.State != "cancelled" || *r.Output != "begun\n" || !strings.Contains(*r.Reason, "while it ran") {
		t.Errorf("%+v", r)
	}
	slow := w.job(t, api.NewJob{Script: w.scriptID(t, "Slow", "sleep 600 & sleep 600\n", func(s *script.Script) { s.Seconds = 1 }),
		Devices: devices})
	w.jobIs(t, slow.ID, "done")
	if r := w.jobRuns(t, slow.ID)[0]; r.State != "timed-out" || !strings.Contains(*r.Reason, "time limit") {
		t.Errorf("%+v", r)
	}
	much := w.job(t, api.NewJob{Script: w.scriptID(t, "Much",
		"echo first; head -c 5000000 /dev/zero | tr '\\0' x; printf '\\033[2J\\nlast\\n'\n", nil), Devices: devices})
	w.jobIs(t, much.ID, "done")
	r := must(client.Result(w.owner.GetRunWithResponse(t.Context(), much.ID, w.jobRuns(t, much.ID)[0].ID)))(t)
	if !strings.HasPrefix(*r.Output, "first\nxxx") || r.Tail == nil || !strings.HasSuffix(*r.Tail, "\uFFFD[2J\nlast\n") ||
		r.Dropped == nil || *r.Dropped < 4_900_000 || len(*r.Output)+len(*r.Tail) > 70_000 {
		t.Errorf("%d bytes, %v dropped", len(*r.Output), r.Dropped)
	}

	for i := range 6 {
		w.simulated(t, fmt.Sprintf("hay-desk-%02d", i))
	}
	fails := w.script(t, "Fails", "exit 1\n", func(s *script.Script) { s.Interpreter = "powershell" })
	w.await(t, "all are known", func() bool {
		return w.job(t, api.NewJob{Script: &fails.ID, Where: new(`os == "windows"`), Plan: new(true)}).Counts["waiting"] == 6
	})
	stops := w.job(t, api.NewJob{Script: &fails.ID, Where: new(`os == "windows"`), Limits: &job.Limits{AtOnce: 1, StopAfter: 2}})
	j := w.jobIs(t, stops.ID, "stopped")
	if j.Counts["failed"] != 2 || j.Counts["cancelled"] != 4 || !strings.Contains(*j.Reason, "was to stop after 2") {
		t.Errorf("%+v, %s", j, *j.Reason)
	}

	helper := w.person(t, access.Helper)
	_, err := client.Made(helper.AddJobWithResponse(t.Context(), api.NewJob{Script: &fails.ID, Where: new("")}))
	refused(t, err, http.StatusForbidden, "")
	if _, err := client.Result(helper.GetJobWithResponse(t.Context(), stops.ID)); err != nil {
		t.Errorf("a helper may see what came of a job: %v", err)
	}
	viewer := w.person(t, access.Viewer)
	_, err = client.Result(viewer.GetJobWithResponse(t.Context(), stops.ID))
	refused(t, err, http.StatusForbidden, "")
}
