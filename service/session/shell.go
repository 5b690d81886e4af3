package session

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// Limits of a shell's WebSocket.
const (
	shellMessage = 1 << 20 // bytes of one message
	shellDial    = 15 * time.Second
	// shellBeat is how often a caller's connection is asked whether it is there, so that a shell
	// does not outlive a browser that went away without a word.
	shellBeat = 30 * time.Second
)

// OpenShell joins the caller to a terminal at a device: GET /devices/{id}/shell.
func (s *Service) OpenShell(c *gin.Context, id api.ID, in api.OpenShellParams) {
	front.Serve(c, func() error {
		d, v, ok := s.open(c, id, "shell", "")
		if !ok {
			return nil
		}
		defer v.leave()
		ctx, cancel := v.during(c.Request.Context())
		defer cancel()
		entry := front.EntryOf(c, "shell.start", "started")
		entry.Device, entry.DeviceName = id, d.Name
		if in.Person != nil {
			entry.Detail = "as " + *in.Person
		}
		if err := s.audit.Record(ctx, entry); err != nil {
			return err
		}
		v.count(0, 0, 1)
		end := entry
		end.Action = "shell.end"
		began := time.Now()
		record := func(result string) {
			end.Result = result
			s.audit.Note(end)
		}
		query := url.Values{"columns": {strconv.Itoa(front.Limit(in.Columns, 80))}, "rows": {strconv.Itoa(front.Limit(in.Rows, 24))}}
		shell := uuid.New()
		if in.Shell != nil { // who knows its identity joins no shell of another's by it
			shell = uuid.NewSHA1(front.CallerOf(c).ID, in.Shell[:])
		}
		query.Set("shell", shell.String())
		if in.From != nil {
			query.Set("from", strconv.FormatInt(*in.From, 10))
		}
		if in.Person != nil {
			query.Set("person", *in.Person)
		}
		if in.Program != nil {
			query.Set("program", *in.Program)
		}
		seen := taps{out: func(_ websocket.MessageType, p []byte) { v.count(int64(len(p)), 0, 0) },
			in: func(_ websocket.MessageType, p []byte) { v.count(0, int64(len(p)), 0) }}
		over := false
		if !v.rule.Unrecorded {
			recorder, err := s.record(ctx, newRecording{device: id, shell: shell, caller: front.CallerOf(c).ID, deviceName: d.Name,
				actor: entry.Actor, person: query.Get("person"), program: query.Get("program"), keepDays: v.rule.Kept()})
			if err != nil {
				return err
			}
			defer func() { s.leave(recorder, over) }()
			recorder.resized(front.Limit(in.Columns, 80), front.Limit(in.Rows, 24))
			seen = seen.and(recorder)
		}
		far, err := s.dial(ctx, d, hub.URL(d.ID, "/shell", query), nil)
		if err != nil {
			record("not opened: " + err.Error())
			return err
		}
		defer far.CloseNow()
		// Accept checks that a browser's page is of this service's own origin.
		near, err := websocket.Accept(c.Writer, c.Request, nil)
		if err != nil {
			record("not opened: " + err.Error())
			return nil
		}
		defer near.CloseNow()
		near.SetReadLimit(shellMessage)
		far.SetReadLimit(shellMessage)
		result := join(ctx, cancel, seen, near, far, func(why string, _ bool) any { return link.ShellEvent{Error: why} }, d.Name)
		over = result == shellEnded || result == shellClosed || result == shellCut
		record(fmt.Sprintf("%s after %s", result, time.Since(began).Round(time.Second)))
		return nil
	})
}

// ListShellChoices tells which shells can be opened: GET /devices/{id}/shell/choices.
func (s *Service) ListShellChoices(c *gin.Context, id api.ID) {
	one[link.ShellChoices](s, c, id, http.StatusOK, job{tool: "shell", path: "/shell/choices"}, nil)
}

// dial opens a WebSocket at a device.
func (s *Service) dial(ctx context.Context, d api.Device, address string, header http.Header) (*websocket.Conn, error) {
	dial, cancel := context.WithTimeout(ctx, shellDial)
	defer cancel()
	far, answer, err := websocket.Dial(dial, address, &websocket.DialOptions{HTTPClient: s.hub.Client(), HTTPHeader: header})
	if err != nil && answer != nil && answer.StatusCode != http.StatusSwitchingProtocols {
		return nil, front.FromDevice(d.Name, answer)
	}
	if err != nil {
		return nil, front.Unreachable(d.Name, err)
	}
	return far, nil
}

