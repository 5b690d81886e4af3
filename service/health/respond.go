package health

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/response"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/front"
)

// Jobs does what responses ask for.
type Jobs interface {
	// Respond has a job of this identity do a step of a response at a device; one that was begun before
	// is not begun again.
	Respond(ctx context.Context, id, device uuid.UUID, name, by string, s response.Step, subject string) error
	// Outcome tells how such a job ended; over is false while it goes on.
	Outcome(ctx context.Context, id uuid.UUID) (over, succeeded bool, reason string, err error)
	// Answerable refuses a step that no job could do.
	Answerable(ctx context.Context, s response.Step) error
}

// responding is a response at a device.
type responding struct {
	response.Progress
	id             uuid.UUID
	device         uuid.UUID
	check, subject string
	policy         health.Source
	job            uuid.UUID // of its last step
	began          time.Time
	ended          time.Time // zero while it is under way
	isNew, touched bool
}

// quietMost is the longest that a response keeps an alert quiet: what it waits for, such as a
// maintenance window, may take long, but a person must hear of it some day.
const quietMost = 8 * 24 * time.Hour

// respond begins what a policy says is done about a finding, or brings up to date what is under way, and
// returns until when nobody is told; zero for now.
func (r *review) respond(j *judged, set *health.Set, f *health.Finding) time.Time {
	say := func(x *responding, text string) {
		if a := j.alert(f.Check, f.Subject); a != nil {
			r.events = append(r.events, happened{a, health.Responding, x.Response.Name + ": " + text})
		}
	}
	begun := 0
	for _, x := range j.responses {
		if x.check != f.Check || x.subject != f.Subject {
			continue
		}
		if x.ended.IsZero() {
			if x.Check(true, r.now) {
				x.touched = true
				r.end(x)
				say(x, lastOf(x.Said))
			}
			r.acted = r.acted || x.State == response.Due
			if x.ended.IsZero() {
				return x.began.Add(quietMost)
			}
			return time.Time{}
		}
		if !x.began.Before(f.Since) {
			return time.Time{} // it was tried since this began
		}
		if a, ok := set.Response(f.Check, f.Subject); ok && x.State != response.Held {
			if _, within := a.Limit(); x.began.After(r.now.Add(-within)) {
				begun++
			}
		}
	}
	found, ok := set.Response(f.Check, f.Subject)
	if !ok {
		return time.Time{}
	}
	x := &responding{Progress: response.Begin(found.Response, begun, r.now), id: uuid.New(), device: j.device, check: f.Check,
		subject: f.Subject, policy: found.Source, began: r.now, isNew: true, touched: true}
	r.end(x)
	j.responses = append([]*responding{x}, j.responses...)
	if !x.ended.IsZero() {
		return time.Time{}
	}
	r.acted = true
	return x.began.Add(quietMost)
}

// recover brings up to date the responses of a device to what does not fail any more.
func (r *review) recover(j *judged) {
	for _, x := range j.responses {
		if !x.ended.IsZero() {
			continue
		}
		failing, alerted := false, false
		for i := range j.findings {
			if f := &j.findings[i]; f.Check == x.check && f.Subject == x.subject {
				failing, alerted = true, !f.Pending
			}
		}
		if alerted || failing && x.State == response.Due {
			continue // it was looked at beside its alert, or waits to be one again
		}
		if x.Check(failing, r.now) {
			x.touched = true
			r.end(x)
			r.acted = r.acted || x.State == response.Due
		}
	}
}

// end notes that a response came further, and perhaps to its end.
func (r *review) end(x *responding) {
	r.moved = append(r.moved, x.device)
	if x.State.Over() {
		x.ended = r.now
	}
}

func lastOf(said []string) string {
	if len(said) == 0 {
		return ""
	}
	return said[len(said)-1]
}

// Times of responses.
const (
	actEvery     = 2 * time.Second
	outcomeEvery = 15 * time.Second
	actAtOnce    = 200
)

// act does what responses have due, until ctx ends.
func (h *Service) act(ctx context.Context) {
	tick := time.NewTicker(actEvery)
	defer tick.Stop()
	asked := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-h.acts:
		}
		err := h.actOnce(ctx)
		if err == nil && time.Since(asked) >= outcomeEvery {
			asked = time.Now()
			err = h.outcomes(ctx)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("responses cannot go on; trying again", "error", err)
		}
	}
}

// stepJob is the identity of the job of a step, so that one that was begun is known again.
func stepJob(id uuid.UUID, step int) uuid.UUID {
	return uuid.NewSHA1(id, binary.BigEndian.AppendUint32([]byte("step "), uint32(step)))
}

