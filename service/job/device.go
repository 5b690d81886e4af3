package job

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/work"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/hub"
)

// send tells a device of a run, or asks what became of it.
func (c *Service) send(ctx context.Context, r *job.Run) {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	c.mu.Lock()
	message, o := c.schedule.Tell(r), c.open[r.Job.ID]
	c.mu.Unlock()
	if o == nil {
		return // it is over
	}
	status, err := c.message(ctx, r, o, message)
	answer, result := answerOf(r, status, err)
	c.mu.Lock()
	end := c.schedule.Answered(r, message, answer, time.Now())
	c.mu.Unlock()
	if end != nil {
		result.End = *end
		c.end(ctx, []outcome{result})
	}
}

// message sends a device what it is to be told.
func (c *Service) message(ctx context.Context, r *job.Run, o *open, m job.Message) (link.RunStatus, error) {
	if m.Cancel {
		return c.call(ctx, r.Device, "/runs/cancel", link.RunCancel{ID: r.ID.String()})
	}
	secrets, err := c.reveal(o.ID, o.secrets)
	if err != nil {
		return link.RunStatus{}, errSecrets
	}
	return c.call(ctx, r.Device, "/runs", link.RunOrder{Window: c.windowLeft(o, r.Device, time.Now()), ID: r.ID.String(),
		Journal: m.Journal, Title: o.Name, Parts: partsOf(o.Work), Env: o.values, Secrets: secrets, Seconds: o.Work.Seconds()})
}

var errSecrets = errors.New("the secrets of the job cannot be read with the service's key")

// answerOf is what a device said, and what it told of a run that is over.
func answerOf(r *job.Run, status link.RunStatus, err error) (a job.Answer, result outcome) {
	var refused *refusal
	switch {
	case errors.Is(err, errSecrets):
		a.End = &job.End{Run: r.ID, Device: r.Device, State: job.Failed, Reason: errSecrets.Error(), At: time.Now()}
	case errors.As(err, &refused):
		a.Refused = refused.reason
	case err != nil:
		a.Lost = true
	case status.State == link.RunEnded && status.Result != nil:
		result = outcomeOf(r.Device, r.ID, *status.Result)
		a.End = &result.End
	default:
		a.Begun, a.Journal = status.State == link.RunBegun, status.Journal
	}
	return a, result
}

// partsOf is work as a device is told of it.
func partsOf(w job.Work) (parts []link.RunPart) {
	if s := w.Script; s != nil {
		return []link.RunPart{{Name: s.Name, Steps: []work.Step{{Do: work.Script, Interpreter: s.Interpreter, Body: s.Body,
			Repeatable: s.Repeatable, Seconds: s.Limit()}}}}
	}
	for _, p := range w.Parts {
		part := link.RunPart{Name: p.Package.Name, Version: p.Package.Version, Remove: p.Remove, Having: p.Having, Steps: p.Steps(),
			Files: p.Package.Files}
		if p.Package.There.Kind != "" {
			part.There = &p.Package.There
		}
		parts = append(parts, part)
	}
	return parts
}

// refusal is an answer of a device that says no, for good.
type refusal struct{ reason string }

func (r *refusal) Error() string { return r.reason }

func (c *Service) call(ctx context.Context, id uuid.UUID, path string, in any) (out link.RunStatus, err error) {
	body, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	answer, err := c.hub.Call(ctx, http.MethodPost, id, path, nil, bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, link.MaxResult))
	switch {
	case err != nil:
		return out, err
	case answer.StatusCode == http.StatusInsufficientStorage || answer.StatusCode >= 400 && answer.StatusCode < 500:
		return out, &refusal{device.CleanText(string(text))}
	case answer.StatusCode != http.StatusOK:
		return out, fmt.Errorf("the device answers %d", answer.StatusCode)
	}
	return out, json.Unmarshal(text, &out)
}

func outcomeOf(from, id uuid.UUID, r link.RunResult) outcome {
	o := outcome{End: job.End{Run: id, Device: from, State: job.State(r.State), Reason: device.CleanText(r.Reason), At: r.EndedAt},
		exit: r.Exit, head: r.Head[:min(len(r.Head), link.RunHead)], tail: r.Tail[:min(len(r.Tail), link.RunTail)],
		dropped: max(r.Dropped, 0), began: &r.BeganAt}
	if y := r.Restarted.Year(); y > 1970 && y < 10_000 {
		o.restart = &r.Restarted
	}
	if !o.State.Over() || o.State == job.Unfit {
		o.State, o.Reason = job.Interrupted, "the device told of an end that there is none of"
	}
	return o
}

// serveJournal takes a device's journal as it connects: POST /journal. Of what it was told before, it is
// asked again.
func (c *Service) serveJournal(w http.ResponseWriter, r *http.Request) {
	var in link.Journal
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&in); err != nil || uuid.Validate(in.ID) != nil {
		http.Error(w, "a journal has a UUID", http.StatusBadRequest)
		return
	}
	id := hub.Device(r)
	c.mu.Lock()
	c.schedule.Connected(id, in.ID)
	c.mu.Unlock()
	c.poke()
	c.happened(job.Online, id, "")
	w.WriteHeader(http.StatusNoContent)
}

// serveResults takes how a run ended: POST /results. It answers once that is on disk.
func (c *Service) serveResults(w http.ResponseWriter, r *http.Request) {
	var in link.RunResult
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, link.MaxResult)).Decode(&in); err != nil {
		hub.Refuse(w, err)
		return
	}
	id, err := uuid.Parse(in.ID)
	if err != nil {
		http.Error(w, "a run has a UUID", http.StatusBadRequest)
		return
	}
	o := outcomeOf(hub.Device(r), id, in)
	o.done = make(chan error, 1)
	select {
	case c.came <- o:
	case <-r.Context().Done():
		return
	}
	select {
	case err = <-o.done:
	case <-r.Context().Done():
		return
	}
	if err != nil {
		http.Error(w, "the result cannot be stored now; keep it and send it later", http.StatusServiceUnavailable)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// write writes results together as they come.
func (c *Service) write(ctx context.Context) {
	for {
		var all []outcome
		select {
		case <-ctx.Done():
			return
		case o := <-c.came:
			all = append(all, o)
		}
		for full := time.After(gather); len(all) < together && full != nil; {
			select {
			case o := <-c.came:
				all = append(all, o)
			case <-full:
				full = nil
			}
		}
		err := c.end(ctx, all)
		for _, o := range all {
			if o.done != nil {
				o.done <- err
			}
		}
	}
}

// end writes how runs ended, and takes them out of memory. Where the database takes nothing they stay
// as they are, and it is tried again.
func (c *Service) end(ctx context.Context, all []outcome) error {
	if len(all) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), writeWithin)
	defer cancel()
	if _, err := c.store.end(ctx, all); err != nil {
		slog.Warn("results cannot be written; the devices keep them", "error", err)
		return err
	}
	type told struct {
		outcome
		job uuid.UUID
	}
	var tell []told
	c.mu.Lock()
	for _, o := range all {
		r := c.schedule.End(o.End)
		if r == nil {
			continue
		}
		if of := c.open[r.Job.ID]; of != nil && of.origin != "person" {
			tell = append(tell, told{o, r.Job.ID})
		}
	}
	c.mu.Unlock()
	for _, t := range tell {
		c.bus.RunEnded.Publish(ctx, bus.RunEnded{Job: t.job, Device: t.Device, Succeeded: t.State == job.Succeeded,
			Reason: why(t.State, t.exit, t.Reason)})
	}
	c.poke()
	return nil
}
