package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	scriptfile "moorwatch.example/core/script"
	"moorwatch.example/service/db"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
)

// States of a job.
const (
	planned   = "planned" // its begin is still to come; it is never kept so
	running   = "running"
	paused    = "paused"
	stopped   = "stopped" // by its limit of failures
	cancelled = "cancelled"
	done      = "done"
)

var see, act = access.Of("scripts", access.See), access.Of("scripts", access.Act)

// samples is how many names of devices a plan tells.
const samples = 20

// shown is output as it may be shown anywhere: text without what steers a terminal.
func shown(b []byte) string {
	return strings.Map(func(r rune) rune {
		if r == utf8.RuneError || (unicode.IsControl(r) && r != '\n' && r != '\t') {
			return '\uFFFD'
		}
		return r
	}, strings.ReplaceAll(strings.ToValidUTF8(string(b), "\uFFFD"), "\r\n", "\n"))
}

// AddJob begins a job, or tells what it would do: POST /jobs.
func (c *Column) AddJob(g *gin.Context) {
	in, ok := front.Bind[api.NewJob](g)
	if !ok {
		return
	}
	j, chosen, err := c.prepare(g, in)
	if err != nil {
		front.Fail(g, err)
		return
	}
	if in.Plan != nil && *in.Plan {
		g.JSON(http.StatusCreated, c.plan(j, chosen))
		return
	}
	c.begin(g, j, "job.begin")
}

// begin puts a prepared job on record and has it begin.
func (c *Column) begin(g *gin.Context, j newJob, action string) {
	deed := front.DeedOf(g, action, "begun")
	if err := c.put(g.Request.Context(), j, deed); err != nil {
		front.Fail(g, err)
		return
	}
	c.show(g, j.id, http.StatusCreated)
}

// put puts a job on record, with whose deed it is, and has it begin.
func (c *Column) put(ctx context.Context, j newJob, deed front.Deed) error {
	deed.Detail = fmt.Sprintf("%s, %s on %d devices, job %s", j.name, j.work, len(j.runs), j.id)
	if err := c.audit.Record(ctx, deed); err != nil {
		return err
	}
	if err := c.store.addJob(ctx, j); err != nil {
		return err
	}
	o := newOpen()
	o.id, o.name, o.work, o.values, o.secrets, o.limits, o.when, o.target, o.origin = j.id, j.name, j.work, j.values, j.secrets, j.limits, j.when, j.target, j.origin
	o.state, o.beginAt, o.deadline, o.createdAt, o.by = j.state, j.beginAt, j.deadline, time.Now(), j.by
	for _, r := range j.runs {
		o.known[r.device] = true
	}
	c.admit(o, j.runs)
	return nil
}

// unable is why a job cannot be begun.
func unable(err error) error {
	return front.Problem(http.StatusBadRequest, "The job cannot be begun.", err.Error()+".")
}

// needed is the permission that a job's work asks for at each device.
func needed(w job.Work) access.Permission {
	if w.Deed == job.Run {
		return act
	}
	return access.Of("packages", access.Act)
}

// workOf is the work that is asked for, with what it came from.
func (c *Column) workOf(g *gin.Context, in api.NewJob) (w job.Work, script, pack *uuid.UUID, err error) {
	ctx := g.Request.Context()
	given := 0
	for _, there := range []bool{in.Script != nil, in.Package != nil, in.Draft != nil} {
		if there {
			given++
		}
	}
	switch {
	case given != 1:
		return w, nil, nil, unable(fmt.Errorf("give a script, a package or a draft of a script, and one of them alone"))
	case in.Package != nil:
		w, err = c.packageWork(ctx, *in.Package, in.Version, in.Remove != nil && *in.Remove)
		return w, nil, in.Package, err
	case in.Draft != nil:
		if !front.CallerOf(g).Rights.Everywhere(access.Of("scripts", access.Administer)) {
			return w, nil, nil, front.Lacking(access.Of("scripts", access.Administer))
		}
		if in.Devices == nil || len(*in.Devices) != 1 {
			return w, nil, nil, unable(fmt.Errorf("a draft is tried on one device: name it"))
		}
		s, err := scriptfile.Parse([]byte(*in.Draft))
		if err != nil {
			return w, nil, nil, unable(err)
		}
		return job.OfScript(s, 0), nil, nil, nil
	}
	s, err := c.store.script(ctx, *in.Script, in.Version)
	if db.Missing(err) {
		return w, nil, nil, front.NotFound("script, or version of it")
	}
	return job.OfScript(s.Content, s.Version), &s.ID, nil, err
}