// How a connection to a shell ended, as the audit log tells it.
const (
	shellEnded  = "ended"
	shellClosed = "closed by the caller"
	shellLost   = "lost"
	shellLeft   = "left by the caller"
	shellCut    = "cut off"
)

// taps see the messages that come out of a shell, and those that go into it.
type taps struct {
	out, in func(kind websocket.MessageType, p []byte)
}

// and has a recorder see them too.
func (t taps) and(r *connectionRecorder) taps {
	return taps{
		out: func(kind websocket.MessageType, p []byte) {
			t.out(kind, p)
			if kind == websocket.MessageBinary {
				r.print(p)
			} else {
				r.event(p)
			}
		},
		in: func(kind websocket.MessageType, p []byte) {
			t.in(kind, p)
			if kind == websocket.MessageText {
				r.resize(p)
			}
		},
	}
}

func lost(device string) string { return "The connection to " + device + " was lost." }

// cutWithin is how long both ends are given to take a close when a caller is cut off.
const cutWithin = 500 * time.Millisecond

// join passes messages both ways until one side ends, and returns how it ended. last makes the message
// with which the caller is told why, when the connection to the device is lost or they are cut off.
// Where what they may do has changed, or their session was ended, nothing passes from that moment on, and
// what they had open at the device ends.
func join(outer context.Context, cancel context.CancelFunc, t taps, near, far *websocket.Conn, last func(why string, cut bool) any,
	device string) string {
	ctx, done := context.WithCancel(context.WithoutCancel(outer))
	defer done()
	ended := make(chan string, 4)
	var cut atomic.Bool
	stop := context.AfterFunc(outer, func() {
		cut.Store(true)
		if why := context.Cause(outer); !errors.Is(why, front.ErrRightsChanged) && !errors.Is(why, errCut) {
			done()
			ended <- shellLeft
			return
		}
		ended <- shellCut
	})
	defer stop()
	go func() {
		err := pass(ctx, far, near, t.out, &cut)
		var closed websocket.CloseError
		if errors.As(err, &closed) && closed.Code == websocket.StatusNormalClosure {
			ended <- shellEnded
			near.Close(websocket.StatusNormalClosure, "")
			return
		}
		if ctx.Err() == nil {
			text, _ := json.Marshal(last(lost(device), false))
			near.Write(ctx, websocket.MessageText, text)
			near.Close(websocket.StatusGoingAway, "device lost")
		}
		ended <- shellLost
	}()
	go func() {
		if websocket.CloseStatus(pass(ctx, near, far, t.in, &cut)) == websocket.StatusNormalClosure {
			far.Close(websocket.StatusNormalClosure, "") // the shell is to end; one that is cut off is kept
			ended <- shellClosed
			return
		}
		ended <- shellLeft
	}()
	go func() {
		beat := time.NewTicker(shellBeat)
		defer beat.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
				ping, stop := context.WithTimeout(ctx, shellBeat)
				err := near.Ping(ping)
				stop()
				if err != nil {
					ended <- shellLeft
					return
				}
			}
		}
	}()
	result := <-ended
	if cut.Load() && result == shellCut {
		cutOff(context.Cause(outer), near, far, last)
	}
	done()
	cancel()
	return result
}

// cutOff ends what a caller had open at a device, and tells them why.
func cutOff(why error, near, far *websocket.Conn, last func(why string, cut bool) any) {
	var both sync.WaitGroup
	both.Go(func() { far.Close(websocket.StatusNormalClosure, "") })
	both.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), cutWithin)
		defer cancel()
		text, _ := json.Marshal(last(sentence(why), true))
		near.Write(ctx, websocket.MessageText, text)
		near.Close(websocket.StatusPolicyViolation, "")
	})
	closed := make(chan struct{})
	go func() { both.Wait(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(cutWithin):
	}
	near.CloseNow()
	far.CloseNow()
}

// sentence is an error as a sentence of its own.
func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// pass copies messages from one WebSocket to another, and shows each to a tap, until one fails or cut is set.
func pass(ctx context.Context, from, to *websocket.Conn, tap func(kind websocket.MessageType, p []byte), cut *atomic.Bool) error {
	for {
		kind, data, err := from.Read(ctx)
		if err == nil && cut.Load() {
			err = errCut
		}
		if err != nil {
			return err
		}
		tap(kind, data)
		if err := to.Write(ctx, kind, data); err != nil {
			return err
		}
	}
}
