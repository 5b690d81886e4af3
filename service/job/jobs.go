package job

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/job"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// planned is the state of a job that is only told of; none is kept so.
const planned = "planned"

var see, act = access.Of("scripts", access.See), access.Of("scripts", access.Act)

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
func (c *Service) AddJob(g *gin.Context) {
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
func (c *Service) begin(g *gin.Context, j newJob, action string) {
	entry := front.EntryOf(g, action, "begun")
	if err := c.put(g.Request.Context(), j, entry); err != nil {
		front.Fail(g, err)
		return
	}
	c.show(g, j.id, http.StatusCreated)
}

// put puts a job on record, with whose action it is, and has it begin.
func (c *Service) put(ctx context.Context, j newJob, entry front.Entry) error {
	entry.Detail = fmt.Sprintf("%s, %s on %d devices, job %s", j.name, j.work, len(j.runs), j.id)
	if err := c.audit.Record(ctx, entry); err != nil {
		return err
	}
	if err := c.store.addJob(ctx, j); err != nil {
		return err
	}
	o := &open{Job: job.Job{ID: j.id, Name: j.name, Work: j.work, Limits: j.limits, When: j.when, State: j.state, CreatedAt: time.Now(),
		BeginAt: j.beginAt}, values: j.values, secrets: j.secrets, selection: j.selection, origin: j.origin, owner: j.owner, by: j.by}
	if err := c.learnOwner(ctx, j); err != nil {
		return err
	}
	c.admit(o, j.runs)
	return nil
}

var latest = moment{time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), uuid.Max}

// ListJobs lists jobs: GET /jobs.
func (c *Service) ListJobs(g *gin.Context, in api.ListJobsParams) {
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
			c.tellOwned(&all[i])
		}
		return all, err
	}, func(j api.Job) moment { return moment{j.CreatedAt, j.ID} },
		func(items []api.Job, next *string) any { return api.JobPage{Items: items, Next: next} })
}

// GetJob shows a job: GET /jobs/{id}.
func (c *Service) GetJob(g *gin.Context, id api.ID) { c.show(g, id, http.StatusOK) }

// one reads a job of which the caller sees something, and the devices that they see.
func (c *Service) one(g *gin.Context, id uuid.UUID, p access.Permission) (api.Job, []uuid.UUID, error) {
	ctx := g.Request.Context()
	view, err := c.fleet.View(ctx, front.CallerOf(g), p)
	if err != nil {
		return api.Job{}, nil, err
	}
	found, err := c.store.job(ctx, view, id)
	if db.Missing(err) && view != nil && c.whose(id) == front.CallerOf(g).Email { // one that has no runs yet
		found, err = c.store.job(ctx, nil, id)
	}
	if db.Missing(err) {
		err = front.NotFound("job")
	}
	return found, view, err
}

func (c *Service) show(g *gin.Context, id uuid.UUID, status int) {
	j, err := c.detailed(g, id)
	front.Answer(g, status, j, err)
}

// detailed is a job with what is only told of one at a time.
func (c *Service) detailed(g *gin.Context, id uuid.UUID) (api.Job, error) {
	j, view, err := c.one(g, id, see)
	if err != nil {
		return j, err
	}
	groups, err := c.store.groups(g.Request.Context(), id, view)
	if err != nil {
		return j, err
	}
	j.Groups = &groups
	c.tellOwned(&j)
	if !j.When.Standing() {
		return j, nil
	}
	turns, err := c.store.turns(g.Request.Context(), id)
	j.Turns = &turns
	c.foretell(&j)
	return j, err
}

// ListRuns lists the runs of a job: GET /jobs/{id}/runs.
func (c *Service) ListRuns(g *gin.Context, id api.ID, in api.ListRunsParams) {
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
	}, func(r api.Run) standing { return at[r.ID] },
		func(items []api.Run, next *string) any { return api.RunPage{Items: items, Next: next} })
}