// prepare makes a job of what is asked for, with a run for each device.
func (c *Column) prepare(g *gin.Context, in api.NewJob) (j newJob, chosen []fleet.Meant, err error) {
	now := time.Now()
	j = newJob{id: uuid.New(), state: running, origin: "person", beginAt: now, by: front.CallerOf(g).Email}
	if j.work, j.script, j.pack, err = c.workOf(g, in); err != nil {
		return j, nil, err
	}
	j.name = j.work.Name
	if j.work.Deed != job.Run {
		j.name = strings.ToUpper(j.work.Deed[:1]) + j.work.Deed[1:] + " " + j.name
	}
	if in.Name != nil && strings.TrimSpace(*in.Name) != "" {
		j.name = device.CleanText(strings.TrimSpace(*in.Name))
	}
	var given, secrets map[string]string
	if in.Values != nil {
		given = *in.Values
	}
	if j.values, secrets, err = scriptfile.Values(j.work.Parameters(), given); err != nil {
		return j, nil, unable(err)
	}
	if j.secrets, err = c.hide(j.id, secrets); err != nil {
		return j, nil, err
	}
	if in.Limits != nil {
		j.limits = *in.Limits
	}
	if in.When != nil {
		j.when = *in.When
	}
	if err := errors.Join(j.limits.Validate(), j.when.Validate(now)); err != nil {
		return j, nil, unable(err)
	}
	if in.BeginAt != nil && in.BeginAt.After(now) {
		j.beginAt = *in.BeginAt
	}
	j.deadline = j.limits.Awaited(j.beginAt, false)
	if in.Where == nil && in.Group == nil && in.Devices == nil {
		return j, nil, unable(fmt.Errorf("it names no devices: give an expression, a group or a list; an empty expression is all"))
	}
	j.target = target{Where: in.Where, Group: in.Group}
	if in.Devices != nil {
		j.target.Devices = *in.Devices
	}
	chosen, err = c.chosen(front.CallerOf(g), needed(j.work), j.target)
	if err != nil {
		return j, nil, err
	}
	if j.when.Rule != "" || j.when.Event != "" {
		return j, chosen, nil // its runs come with its times and events
	}
	if len(chosen) == 0 && !j.when.Follow {
		return j, nil, unable(fmt.Errorf("no device is meant where you may do this: look at the expression, the group or the list"))
	}
	j.runs = runsFor(j.work, chosen, "", j.beginAt, func(time.Time) time.Time { return j.deadline })
	return j, chosen, nil
}

// chosen are the devices that are meant, among those where the caller holds a permission.
func (c *Column) chosen(caller *front.Caller, p access.Permission, t target) ([]fleet.Meant, error) {
	chosen, err := c.fleet.Meant(caller, p, t.Where, t.Group)
	if err != nil || t.Devices == nil {
		return chosen, err
	}
	meant := map[uuid.UUID]bool{}
	for _, id := range t.Devices {
		meant[id] = true
	}
	return slices.DeleteFunc(chosen, func(d fleet.Meant) bool { return !meant[d.ID] }), nil
}