func (h *Service) actOnce(ctx context.Context) error {
	due, err := h.store.dueResponses(ctx, actAtOnce)
	if err != nil {
		return err
	}
	for _, x := range due {
		now := time.Now()
		step := x.Response.Steps[x.Step]
		job := uuid.Nil
		if step.Do == response.Wait {
			x.State = response.Doing
			x.Did(true, "", now)
		} else {
			job = stepJob(x.id, x.Step)
			err := h.jobs.Respond(ctx, job, x.device, x.Response.Name, "policy "+x.policy.Name, step, x.subject)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			x.State, x.Since = response.Doing, now
			if err != nil {
				job = uuid.Nil
				x.Did(false, err.Error(), now)
			}
		}
		x.job = job
		if err := h.store.moveResponse(ctx, x); err != nil {
			return err
		}
		h.fleet.Publish("responses", []uuid.UUID{x.device})
	}
	ids, err := h.store.watchedResponses(ctx)
	if err == nil && len(ids) > 0 {
		h.judgeSoon(ids)
	}
	return err
}

// outcomes asks how jobs ended whose end was not heard of, as the service stopped in between.
func (h *Service) outcomes(ctx context.Context) error {
	doing, err := h.store.doingResponses(ctx)
	if err != nil {
		return err
	}
	for _, job := range doing {
		over, succeeded, reason, err := h.jobs.Outcome(ctx, job)
		if err != nil {
			return err
		}
		if over {
			h.runEnded(bus.RunEnded{Job: job, Succeeded: succeeded, Reason: reason})
		}
	}
	return nil
}

// runEnded takes note of what came of a step of a response.
func (h *Service) runEnded(e bus.RunEnded) {
	ctx, cancel := context.WithTimeout(context.Background(), judgeOnce)
	defer cancel()
	device, err := h.store.didResponse(ctx, e.Job, e.Succeeded, e.Reason, time.Now())
	if err != nil {
		slog.Warn("what came of a response cannot be written; it is asked for again", "job", e.Job, "error", err)
		return
	}
	if device != uuid.Nil {
		h.judgeSoon([]uuid.UUID{device})
		h.fleet.Publish("responses", []uuid.UUID{device})
	}
}

// ListResponses lists what policies did by themselves: GET /responses.
func (h *Service) ListResponses(c *gin.Context, in api.ListResponsesParams) {
	view, err := h.fleet.View(c.Request.Context(), front.CallerOf(c), access.FleetRead)
	if err != nil {
		front.Fail(c, err)
		return
	}
	front.List(c, in.Cursor, in.Limit, moment{At: time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), ID: uuid.Max},
		func(ctx context.Context, before moment, limit int) ([]api.ResponseRun, error) {
			return h.store.responses(ctx, view, in.Device, in.Policy, in.Open != nil && *in.Open, before, limit)
		}, func(r api.ResponseRun) moment { return moment{r.BeganAt, r.ID} }, func(items []api.ResponseRun, next *string) any {
			return api.ResponseRunPage{Items: items, Next: next}
		})
}

// mayRespond refuses responses that the caller may not have done, or that no job could do.
func (h *Service) mayRespond(c *gin.Context, in *api.NewPolicy) error {
	ctx := c.Request.Context()
	var steps []response.Step
	if in.Responses != nil {
		names := map[string]bool{}
		for _, r := range *in.Responses {
			if err := r.Validate(); err != nil {
				return bad("The policy cannot be kept.", err.Error())
			}
			if names[r.Name] {
				return bad("The policy cannot be kept.", fmt.Sprintf("two responses are named %s", r.Name))
			}
			if !health.Known(r.Check) {
				return bad("The policy cannot be kept.", fmt.Sprintf("%s: there is no check %q", r.Name, r.Check))
			}
			names[r.Name] = true
			steps = append(steps, r.Steps...)
		}
	}
	for _, s := range in.Settings {
		if s.Fix != "" && s.Check == health.CheckSoftware {
			action := response.Install
			if s.Absent {
				action = response.Remove
			}
			steps = append(steps, response.Step{Do: action, Package: s.Fix})
		} else if s.Fix != "" {
			steps = append(steps, response.Step{Do: response.Set, Path: s.Subject, Value: s.Value})
		}
	}
	for _, s := range steps {
		permission := access.Of("packages", access.Act)
		switch s.Do {
		case response.Script:
			permission = access.Of("scripts", access.Act)
		case response.RestartService, response.StartService:
			permission = access.Of("services", access.Act)
		case response.RestartDevice:
			permission = access.Of("power", access.Administer)
		case response.Set:
			permission = access.Of("settings", access.Act)
		}
		if s.Do != response.Wait {
			if err := h.fleet.MayAt(ctx, front.CallerOf(c), permission, in.Scope); err != nil {
				return err
			}
		}
		if err := h.jobs.Answerable(ctx, s); err != nil {
			return bad("The policy cannot be kept.", strings.TrimSuffix(err.Error(), "."))
		}
	}
	if in.Agent != nil {
		if err := in.Agent.Validate(); err != nil {
			return bad("The policy cannot be kept.", err.Error())
		}
	}
	return nil
}
