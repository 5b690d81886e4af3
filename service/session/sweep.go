package session

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/front"
)

// Times and measures of a sweep.
const (
	sweepAtOnce  = 256              // devices asked at the same time
	sweepUsual   = 20 * time.Second // how long answers are waited for
	sweepOffline = 200              // names of silent devices that are listed
)

// askedOf is the permission that a question asks for beside that to sweep: what a tool would tell is told no more
// easily of many.
func askedOf(q link.Question) access.Permission {
	switch {
	case q.Kind == link.AskFile && q.Digest:
		return access.Of("files", access.Read)
	case q.Kind == link.AskFile:
		return access.Of("files", access.See)
	case q.Kind == link.AskRegistry:
		return access.Of("settings", access.See)
	}
	return ""
}

// Sweep puts a question to many devices: POST /sweeps.
func (s *Service) Sweep(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Sweep](c)
		if !ok {
			return nil
		}
		ctx, q := c.Request.Context(), in.Question
		if q.Name == "" && q.Kind != link.AskLogOn {
			return front.Problem(http.StatusBadRequest, "The question names nothing.", "Give the name of what is asked for.")
		}
		chosen, err := s.devices.Chosen(ctx, front.CallerOf(c), access.DeviceSweep, in.Where, in.Group)
		if needs := askedOf(q); err == nil && needs != "" {
			var may []api.Device
			if !front.CallerOf(c).Rights.Somewhere(needs) {
				err = front.Lacking(needs)
			} else if may, err = s.devices.Chosen(ctx, front.CallerOf(c), needs, in.Where, in.Group); err == nil {
				at := map[uuid.UUID]bool{}
				for _, d := range may {
					at[d.ID] = true
				}
				chosen = slices.DeleteFunc(chosen, func(d api.Device) bool { return !at[d.ID] })
			}
		}
		if err != nil {
			return err
		}
		var asked []api.Device
		offline := []string{}
		for _, d := range chosen {
			if d.Online && slices.Contains(d.Capabilities, device.CapabilityQuestions) {
				asked = append(asked, d)
			} else if len(offline) < sweepOffline {
				offline = append(offline, d.Name)
			}
		}
		entry := front.EntryOf(c, "sweep.start", "started")
		entry.Detail = fmt.Sprintf("%s %s of %d devices", q.Kind, q.Name, len(asked))
		body, err := json.Marshal(q)
		if err == nil {
			err = s.audit.Record(ctx, entry)
		}
		if err != nil {
			return err
		}
		within := sweepUsual
		if in.Seconds != nil {
			within = time.Duration(*in.Seconds) * time.Second
		}
		ctx, cancel := context.WithTimeout(ctx, within)
		defer cancel()
		stream(c, ctx, asked, offline, func(ctx context.Context, d api.Device) (*link.Answer, error) { return s.ask(ctx, d.ID, body) })
		return nil
	})
}

// stream asks devices with ask, some at once, and writes what each answers as it comes.
func stream(c *gin.Context, ctx context.Context, asked []api.Device, offline []string,
	ask func(ctx context.Context, d api.Device) (*link.Answer, error)) {
	control := http.NewResponseController(c.Writer)
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	out := json.NewEncoder(c.Writer)
	write := func(e api.SweepEvent) error {
		if err := control.SetWriteDeadline(time.Now().Add(30 * time.Second)); err != nil {
			return err
		}
		return out.Encode(e)
	}
	n := len(asked)
	if write(api.SweepEvent{Asked: &n, Offline: &offline}) != nil || control.Flush() != nil {
		return
	}
	answers := make(chan api.SweepEvent, sweepAtOnce)
	go askAll(ctx, asked, ask, answers)
	silent := map[uuid.UUID]string{}
	for _, d := range asked {
		silent[d.ID] = d.Name
	}
	for e := range answers {
		delete(silent, *e.DeviceID)
		if write(e) != nil || (len(answers) == 0 && control.Flush() != nil) {
			return
		}
	}
	missing := []string{}
	for _, name := range silent {
		missing = append(missing, name)
	}
	slices.Sort(missing)
	done := true
	if write(api.SweepEvent{Done: &done, Silent: &missing}) == nil {
		control.Flush()
	}
}

// askAll asks every device, some at once, and closes answers when all have answered or ctx ended.
func askAll(ctx context.Context, asked []api.Device, ask func(ctx context.Context, d api.Device) (*link.Answer, error),
	answers chan<- api.SweepEvent) {
	defer close(answers)
	var running sync.WaitGroup
	slots := make(chan struct{}, sweepAtOnce)
	for _, d := range asked {
		select {
		case slots <- struct{}{}:
		case <-ctx.Done():
			running.Wait()
			return
		}
		running.Go(func() {
			defer func() { <-slots }()
			answer, err := ask(ctx, d)
			if ctx.Err() != nil {
				return // it is among those that did not answer
			}
			e := api.SweepEvent{Device: &d.Name, DeviceID: &d.ID, Site: &d.Site}
			if err != nil {
				text := device.CleanText(err.Error())
				e.Error = &text
			} else {
				e.Answer = answer
			}
			select {
			case answers <- e:
			case <-ctx.Done():
			}
		})
	}
	running.Wait()
}

func (s *Service) ask(ctx context.Context, id uuid.UUID, body []byte) (*link.Answer, error) {
	r, err := s.hub.Call(ctx, http.MethodPost, id, "/questions", nil, bytes.NewReader(body))
	if err != nil {
		return nil, errors.New("it cannot be reached")
	}
	defer r.Body.Close()
	text, err := io.ReadAll(io.LimitReader(r.Body, link.MaxAnswer+1))
	switch {
	case err != nil:
		return nil, errors.New("the connection was lost")
	case r.StatusCode != http.StatusOK:
		return nil, errors.New(string(bytes.TrimSpace(text)))
	case len(text) > link.MaxAnswer:
		return nil, fmt.Errorf("its answer is longer than %d bytes", link.MaxAnswer)
	}
	a := new(link.Answer)
	if err := json.Unmarshal(text, a); err != nil {
		return nil, errors.New("its answer cannot be read")
	}
	a.Value = device.CleanText(a.Value)
	for i := range a.Lines {
		a.Lines[i] = device.CleanText(a.Lines[i])
	}
	a.Lines = a.Lines[:min(len(a.Lines), link.MaxAnswerLines)]
	return a, nil
}