// runsFor makes the runs of work on devices, due at a time; those where it cannot be done are over at
// once.
func runsFor(w job.Work, devices []fleet.Meant, turn string, due time.Time, until func(due time.Time) time.Time) (runs []*run) {
	want := device.CapabilityCommands
	if w.Deed != job.Run {
		want = device.CapabilityPackages
	}
	for i, m := range devices {
		d := m.Subject
		r := &run{id: uuid.New(), device: m.ID, name: d.Name, site: d.Organisation + "/" + d.Site, place: float64(i) / float64(len(devices)), turn: turn, due: due, until: until(due), state: job.Waiting}
		if d.OS != "" {
			if ok, why := w.Fits(d.OS); !ok {
				r.state, r.reason = job.Unfit, why
			}
		}
		if r.state == job.Waiting && !slices.Contains(d.Capabilities, want) && d.Online {
			r.state, r.reason = job.Unfit, "its agent does not offer "+want
		}
		runs = append(runs, r)
	}
	return runs
}

// plan tells what a job would do.
func (c *Column) plan(j newJob, chosen []fleet.Meant) api.Job {
	now := time.Now()
	out := api.Job{ID: uuid.Nil, Name: j.name, Work: j.work, Script: j.script, Package: j.pack, State: planned, Limits: j.limits, When: j.when, Origin: j.origin,
		BeginAt: j.beginAt, Deadline: &j.deadline, CreatedAt: now, CreatedBy: j.by, Counts: map[string]int{}, Where: j.target.Where, Group: j.target.Group}
	runs := j.runs
	if len(runs) == 0 { // its runs come later: these would be those of now
		runs = runsFor(j.work, chosen, "", j.beginAt, func(due time.Time) time.Time { return j.limits.Awaited(due, true) })
	}
	online, busy, shutCount := 0, 0, 0
	sample, unfit, shut := []string{}, []string{}, []string{}
	var opens, next time.Time
	falls := map[string]time.Time{} // by the name of a time zone
	add := func(list *[]string, name string) {
		if len(*list) < samples {
			*list = append(*list, name)
		}
	}
	earliest := func(at *time.Time, t time.Time) {
		if !t.IsZero() && (at.IsZero() || t.Before(*at)) {
			*at = t
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, r := range runs {
		d := chosen[i]
		out.Counts[string(r.state)]++
		if r.state == job.Unfit {
			add(&unfit, r.name)
			continue
		}
		add(&sample, r.name)
		if d.Subject.Online {
			online++
		}
		if len(c.at[d.ID]) > 0 {
			busy++
		}
		if j.when.Rule != "" {
			name := d.Subject.TimeZone
			if _, ok := falls[name]; !ok {
				falls[name] = j.when.Next(now, calendar.Zone(name))
			}
			earliest(&next, falls[name])
		}
		if j.when.Windows {
			at := r.due
			if at.Before(now) {
				at = now
			}
			open := at
			if c.windows.WindowUntil(d.Place, d.Subject.TimeZone, at).IsZero() {
				open = c.windows.WindowNext(d.Place, d.Subject.TimeZone, at)
			}
			if j.when.Rule == "" && (open.IsZero() || open.After(r.until)) || open.IsZero() {
				shutCount++
				add(&shut, r.name)
			} else {
				earliest(&opens, open)
			}
		}
	}
	out.Online, out.Sample, out.Unfit, out.Busy, out.ShutCount, out.Shut = &online, &sample, &unfit, &busy, &shutCount, &shut
	if !opens.IsZero() {
		out.Opens = &opens
	}
	if !next.IsZero() {
		out.NextAt = &next
	}
	return out
}

// hide seals the secrets of a job; reveal reads them again.
func (c *Column) hide(id uuid.UUID, secrets map[string]string) ([]byte, error) {
	if len(secrets) == 0 {
		return nil, nil
	}
	text, err := json.Marshal(secrets)
	return c.box.Seal(string(text), "job "+id.String()), err
}

func (c *Column) reveal(id uuid.UUID, sealed []byte) (secrets map[string]string, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	text, err := c.box.Open(sealed, "job "+id.String())
	if err == nil {
		err = json.Unmarshal([]byte(text), &secrets)
	}
	return secrets, err
}

var latest = moment{time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), uuid.Max}

// ListJobs lists jobs: GET /jobs.
func (c *Column) ListJobs(g *gin.Context, in api.ListJobsParams) {
	view, err := c.fleet.View(g.Request.Context(), front.CallerOf(g), see)
	if err != nil {
		front.Fail(g, err)
		return
	}
	w := sought{origin: "person", device: in.Device}
	if in.Origin != nil {
		if w.origin = string(*in.Origin); w.origin == "all" {
			w.origin = ""
		}
	}
	front.List(g, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.Job, error) {
		all, err := c.store.jobs(ctx, view, w, before, limit)
		for i := range all {
			c.foretell(&all[i])
		}
		return all, err
	}, func(j api.Job) moment { return moment{j.CreatedAt, j.ID} }, func(items []api.Job, next *string) any { return api.JobPage{Items: items, Next: next} })
}

