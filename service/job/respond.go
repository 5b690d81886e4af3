package job

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/job"
	"moorwatch.example/core/response"
	scriptfile "moorwatch.example/core/script"
	"moorwatch.example/core/work"
	"moorwatch.example/service/db"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
)

// responseHours is how long a response waits for its device, and responseWindow for a maintenance window.
const (
	responseHours  = 24
	responseWindow = 7 * 24
)

// Respond has a job of an identity do a step of a policy's response at a device. One that was begun
// before is not begun again.
func (c *Service) Respond(ctx context.Context, id, device uuid.UUID, name, by string, s response.Step, subject string) error {
	m, ok := c.fleet.Known(device)
	if !ok {
		return errors.New("the device is not known any more")
	}
	w, script, pack, err := c.answerWork(ctx, s, subject)
	if err != nil {
		return err
	}
	now := time.Now()
	j := newJob{id: id, name: name, work: w, script: script, pack: pack, origin: "response", state: job.JobRunning, beginAt: now, by: by,
		when: job.When{Windows: s.Windows}, limits: job.Limits{WaitHours: responseHours},
		selection: selection{Devices: []uuid.UUID{device}}}
	if s.Windows {
		j.limits.WaitHours = responseWindow
	}
	if s.Do == response.Set || s.Do == response.Install || s.Do == response.Remove {
		j.origin = "drift"
	}
	if j.values, _, err = scriptfile.Values(w.Parameters(), s.Values); err != nil {
		return err
	}
	j.deadline = j.limits.Awaited(now, false)
	j.runs = once(w, []fleet.Target{m}, now, j.deadline)
	if r := j.runs[0]; r.State != job.Waiting {
		return errors.New(r.Reason)
	}
	err = c.put(ctx, j, front.Entry{Actor: by, Via: "policy", Action: "response.start", Device: device, DeviceName: m.Subject.Name,
		Result: "begun"})
	if db.Duplicate(err) {
		return nil // it was begun, and this service stopped before that was noted
	}
	return err
}

// answerWork is the work of a step.
func (c *Service) answerWork(ctx context.Context, s response.Step, subject string) (w job.Work, script, pack *uuid.UUID, err error) {
	or := func(text, otherwise string) string {
		if text == "" {
			return otherwise
		}
		return text
	}
	service := or(s.Service, subject)
	switch s.Do {
	case response.Script:
		id, err := uuid.Parse(s.Script)
		if err != nil {
			return w, nil, nil, errors.New("the script is named by its id")
		}
		found, err := c.store.script(ctx, id, nil)
		if db.Missing(err) {
			err = errors.New("the library does not have the script any more")
		}
		return job.OfScript(found.Content, found.Version), &id, nil, err
	case response.Install, response.Remove:
		id, err := uuid.Parse(s.Package)
		if err != nil {
			return w, nil, nil, errors.New("the package is named by its id")
		}
		w, err = c.packageWork(ctx, id, nil, s.Do == response.Remove)
		return w, nil, &id, err
	case response.RestartService:
		w = job.OfSteps("Restart the service "+service, work.Step{Do: work.Service, Name: service, Action: "restart", Seconds: 120})
	case response.StartService:
		w = job.OfSteps("Start the service "+service, work.Step{Do: work.Service, Name: service, Action: "start", Seconds: 120})
	case response.Set:
		path := or(s.Path, subject)
		w = job.OfSteps("Set "+path, work.Step{Do: work.Set, Path: path, Value: s.Value, Seconds: 60})
	case response.RestartDevice:
		w = job.OfSteps("Restart the device", work.Step{Do: work.Restart, Seconds: 300}, work.Step{Do: work.Wait, Seconds: 1})
	default:
		err = fmt.Errorf("this service knows no step %q", s.Do)
	}
	return w, nil, nil, err
}

// Answerable refuses a step that no job could do.
func (c *Service) Answerable(ctx context.Context, s response.Step) error {
	if s.Do == response.Wait {
		return nil
	}
	w, _, _, err := c.answerWork(ctx, s, "it")
	if err != nil {
		return err
	}
	for _, p := range w.Parameters() {
		if p.Kind == scriptfile.Secret {
			return fmt.Errorf("%s asks for a secret, %s, which a policy cannot keep", w.Name, p.Name)
		}
	}
	_, _, err = scriptfile.Values(w.Parameters(), s.Values)
	return err
}

// Outcome tells how a job at one device ended; over is false while it goes on.
func (c *Service) Outcome(ctx context.Context, id uuid.UUID) (over, succeeded bool, reason string, err error) {
	state, exit, reason, err := c.store.onlyRun(ctx, id)
	if db.Missing(err) {
		return true, false, "the job is not there", nil
	}
	s := job.State(state)
	return s.Over(), s == job.Succeeded, why(s, exit, reason), err
}

// why says how a run ended, in words.
func why(s job.State, exit *int, reason string) string {
	switch {
	case s == job.Succeeded:
		return ""
	case reason != "":
		return strings.TrimSuffix(reason, ".")
	case exit != nil:
		return fmt.Sprintf("exit status %d", *exit)
	}
	return string(s)
}
