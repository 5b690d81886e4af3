package session

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/session"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// maxAnswer is the most that a device may answer at once, in bytes.
const maxAnswer = 32 << 20

// job is one call of a tool at a device.
type job struct {
	tool string
	path string // at the agent
	in   any
	// action and detail are for the audit log; a job without an action only looks.
	action, detail string
}

// tool finds a device and a tool that it offers. It fails for a device that is silent.
func (s *Service) tool(c *gin.Context, id uuid.UUID, name string) (api.Device, session.Tool, error) {
	d, err := s.devices.Device(c.Request.Context(), id)
	if err != nil {
		return d, session.Tool{}, err
	}
	t, ok := session.Find(name)
	switch {
	case !ok:
		err = front.Problem(http.StatusBadRequest, "There is no tool "+name+".", "")
	case !d.Online:
		err = front.Unreachable(d.Name, hub.ErrOffline)
	case !slices.Contains(d.Capabilities, t.Capability):
		err = front.Problem(http.StatusConflict, d.Name+" does not offer "+t.Title+".",
			"Its agent lists what it offers; another version or system may offer more.")
	}
	return d, t, err
}

// mayUse tells whether somebody may use a tool at some level.
func mayUse(c *gin.Context, tool string) bool {
	return slices.ContainsFunc([]access.Level{access.See, access.Act, access.Administer},
		func(l access.Level) bool { return front.May(c, access.Of(tool, l)) })
}

// work is a job that may be done now.
type work struct {
	s       *Service
	device  api.Device
	session *activeSession
	ctx     context.Context
	done    func()
	entry   front.Entry
}

// start prepares a job: the device is there, the session has begun, the action is on record. It has
// answered where it fails.
func (s *Service) start(c *gin.Context, id uuid.UUID, j job) (*work, bool) {
	d, v, ok := s.open(c, id, j.tool, "")
	if !ok {
		return nil, false
	}
	w := &work{s: s, device: d, session: v}
	ctx, cancel := v.during(c.Request.Context())
	w.ctx, w.done = ctx, func() { cancel(); v.leave() }
	if j.action != "" {
		w.entry = front.EntryOf(c, j.action, "begun")
		w.entry.Device, w.entry.DeviceName, w.entry.Detail = d.ID, d.Name, j.detail
		if err := s.audit.Record(ctx, w.entry); err != nil {
			w.done()
			front.Fail(c, err)
			return nil, false
		}
		v.count(0, 0, 1)
	}
	return w, true
}

// finish ends a job, and notes how an action ended. The note outlasts the caller, who may have left.
func (w *work) finish(result string) {
	w.done()
	if w.entry.Action == "" {
		return
	}
	w.entry.Result = result
	w.s.audit.Note(w.entry)
}

// fail answers with what went wrong, and ends the job.
func (w *work) fail(c *gin.Context, err error) {
	if context.Cause(w.ctx) == errEnded {
		err = front.Problem(http.StatusForbidden, "The session was ended at "+w.device.Name+".",
			"The person there does not want it to go on. Reach them another way.")
	}
	front.Fail(c, err)
	reason := err.Error()
	if p := (*front.Error)(nil); errors.As(err, &p) && p.Detail != "" {
		reason = p.Detail
	}
	w.finish("refused: " + reason)
}

// post calls the agent, and fails with what the caller is told.
func (w *work) post(path string, in any) (*http.Response, error) {
	body, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	w.session.count(0, int64(len(body)), 0)
	answer, err := w.s.hub.Call(w.ctx, http.MethodPost, w.device.ID, path, nil, bytes.NewReader(body))
	if err != nil {
		return nil, front.Unreachable(w.device.Name, err)
	}
	if answer.StatusCode >= 300 {
		defer answer.Body.Close()
		return nil, front.FromDevice(w.device.Name, answer)
	}
	return answer, nil
}

// call calls an agent and reads its answer.
func call[Out any](ctx context.Context, h *hub.Hub, id uuid.UUID, path string, in any) (out Out, err error) {
	body, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	answer, err := h.Call(ctx, http.MethodPost, id, path, nil, bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, 1000))
		return out, errors.New(device.CleanText(string(bytes.TrimSpace(text))))
	}
	return out, json.NewDecoder(io.LimitReader(answer.Body, maxAnswer)).Decode(&out)
}

// one does a job that is answered with one value. see, where given, looks at the value first, and
// returns how the action ended.
func one[Out any](s *Service, c *gin.Context, id uuid.UUID, status int, j job, see func(w *work, out *Out) string) {
	w, ok := s.start(c, id, j)
	if !ok {
		return
	}
	answer, err := w.post(j.path, j.in)
	var out Out
	if err == nil {
		defer answer.Body.Close()
		counted := &counting{r: io.LimitReader(answer.Body, maxAnswer)}
		if err = json.NewDecoder(counted).Decode(&out); err != nil {
			err = front.Problem(http.StatusBadGateway, w.device.Name+" did not answer as it should.",
				"Its answer cannot be read. Try again.")
		}
		w.session.count(counted.n, 0, 0)
	}
	if err != nil {
		w.fail(c, err)
		return
	}
	result := "done"
	if see != nil {
		result = see(w, &out)
	}
	w.finish(result)
	if status == http.StatusNoContent {
		c.Status(status)
		return
	}
	c.JSON(status, out)
}

type counting struct {
	r io.Reader
	n int64
}

func (r *counting) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.n += int64(n)
	return n, err
}

// writeWithin is how long a caller has to take what is sent to it.
const writeWithin = time.Minute

// passLines does a job that is answered with values as they come, and hands them on. A connection
// that breaks is told as the last line.
func (s *Service) passLines(c *gin.Context, id uuid.UUID, j job) {
	w, ok := s.start(c, id, j)
	if !ok {
		return
	}
	answer, err := w.post(j.path, j.in)
	if err != nil {
		w.fail(c, err)
		return
	}
	defer answer.Body.Close()
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	out := &lineWriter{w: c.Writer, control: http.NewResponseController(c.Writer), session: w.session}
	_, err = io.CopyBuffer(out, struct{ io.Reader }{answer.Body}, make([]byte, 64<<10))
	result := "done"
	switch {
	case err == nil:
	case endedBy(w.ctx, w.device.Name) != "":
		result = context.Cause(w.ctx).Error()
		out.last(map[string]string{"error": endedBy(w.ctx, w.device.Name)})
	case c.Request.Context().Err() != nil || out.failed:
		result = "left by the caller"
	default:
		result = "the connection to the device was lost"
		out.last(map[string]string{"error": "The connection to " + w.device.Name + " was lost."})
	}
	w.finish(result)
}

// lineWriter hands on what a device sends, as it comes.
type lineWriter struct {
	w       io.Writer
	control *http.ResponseController
	session *activeSession
	failed  bool
	open    bool // in the middle of a line
}

func (l *lineWriter) Write(p []byte) (int, error) {
	err := l.control.SetWriteDeadline(time.Now().Add(writeWithin))
	n := 0
	if err == nil {
		n, err = l.w.Write(p)
	}
	if err == nil {
		err = l.control.Flush()
	}
	l.failed = err != nil
	l.open = n > 0 && p[n-1] != '\n'
	l.session.count(int64(n), 0, 0)
	return n, err
}

func (l *lineWriter) last(v any) {
	text, err := json.Marshal(v)
	if err != nil {
		return
	}
	if l.open {
		text = append([]byte("\n"), text...)
	}
	l.Write(append(text, '\n'))
}
