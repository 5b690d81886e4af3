package session

import (
	"bytes"
	"context"
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
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/session"
	"moorwatch.example/service/front"
)

// manyUsual is how long the answers of many are awaited when nothing else is said.
const manyUsual = 2 * time.Minute

// manyJob is what is done on many devices.
type manyJob struct {
	job
	needs access.Permission
	read  func(answer *http.Response) (*link.Answer, error)
}

// DoOnMany does one thing on many devices: POST /actions.
func (s *Service) DoOnMany(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.ManyAction](c)
		if !ok {
			return nil
		}
		m, err := manyOf(in, front.CallerOf(c))
		if err != nil {
			return err
		}
		if !front.CallerOf(c).Rights.Somewhere(m.needs) {
			return front.Lacking(m.needs)
		}
		preview := in.Preview != nil && *in.Preview
		if err := front.Recent(front.CallerOf(c), time.Now()); err != nil && in.Power != nil && !preview {
			return err
		}
		ctx := c.Request.Context()
		chosen, err := s.devices.Chosen(ctx, front.CallerOf(c), m.needs, in.Where, in.Group)
		if err != nil {
			return err
		}
		tool, _ := session.Find(m.tool)
		var asked []api.Device
		offline := []string{}
		for _, d := range chosen {
			switch {
			case in.Devices != nil && !slices.Contains(*in.Devices, d.ID):
			case d.Online && slices.Contains(d.Capabilities, tool.Capability):
				asked = append(asked, d)
			case len(offline) < sweepOffline:
				offline = append(offline, d.Name)
			}
		}
		if preview {
			n, done := len(asked), true
			c.Header("Content-Type", "application/x-ndjson")
			json.NewEncoder(c.Writer).Encode(api.SweepEvent{Asked: &n, Offline: &offline, Done: &done})
			return nil
		}
		entry := front.EntryOf(c, "many."+m.action, "begun")
		entry.Detail = fmt.Sprintf("%s on %d devices", m.detail, len(asked))
		if err := s.audit.Record(ctx, entry); err != nil {
			return err
		}
		within := manyUsual
		if in.Seconds != nil {
			within = time.Duration(*in.Seconds) * time.Second
		}
		ctx, cancel := context.WithTimeout(ctx, within)
		defer cancel()
		request := c.Copy() // calls may outlast the handler by a moment
		stream(c, ctx, asked, offline, func(ctx context.Context, d api.Device) (*link.Answer, error) { return s.doOne(request, ctx, d, m) })
		return nil
	})
}

// doOne does a job on one of many devices, in a session of its own and on record.
func (s *Service) doOne(c *gin.Context, ctx context.Context, d api.Device, m manyJob) (*link.Answer, error) {
	v, err := s.enter(c, d, m.tool, "")
	if err != nil {
		return nil, plain(err)
	}
	defer v.leave()
	ctx, cancel := v.during(ctx)
	defer cancel()
	entry := front.EntryOf(c, m.action, "begun")
	entry.Device, entry.DeviceName, entry.Detail = d.ID, d.Name, m.detail
	if err := s.audit.Record(ctx, entry); err != nil {
		return nil, err
	}
	v.count(0, 0, 1)
	in := m.in
	if order, ok := in.(link.Command); ok {
		order.Order = uuid.NewString() // each device carries out its own
		in = order
	}
	body, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	var answer *link.Answer
	r, err := s.hub.Call(ctx, http.MethodPost, d.ID, m.path, nil, bytes.NewReader(body))
	if err == nil {
		if r.StatusCode >= 300 {
			err = front.FromDevice(d.Name, r)
		} else {
			answer, err = m.read(r)
		}
		r.Body.Close()
	}
	entry.Result = "done"
	if err != nil {
		err = plain(err)
		entry.Result = "refused: " + err.Error()
	}
	s.audit.Note(entry)
	return answer, err
}

// plain says what went wrong in the words that matter beside a device's name.
func plain(err error) error {
	if p := (*front.Error)(nil); errors.As(err, &p) && p.Detail != "" {
		return errors.New(p.Detail)
	}
	return err
}

