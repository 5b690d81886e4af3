package session

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/service/front"
)

// RunCommand runs a command at a device: POST /devices/{id}/commands.
func (s *Service) RunCommand(c *gin.Context, id api.ID) {
	front.Serve(c, func() error {
		order, ok := front.Bind[link.Command](c)
		if !ok {
			return nil
		}
		d, v, ok := s.open(c, id, "command", "")
		if !ok {
			return nil
		}
		defer v.leave()
		ctx, cancel := v.during(c.Request.Context())
		defer cancel()
		if order.Order == "" {
			order.Order = uuid.NewString()
		}
		body, err := json.Marshal(order)
		if err != nil {
			return err
		}
		entry := front.EntryOf(c, "command.start", "started")
		entry.Device, entry.DeviceName, entry.Detail = id, d.Name, strings.Join(order.Argv, " ")
		if err := s.audit.Record(ctx, entry); err != nil {
			return err
		}
		v.count(0, int64(len(body)), 1)
		end := entry
		end.Action = "command.end"
		// The record of the end outlasts the caller, who may have left.
		record := func(result string) {
			end.Result = result
			s.audit.Note(end)
		}
		answer, err := s.hub.Call(ctx, http.MethodPost, id, "/commands", nil, bytes.NewReader(body))
		if err != nil {
			record("not carried out: " + err.Error())
			return front.Unreachable(d.Name, err)
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			problem := front.FromDevice(d.Name, answer)
			record("refused: " + problem.Detail)
			return problem
		}
		record(s.pass(c, ctx, v, d.Name, answer.Body))
		return nil
	})
}

// lineLimit is the longest event that a device may send, in bytes; an agent's are below 64 KiB.
const lineLimit = 1 << 20

// pass hands the events of a command to the caller as they come, and returns the result for the
// record. Only what reads as an event is passed on.
func (s *Service) pass(c *gin.Context, ctx context.Context, v *activeSession, name string, events io.Reader) string {
	control := http.NewResponseController(c.Writer)
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	in, out := json.NewDecoder(&limited{r: events}), json.NewEncoder(c.Writer)
	for {
		var e link.CommandEvent
		err := in.Decode(&e)
		if err != nil {
			if why := endedBy(ctx, name); why != "" {
				out.Encode(link.CommandEvent{Error: why + " The command was ended with it."})
				return context.Cause(ctx).Error()
			}
			if c.Request.Context().Err() != nil {
				return "cancelled by the caller"
			}
			reason := "The connection to " + name + " was lost: whether the command ended is not known."
			out.Encode(link.CommandEvent{Error: reason})
			return reason
		}
		v.count(int64(len(e.Stdout)+len(e.Stderr)), 0, 0)
		e.Error = device.CleanText(e.Error) // it is printed to terminals
		if control.SetWriteDeadline(time.Now().Add(time.Minute)) != nil || out.Encode(e) != nil || control.Flush() != nil {
			return "cancelled: the caller left"
		}
		switch {
		case e.Error != "":
			return e.Error
		case e.Exit != nil:
			return fmt.Sprintf("exit status %d", *e.Exit)
		}
	}
}

// limited fails when a device sends a line beyond lineLimit.
type limited struct {
	r io.Reader
	n int
}

func (l *limited) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	if i := bytes.LastIndexByte(p[:n], '\n'); i >= 0 {
		l.n = n - i
	} else if l.n += n; l.n > lineLimit {
		return 0, fmt.Errorf("the device sent a line of more than %d bytes", lineLimit)
	}
	return n, err
}