// GetJob shows a job: GET /jobs/{id}.
func (c *Column) GetJob(g *gin.Context, id api.ID) { c.show(g, id, http.StatusOK) }

// one reads a job of which the caller sees something, and the devices that they see.
func (c *Column) one(g *gin.Context, id uuid.UUID, p access.Permission) (api.Job, []uuid.UUID, error) {
	ctx := g.Request.Context()
	view, err := c.fleet.View(ctx, front.CallerOf(g), p)
	if err != nil {
		return api.Job{}, nil, err
	}
	found, err := c.store.jobs(ctx, view, sought{id: &id}, latest, 1)
	if err == nil && len(found) == 0 && view != nil && c.whose(id) == front.CallerOf(g).Email { // one that has no runs yet
		found, err = c.store.jobs(ctx, nil, sought{id: &id}, latest, 1)
	}
	if err == nil && len(found) == 0 {
		err = front.NotFound("job")
	}
	if err != nil {
		return api.Job{}, nil, err
	}
	return found[0], view, nil
}

func (c *Column) show(g *gin.Context, id uuid.UUID, status int) {
	j, view, err := c.one(g, id, see)
	if err == nil {
		var groups []job.Group
		groups, err = c.store.groups(g.Request.Context(), id, view)
		j.Groups = &groups
	}
	if err == nil && j.When.Standing() {
		var turns []string
		turns, err = c.store.turns(g.Request.Context(), id)
		j.Turns = &turns
		c.foretell(&j)
	}
	if err != nil {
		front.Fail(g, err)
		return
	}
	g.JSON(status, j)
}

// ListRuns lists the runs of a job: GET /jobs/{id}/runs.
func (c *Column) ListRuns(g *gin.Context, id api.ID, in api.ListRunsParams) {
	_, view, err := c.one(g, id, see)
	if err != nil {
		front.Fail(g, err)
		return
	}
	w := runsOf{job: id, view: view, slowest: in.Slowest != nil && *in.Slowest}
	if in.State != nil {
		w.state = *in.State
	}
	if in.Turn != nil {
		w.turn = *in.Turn
	}
	var at map[uuid.UUID]standing
	front.List(g, in.Cursor, in.Limit, first, func(ctx context.Context, after standing, limit int) (out []api.Run, err error) {
		out, at, err = c.store.runs(ctx, w, after, limit)
		c.explain(out)
		return out, err
	}, func(r api.Run) standing { return at[r.ID] }, func(items []api.Run, next *string) any { return api.RunPage{Items: items, Next: next} })
}

// GetRun shows a run with its output: GET /jobs/{id}/runs/{run}.
func (c *Column) GetRun(g *gin.Context, id api.ID, run uuid.UUID) {
	_, view, err := c.one(g, id, see)
	var found []api.Run
	if err == nil {
		found, _, err = c.store.runs(g.Request.Context(), runsOf{job: id, one: &run, view: view}, first, 1)
	}
	if err == nil && len(found) == 0 {
		err = front.NotFound("run of this job")
	}
	if err != nil {
		front.Fail(g, err)
		return
	}
	c.explain(found)
	g.JSON(http.StatusOK, found[0])
}