// manyOf reads what is to be done, of which there must be one thing.
func manyOf(in api.ManyAction, caller *front.Caller) (m manyJob, err error) {
	bad := func(detail string) error {
		return front.Problem(http.StatusBadRequest, "This cannot be done on many devices.", detail)
	}
	n := 0
	if in.Command != nil {
		n++
		m = manyJob{job{"command", "/commands", *in.Command, "command.start", strings.Join(in.Command.Argv, " ")},
			access.Of("command", access.Act), readCommand}
	}
	if d := in.Process; d != nil {
		n++
		if d.Name == "" {
			return m, bad("Name the processes: their numbers differ from device to device.")
		}
		m = manyJob{processJob(*d), access.Of("processes", access.Act), readOutcome}
	}
	if d := in.Service; d != nil {
		n++
		m = manyJob{serviceJob(*d), access.Of("services", access.Act), readOutcome}
		if d.Action == link.ServiceMode {
			m.needs = access.Of("services", access.Administer)
		}
	}
	if d := in.Power; d != nil {
		n++
		if d.Session != "" {
			return m, bad("Sessions differ from device to device.")
		}
		m = manyJob{powerJob(*d), access.Of("power", access.Act), readOutcome}
		if administers(*d) {
			m.needs = access.Of("power", access.Administer)
		}
	}
	if in.Message != nil {
		n++
		message := *in.Message
		if message.Title == "" {
			message.Title = "Message from " + caller.Name
		}
		m = manyJob{messageJob(message), access.Of("people", access.Act), readMessage}
	}
	if in.Setting != nil {
		n++
		m = manyJob{settingJob(*in.Setting), access.Of("settings", access.Act), readOutcome}
	}
	if in.Query != nil {
		n++
		if err := readable(in.Query.Text); err != nil {
			return m, err
		}
		m = manyJob{queryJob(*in.Query), access.Of("queries", access.See), readRows}
	}
	if n != 1 {
		return m, bad("Give one of command, process, service, power, message, setting and query.")
	}
	return m, nil
}

// readOutcome reads how an action ended. Times in its words differ from device to device, and would
// keep equal answers apart.
func readOutcome(r *http.Response) (*link.Answer, error) {
	var o link.Outcome
	if err := decode(r, &o); err != nil {
		return nil, err
	}
	text := device.CleanText(o.Message)
	value, _, _ := strings.Cut(text, ", after ")
	if value != text {
		value += "."
	}
	return &link.Answer{Value: value, Lines: []string{text}}, nil
}

func readMessage(r *http.Response) (*link.Answer, error) {
	var a link.MessageAnswer
	if err := decode(r, &a); err != nil {
		return nil, err
	}
	text := answered(&a)
	if !a.Shown {
		return nil, errors.New("it was not shown: " + a.Reason)
	}
	return &link.Answer{Value: text, Lines: []string{a.By}}, nil
}

func decode(r *http.Response, v any) error {
	if json.NewDecoder(http.MaxBytesReader(nil, r.Body, link.MaxAnswer)).Decode(v) != nil {
		return errors.New("its answer cannot be read")
	}
	return nil
}

// manyOutput is how much output of a command is kept of each of many devices, in bytes.
const manyOutput = 16 << 10

// readCommand gathers a command's output. A command that fails is an error, so that it is seen.
func readCommand(r *http.Response) (*link.Answer, error) {
	var out []byte
	for in := json.NewDecoder(&limited{r: r.Body}); ; {
		var e link.CommandEvent
		if err := in.Decode(&e); err != nil {
			return nil, errors.New("the connection was lost: whether it ended is not known")
		}
		for _, piece := range [][]byte{e.Stdout, e.Stderr} {
			out = append(out, piece[:min(len(piece), manyOutput-len(out))]...)
		}
		if e.Error != "" {
			return nil, errors.New(device.CleanText(e.Error))
		}
		if e.Exit == nil {
			continue
		}
		a := &link.Answer{Value: "no output"}
		for line := range strings.Lines(strings.ToValidUTF8(string(out), "�")) {
			a.Lines = append(a.Lines, device.CleanText(strings.TrimRight(line, "\r\n")))
		}
		a.Lines = a.Lines[:min(len(a.Lines), link.MaxAnswerLines)]
		if len(a.Lines) > 0 {
			a.Value = strings.Join(a.Lines, "\n")
		}
		if *e.Exit != 0 {
			return nil, fmt.Errorf("exit status %d: %s", *e.Exit, a.Value)
		}
		return a, nil
	}
}
