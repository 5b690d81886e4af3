package job

import (
	"context"
	"encoding/json"
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
	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
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
		g.JSON(http.StatusCreated, plan(j, chosen))
		return
	}
	c.begin(g, j, "job.begin")
}

// begin puts a prepared job on record and has it begin.
func (c *Column) begin(g *gin.Context, j newJob, action string) {
	ctx := g.Request.Context()
	deed := front.DeedOf(g, action, "begun")
	deed.Detail = fmt.Sprintf("%s, %s on %d devices, job %s", j.name, j.content.Name, len(j.runs), j.id)
	err := c.audit.Record(ctx, deed)
	if err == nil {
		err = c.store.addJob(ctx, j)
	}
	if err != nil {
		front.Fail(g, err)
		return
	}
	c.admit(&open{id: j.id, name: j.name, content: j.content, values: j.values, secrets: j.secrets, limits: j.limits, state: j.state, beginAt: j.beginAt, deadline: j.deadline,
		waiting: map[uuid.UUID]*run{}, sent: map[uuid.UUID]*run{}, counts: job.Counts{}}, j.runs)
	c.show(g, j.id, http.StatusCreated)
}

// prepare makes a job of what is asked for, with a run for each device.
func (c *Column) prepare(g *gin.Context, in api.NewJob) (j newJob, chosen []fleet.Meant, err error) {
	ctx := g.Request.Context()
	bad := func(err error) error {
		return front.Problem(http.StatusBadRequest, "The job cannot be begun.", err.Error()+".")
	}
	s, err := c.store.script(ctx, in.Script, in.Version)
	if db.Missing(err) {
		return j, nil, front.NotFound("script, or version of it")
	}
	if err != nil {
		return j, nil, err
	}
	var given map[string]string
	if in.Values != nil {
		given = *in.Values
	}
	now := time.Now()
	j = newJob{id: uuid.New(), name: s.Content.Name, script: s.ID, content: s.Content, state: running, beginAt: now, by: front.CallerOf(g).Email}
	if in.Name != nil && strings.TrimSpace(*in.Name) != "" {
		j.name = device.CleanText(strings.TrimSpace(*in.Name))
	}
	var secrets map[string]string
	if j.values, secrets, err = s.Content.Values(given); err != nil {
		return j, nil, bad(err)
	}
	if j.secrets, err = c.hide(j.id, secrets); err != nil {
		return j, nil, err
	}
	if in.Limits != nil {
		j.limits = *in.Limits
	}
	if err := j.limits.Validate(); err != nil {
		return j, nil, bad(err)
	}
	if in.BeginAt != nil && in.BeginAt.After(now) {
		j.beginAt = *in.BeginAt
	}
	j.deadline = j.beginAt.Add(time.Duration(j.limits.WaitHours)*time.Hour + time.Duration(j.limits.Spread)*time.Second)
	if in.Where == nil && in.Group == nil && in.Devices == nil {
		return j, nil, bad(fmt.Errorf("it names no devices: give an expression, a group or a list; an empty expression is all"))
	}
	chosen, err = c.chosen(g, in.Where, in.Group, in.Devices)
	if err != nil {
		return j, nil, err
	}
	if len(chosen) == 0 {
		return j, nil, bad(fmt.Errorf("no device is meant where you may run scripts: look at the expression, the group or the list"))
	}
	j.runs = runsOf(j.content, chosen)
	return j, chosen, nil
}

// chosen are the devices that are meant, among those where the caller may run scripts.
func (c *Column) chosen(g *gin.Context, where *string, group *uuid.UUID, list *[]uuid.UUID) ([]fleet.Meant, error) {
	chosen, err := c.fleet.Meant(front.CallerOf(g), act, where, group)
	if err != nil || list == nil {
		return chosen, err
	}
	meant := map[uuid.UUID]bool{}
	for _, id := range *list {
		meant[id] = true
	}
	return slices.DeleteFunc(chosen, func(d fleet.Meant) bool { return !meant[d.ID] }), nil
}

// runsOf makes the runs of a script on devices; those where it cannot run are over at once.
func runsOf(s script.Script, devices []fleet.Meant) (runs []*run) {
	for i, m := range devices {
		d := m.Subject
		r := &run{id: uuid.New(), device: m.ID, name: d.Name, site: d.Organisation + "/" + d.Site, place: float64(i) / float64(len(devices)), state: job.Waiting}
		switch {
		case d.OS != "" && !s.Runs(d.OS):
			r.state, r.reason = job.Unfit, fmt.Sprintf("the script is not for %s", d.OS)
		case !slices.Contains(d.Capabilities, "commands") && d.Online:
			r.state, r.reason = job.Unfit, "its agent runs no scripts"
		}
		runs = append(runs, r)
	}
	return runs
}

// plan tells what a job would do.
func plan(j newJob, chosen []fleet.Meant) api.Job {
	out := api.Job{ID: uuid.Nil, Name: j.name, Script: j.content, State: planned, Limits: j.limits, BeginAt: j.beginAt, Deadline: &j.deadline, CreatedAt: time.Now(), CreatedBy: j.by, Counts: map[string]int{}}
	online, sample, unfit := 0, []string{}, []string{}
	for i, r := range j.runs {
		out.Counts[string(r.state)]++
		switch {
		case r.state == job.Unfit && len(unfit) < samples:
			unfit = append(unfit, r.name)
		case r.state == job.Waiting && len(sample) < samples:
			sample = append(sample, r.name)
		}
		if chosen[i].Subject.Online && r.state == job.Waiting {
			online++
		}
	}
	out.Online, out.Sample, out.Unfit = &online, &sample, &unfit
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
	front.List(g, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.Job, error) {
		return c.store.jobs(ctx, view, nil, before, limit)
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
	found, err := c.store.jobs(ctx, view, &id, latest, 1)
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
	state := ""
	if in.State != nil {
		state = *in.State
	}
	var ranks map[uuid.UUID]int
	front.List(g, in.Cursor, in.Limit, standing{Rank: -1}, func(ctx context.Context, after standing, limit int) (out []api.Run, err error) {
		out, ranks, err = c.store.runs(ctx, id, nil, view, state, after, limit)
		return out, err
	}, func(r api.Run) standing { return standing{ranks[r.ID], r.DeviceName, r.ID} }, func(items []api.Run, next *string) any { return api.RunPage{Items: items, Next: next} })
}

// GetRun shows a run with its output: GET /jobs/{id}/runs/{run}.
func (c *Column) GetRun(g *gin.Context, id api.ID, run uuid.UUID) {
	_, view, err := c.one(g, id, see)
	var found []api.Run
	if err == nil {
		found, _, err = c.store.runs(g.Request.Context(), id, &run, view, "", standing{Rank: -1}, 1)
	}
	if err == nil && len(found) == 0 {
		err = front.NotFound("run of this job")
	}
	if err != nil {
		front.Fail(g, err)
		return
	}
	g.JSON(http.StatusOK, found[0])
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
		if found, err := c.store.jobs(g.Request.Context(), nil, &id, latest, 1); err == nil && len(found) == 1 {
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
		chosen, err = c.chosen(g, nil, nil, &devices)
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
	j.state, j.beginAt, j.by, j.runs = running, time.Now(), front.CallerOf(g).Email, runsOf(j.content, chosen)
	j.deadline = j.beginAt.Add(time.Duration(j.limits.WaitHours) * time.Hour)
	c.begin(g, j, "job.retry")
}
