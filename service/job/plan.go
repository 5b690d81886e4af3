package job

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

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

// samples is how many names of devices a plan tells.
const samples = 20

// unable is why a job cannot be begun.
func unable(err error) error {
	return front.Problem(http.StatusBadRequest, "The job cannot be begun.", err.Error()+".")
}

// needed is the permission that a job's work asks for at each device.
func needed(w job.Work) access.Permission {
	if w.Action == job.RunIt {
		return act
	}
	return access.Of("packages", access.Act)
}

// workOf is the work that is asked for, with what it came from.
func (c *Service) workOf(g *gin.Context, in api.NewJob) (w job.Work, script, pack *uuid.UUID, err error) {
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
func (c *Service) prepare(g *gin.Context, in api.NewJob) (j newJob, chosen []fleet.Target, err error) {
	now := time.Now()
	j = newJob{id: uuid.New(),
		state: job.JobRunning, origin: "person", beginAt: now, by: front.CallerOf(g).Email, owner: front.CallerOf(g).ID}
	if j.work, j.script, j.pack, err = c.workOf(g, in); err != nil {
		return j, nil, err
	}
	j.name = j.work.Name
	if j.work.Action != job.RunIt {
		j.name = strings.ToUpper(j.work.Action[:1]) + j.work.Action[1:] + " " + j.name
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
	if err := checkLater(front.CallerOf(g), j.when); err != nil {
		return j, nil, err
	}
	if in.BeginAt != nil && in.BeginAt.After(now) {
		j.beginAt = *in.BeginAt
	}
	if err := job.CheckBegin(j.beginAt, now); err != nil {
		return j, nil, unable(err)
	}
	j.deadline = j.limits.Awaited(j.beginAt, false)
	if in.Where == nil && in.Group == nil && in.Devices == nil {
		return j, nil, unable(fmt.Errorf("it names no devices: give an expression, a group or a list; an empty expression is all"))
	}
	j.selection = selection{Where: in.Where, Group: in.Group}
	if in.Devices != nil {
		j.selection.Devices = *in.Devices
	}
	if len(secrets) > 0 && in.Devices == nil {
		if err := c.fleet.Trusted(g.Request.Context(), "A secret", in.Where, in.Group); err != nil {
			return j, nil, err
		}
	}
	chosen, err = c.chosen(front.CallerOf(g), needed(j.work), j.selection)
	if err != nil {
		return j, nil, err
	}
	if j.when.Rule != "" || j.when.Event != "" {
		return j, chosen, nil // its runs come with its times and events
	}
	if len(chosen) == 0 && !j.when.Follow {
		return j, nil, unable(fmt.Errorf("no device is selected where you may do this: look at the expression, the group or the list"))
	}
	j.runs = once(j.work, chosen, j.beginAt, j.deadline)
	return j, chosen, nil
}

// chosen are the devices that are targets, among those where the caller holds a permission.
func (c *Service) chosen(caller *front.Caller, p access.Permission, t selection) ([]fleet.Target, error) {
	chosen, err := c.fleet.Targets(caller, p, t.Where, t.Group)
	if err != nil || t.Devices == nil {
		return chosen, err
	}
	chosenIDs := map[uuid.UUID]bool{}
	for _, id := range t.Devices {
		chosenIDs[id] = true
	}
	return slices.DeleteFunc(chosen, func(d fleet.Target) bool { return !chosenIDs[d.ID] }), nil
}

// plan tells what a job would do.
func (c *Service) plan(j newJob, chosen []fleet.Target) api.Job {
	now := time.Now()
	out := api.Job{ID: uuid.Nil, Name: j.name, Work: j.work, Script: j.script, Package: j.pack, State: planned, Limits: j.limits,
		When: j.when, Origin: j.origin,
		BeginAt: j.beginAt, Deadline: &j.deadline, CreatedAt: now, CreatedBy: j.by, Counts: map[string]int{}, Where: j.selection.Where,
		Group: j.selection.Group}
	runs := j.runs
	if len(runs) == 0 { // its runs come later: these would be those of now
		runs = once(j.work, chosen, j.beginAt, j.limits.Awaited(j.beginAt, true))
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
		out.Counts[string(r.State)]++
		if r.State == job.Unfit {
			add(&unfit, r.Name)
			continue
		}
		add(&sample, r.Name)
		if d.Subject.Online {
			online++
		}
		if len(c.schedule.At(d.ID)) > 0 {
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
			at := r.Due
			if at.Before(now) {
				at = now
			}
			open := at
			if c.windows.WindowUntil(d.Place, d.Subject.TimeZone, at).IsZero() {
				open = c.windows.WindowNext(d.Place, d.Subject.TimeZone, at)
			}
			if j.when.Rule == "" && (open.IsZero() || open.After(r.Until)) || open.IsZero() {
				shutCount++
				add(&shut, r.Name)
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
func (c *Service) hide(id uuid.UUID, secrets map[string]string) ([]byte, error) {
	if len(secrets) == 0 {
		return nil, nil
	}
	text, err := json.Marshal(secrets)
	return c.box.Seal(string(text), "job "+id.String()), err
}

func (c *Service) reveal(id uuid.UUID, sealed []byte) (secrets map[string]string, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	text, err := c.box.Open(sealed, "job "+id.String())
	if err == nil {
		err = json.Unmarshal([]byte(text), &secrets)
	}
	return secrets, err
}
