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
	"moorwatch.example/service/hub"
)

// send tells a device of a run, or asks what became of it.
func (c *Service) send(ctx context.Context, r *run) {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	c.mu.Lock()
	o, stop, again, journal := r.job, r.cancel, r.again, r.journal
	r.again = true // until an answer has come
	c.mu.Unlock()
	var status link.RunStatus
	var err error
	if stop {
		status, err = c.call(ctx, r.device, "/runs/cancel", link.RunCancel{ID: r.id.String()})
	} else {
		var secrets map[string]string
		if secrets, err = c.reveal(o.id, o.secrets); err != nil {
			c.end(ctx, []outcome{{id: r.id, device: r.device, state: job.Failed,
				reason: "the secrets of the job cannot be read with the service's key", ended: time.Now()}})
			return
		}
		status, err = c.call(ctx, r.device, "/runs", link.RunOrder{Window: c.windowLeft(o, r.device, time.Now()), ID: r.id.String(),
			Journal: journal, Title: o.name, Parts: partsOf(o.work), Env: o.values, Secrets: secrets, Seconds: o.work.Seconds()})
	}
	now := time.Now()
	ended := outcome{id: r.id, device: r.device, ended: now}
	c.mu.Lock()
	r.asking = false
	switch refused := (*refusal)(nil); {
	case errors.As(err, &refused):
		ended.state, ended.reason = job.Failed, "the device refused: "+refused.reason
	case err != nil: // it is asked again once it is connected
		r.later = now.Add(retryAfter)
	case status.State == link.RunEnded && status.Result != nil:
		ended = outcomeOf(r.device, r.id, *status.Result)
	case status.State == link.RunBegun:
		r.again = false
		if stop { // its result is on the way
			r.cancel = false
		}
	case stop: // the device never heard of it
		ended.state, ended.reason = job.Cancelled, "it was cancelled before it began"
	case again: // it may have run before the journal was lost
		ended.state, ended.reason = job.Interrupted, "the device lost its journal after it was told; whether it ran is not known"
	default: // the journal is another than was thought, and the device was never told
		c.journals[r.device] = status.Journal
		r.again = false
		c.move(r, job.Waiting)
	}
	c.mu.Unlock()
	if ended.state != "" {
		c.end(ctx, []outcome{ended})
	}
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
	o := outcome{id: id, device: from, state: job.State(r.State), exit: r.Exit, head: r.Head[:min(len(r.Head), link.RunHead)],
		tail:    r.Tail[:min(len(r.Tail), link.RunTail)],
		dropped: max(r.Dropped, 0), reason: device.CleanText(r.Reason), began: &r.BeganAt, ended: r.EndedAt}
	if y := r.Restarted.Year(); y > 1970 && y < 10_000 {
		o.restart = &r.Restarted
	}
	if !o.state.Over() || o.state == job.Unfit {
		o.state, o.reason = job.Interrupted, "the device told of an end that there is none of"
	}
	return o
}

// ServeJournal takes a device's journal as it connects: POST /journal. Of what it was told before, it is
// asked again.
func (c *Service) ServeJournal(w http.ResponseWriter, r *http.Request) {
	var in link.Journal
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&in); err != nil || uuid.Validate(in.ID) != nil {
		http.Error(w, "a journal has a UUID", http.StatusBadRequest)
		return
	}
	id := hub.Device(r)
	c.mu.Lock()
	c.journals[id] = in.ID
	for _, one := range c.at[id] {
		one.again = one.again || one.state == job.Sent
	}
	c.mu.Unlock()
	c.poke()
	c.Happened(job.Online, id, "")
	w.WriteHeader(http.StatusNoContent)
}

// ServeResults takes how a run ended: POST /results. It answers once that is on disk.
func (c *Service) ServeResults(w http.ResponseWriter, r *http.Request) {
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
		if r := c.runs[o.id]; r != nil && r.device == o.device {
			c.move(r, o.state)
			if r.job.origin != "person" {
				tell = append(tell, told{o, r.job.id})
			}
		}
	}
	c.mu.Unlock()
	for _, t := range tell {
		c.ended(t.job, t.device, t.state == job.Succeeded, why(t.state, t.exit, t.reason))
	}
	c.poke()
	return nil
}