// ListDeviceRuns lists what jobs did at a device: GET /devices/{id}/runs.
func (c *Column) ListDeviceRuns(g *gin.Context, id api.ID, in api.ListDeviceRunsParams) {
	front.List(g, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.DeviceRun, error) {
		return c.store.runsAt(ctx, id, before, limit)
	}, func(r api.DeviceRun) moment { return moment{*r.Run.DueAt, r.Run.ID} }, func(items []api.DeviceRun, next *string) any { return api.DeviceRunPage{Items: items, Next: next} })
}

// CompareJobs lays what came of a job beside what came of another: GET /jobs/{id}/comparison.
func (c *Column) CompareJobs(g *gin.Context, id api.ID, in api.CompareJobsParams) {
	_, view, err := c.one(g, id, see)
	if err == nil {
		_, _, err = c.one(g, in.With, see)
	}
	if err != nil {
		front.Fail(g, err)
		return
	}
	front.List(g, in.Cursor, in.Limit, named{}, func(ctx context.Context, after named, limit int) ([]pair, error) {
		return c.store.compared(ctx, in.With, id, view, in.Changed != nil && *in.Changed, after, limit)
	}, func(p pair) named { return named{p.name, p.device.String()} }, func(items []pair, next *string) any {
		out := make([]api.Comparison, len(items))
		for i, p := range items {
			out[i] = api.Comparison{Device: p.device, DeviceName: p.name, Before: p.before, After: p.after, Changed: p.changed}
		}
		return api.ComparisonPage{Items: out, Next: next}
	})
}

// SteerJob pauses a job, has it go on, or cancels it: PATCH /jobs/{id}.
func (c *Column) SteerJob(g *gin.Context, id api.ID) {
	in, ok := front.Bind[api.JobDeed](g)
	if !ok {
		return
	}
	j, view, err := c.one(g, id, act)
	if err == nil && view != nil { // a job is steered by who may do so at all of its devices
		var all api.Job
		if found, err := c.store.jobs(g.Request.Context(), nil, sought{id: &id}, latest, 1); err == nil && len(found) == 1 {
			all = found[0]
		}
		if sum(all.Counts) != sum(j.Counts) {
			err = front.Lacking(act)
		}
	}
	if err == nil {
		err = c.steer(g.Request.Context(), id, string(in.Deed))
	}
	if c.done(g, "job."+string(in.Deed), j.Name+", job "+id.String(), err) {
		c.show(g, id, http.StatusOK)
	}
}

func sum(counts map[string]int) (n int) {
	for _, k := range counts {
		n += k
	}
	return n
}

// RetryJob begins a job anew where it did not succeed: POST /jobs/{id}/retry.
func (c *Column) RetryJob(g *gin.Context, id api.ID) {
	ctx := g.Request.Context()
	_, _, err := c.one(g, id, act)
	var j newJob
	var devices []uuid.UUID
	if err == nil {
		j, devices, err = c.store.again(ctx, id)
	}
	if err == nil && len(devices) == 0 {
		err = front.Problem(http.StatusConflict, "There is nothing to try again.", "No run of this job failed, was interrupted or was missed.")
	}
	var chosen []fleet.Meant
	if err == nil {
		j.target = target{Devices: devices}
		chosen, err = c.chosen(front.CallerOf(g), needed(j.work), j.target)
	}
	if err == nil && len(chosen) == 0 {
		err = front.Lacking(act)
	}
	var secrets map[string]string
	if err == nil {
		secrets, err = c.reveal(id, j.secrets)
	}
	if err == nil {
		j.id = uuid.New()
		j.secrets, err = c.hide(j.id, secrets)
	}
	if err != nil {
		front.Fail(g, err)
		return
	}
	j.state, j.origin, j.beginAt, j.by = running, "person", time.Now(), front.CallerOf(g).Email
	j.when = job.When{Windows: j.when.Windows, Needs: j.when.Needs}
	j.deadline = j.limits.Awaited(j.beginAt, false)
	j.runs = runsFor(j.work, chosen, "", j.beginAt, func(time.Time) time.Time { return j.deadline })
	c.begin(g, j, "job.retry")
}