// GetRun shows a run with its output: GET /jobs/{id}/runs/{run}.
func (c *Service) GetRun(g *gin.Context, id api.ID, run uuid.UUID) {
	front.Read(g, func(ctx context.Context) (out api.Run, err error) {
		_, view, err := c.one(g, id, see)
		if err != nil {
			return out, err
		}
		found, _, err := c.store.runs(ctx, runsOf{job: id, one: &run, view: view}, first, 1)
		if err != nil {
			return out, err
		}
		if len(found) == 0 {
			return out, front.NotFound("run of this job")
		}
		c.explain(found)
		return found[0], nil
	})
}

// ListDeviceRuns lists what jobs did at a device: GET /devices/{id}/runs.
func (c *Service) ListDeviceRuns(g *gin.Context, id api.ID, in api.ListDeviceRunsParams) {
	front.List(g, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.DeviceRun, error) {
		return c.store.runsAt(ctx, id, before, limit)
	}, func(r api.DeviceRun) moment { return moment{*r.Run.DueAt, r.Run.ID} },
		func(items []api.DeviceRun, next *string) any { return api.DeviceRunPage{Items: items, Next: next} })
}

// CompareJobs lays what came of a job beside what came of another: GET /jobs/{id}/comparison.
func (c *Service) CompareJobs(g *gin.Context, id api.ID, in api.CompareJobsParams) {
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
func (c *Service) SteerJob(g *gin.Context, id api.ID) {
	in, ok := front.Bind[api.JobAction](g)
	if !ok {
		return
	}
	j, err := c.maySteer(g, id)
	switch {
	case err != nil:
	case in.Action == api.Adopt:
		err = c.adopt(g, id)
	default:
		err = c.steer(g.Request.Context(), id, steered[in.Action])
	}
	if c.done(g, "job."+string(in.Action), j.Name+", job "+id.String(), err) {
		c.show(g, id, http.StatusOK)
	}
}

// maySteer refuses who may not steer a job: that is for who may do so at all of its devices.
func (c *Service) maySteer(g *gin.Context, id uuid.UUID) (api.Job, error) {
	j, view, err := c.one(g, id, act)
	if err != nil || view == nil {
		return j, err
	}
	all, err := c.store.job(g.Request.Context(), nil, id)
	if err == nil && sum(all.Counts) != sum(j.Counts) {
		err = front.Lacking(act)
	}
	return j, err
}

// steered is what a job becomes by an action.
var steered = map[api.JobActionAction]job.JobState{api.Pause: job.JobPaused, api.Resume: job.JobRunning, api.Cancel: job.JobCancelled}

func sum(counts map[string]int) (n int) {
	for _, k := range counts {
		n += k
	}
	return n
}

// RetryJob begins a job anew where it did not succeed: POST /jobs/{id}/retry.
func (c *Service) RetryJob(g *gin.Context, id api.ID) {
	front.Serve(g, func() error {
		ctx, caller := g.Request.Context(), front.CallerOf(g)
		if _, _, err := c.one(g, id, act); err != nil {
			return err
		}
		j, devices, err := c.store.again(ctx, id)
		if err != nil {
			return err
		}
		if len(devices) == 0 {
			return front.Problem(http.StatusConflict, "There is nothing to try again.",
				"No run of this job failed, was interrupted or was missed.")
		}
		j.selection = selection{Devices: devices}
		chosen, err := c.chosen(caller, needed(j.work), j.selection)
		if err != nil {
			return err
		}
		if len(chosen) == 0 {
			return front.Lacking(act)
		}
		secrets, err := c.reveal(id, j.secrets)
		if err != nil {
			return err
		}
		j.id = uuid.New()
		if j.secrets, err = c.hide(j.id, secrets); err != nil {
			return err
		}
		j.state, j.origin, j.beginAt, j.by, j.owner = job.JobRunning, "person", time.Now(), caller.Email, caller.ID
		j.when = job.When{Windows: j.when.Windows, Needs: j.when.Needs}
		j.deadline = j.limits.Awaited(j.beginAt, false)
		j.runs = once(j.work, chosen, j.beginAt, j.deadline)
		c.begin(g, j, "job.retry")
		return nil
	})
}
