package session

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// lastWithin is how long the last word to a viewer may take.
const lastWithin = 5 * time.Second

// OpenScreen joins the caller to a desktop of a device: GET /devices/{id}/screen.
func (s *Service) OpenScreen(c *gin.Context, id api.ID, in api.OpenScreenParams) {
	front.Serve(c, func() error {
		desktop := ""
		if in.Desktop != nil {
			desktop = *in.Desktop
		}
		d, v, ok := s.open(c, id, "screen", desktop)
		if !ok {
			return nil
		}
		defer v.leave()
		desktop = v.key.desktop
		ctx, end := context.WithCancelCause(c.Request.Context())
		cancel := func() { end(nil) }
		defer cancel()
		control := front.May(c, access.Of("screen", access.Act))
		query := url.Values{"name": {front.CallerOf(c).Name}, "control": {strconv.FormatBool(control)},
			"clipboard": {strconv.FormatBool(control)}, "desktop": {desktop}}
		query.Set("sign", strconv.FormatBool(v.sign != nil))
		if in.Mode != nil {
			query.Set("mode", string(*in.Mode))
		}
		entry := front.EntryOf(c, "screen.start", "started")
		entry.Device, entry.DeviceName, entry.Detail = id, d.Name, strings.TrimSpace(query.Get("mode")+" "+desktop)
		if err := s.audit.Record(ctx, entry); err != nil {
			return err
		}
		v.count(0, 0, 1)
		began := time.Now()
		note := func(action, result, detail string) {
			entry := entry
			entry.Action, entry.Result, entry.Detail = action, result, detail
			s.audit.Note(entry)
		}
		far, err := s.dialScreen(ctx, d, desktop, query)
		if err != nil {
			note("screen.end", "not opened: "+err.Error(), "")
			return err
		}
		defer far.CloseNow()
		near, err := websocket.Accept(c.Writer, c.Request, nil)
		if err != nil {
			note("screen.end", "not opened: "+err.Error(), "")
			return nil
		}
		defer near.CloseNow()
		near.SetReadLimit(link.MaxScreenInput)
		far.SetReadLimit(link.MaxScreenEvent)
		// The end by the person at the device is told before the connection is.
		stop := context.AfterFunc(v.ctx, func() {
			if context.Cause(v.ctx) == errEnded {
				last, cancel := context.WithTimeout(ctx, lastWithin)
				defer cancel()
				text, _ := json.Marshal(link.ScreenEvent{End: "The person at " + d.Name + " ended the session."})
				near.Write(last, websocket.MessageText, text)
				near.Close(websocket.StatusNormalClosure, "")
			}
			end(context.Cause(v.ctx))
		})
		defer stop()
		seen := taps{
			out: func(kind websocket.MessageType, p []byte) {
				v.count(int64(len(p)), 0, 0)
				if v.sign != nil && kind == websocket.MessageText {
					s.signed(v, p)
				}
			},
			in: func(kind websocket.MessageType, p []byte) {
				v.count(0, int64(len(p)), 0)
				if mode := modeOf(kind, p); mode != "" {
					note("screen.mode", "asked for", mode)
				}
			},
		}
		if !v.rule.Unrecorded {
			again, _ := json.Marshal(link.ScreenInput{Again: true})
			recorder, err := s.recordScreen(ctx, newRecording{device: id, shell: uuid.New(), caller: front.CallerOf(c).ID,
				deviceName: d.Name,
				actor:      entry.Actor, program: desktop, keepDays: v.rule.Kept()},
				func() { far.Write(ctx, websocket.MessageText, again) })
			if err != nil {
				note("screen.end", "not recorded: "+err.Error(), "")
				near.Close(websocket.StatusInternalError, "it cannot be recorded")
				return nil
			}
			defer recorder.close()
			seen = recorder.and(seen)
		}
		result := join(ctx, cancel, seen, near, far, lastOfScreen, d.Name)
		note("screen.end", fmt.Sprintf("%s after %s", result, time.Since(began).Round(time.Second)), "")
		return nil
	})
}

// lastOfScreen is the last word to a viewer: one who was cut off does not try again.
func lastOfScreen(why string, cut bool) any {
	if cut {
		return link.ScreenEvent{End: why}
	}
	return link.ScreenEvent{Problem: why}
}

// dialScreen opens a desktop of a device, or a console that it reaches.
func (s *Service) dialScreen(ctx context.Context, d api.Device, desktop string, query url.Values) (*websocket.Conn, error) {
	order, err := s.consoleOrder(ctx, d, desktop)
	if err != nil {
		return nil, err
	}
	if order == nil {
		return s.dial(ctx, d, hub.LaneURL(d.ID, link.LaneScreen, "/screen", query), nil)
	}
	text, err := json.Marshal(order)
	if err != nil {
		return nil, err
	}
	return s.dial(ctx, d, hub.LaneURL(d.ID, link.LaneScreen, "/console", query), http.Header{link.ConsoleHeader: {string(text)}})
}

// signed takes what a device tells of the sign that the person there sees.
func (s *Service) signed(v *activeSession, p []byte) {
	var e link.ScreenEvent
	if !bytes.Contains(p, []byte(`"signed"`)) && !bytes.Contains(p, []byte(`"ended"`)) || json.Unmarshal(p, &e) != nil {
		return
	}
	if e.Begin != nil && !e.Begin.Signed {
		v.sign()
	}
	if e.Ended {
		go s.sentAway(v, "")
	}
}

// modeOf is how a viewer wants to take part, where a message of theirs tells so.
func modeOf(kind websocket.MessageType, p []byte) string {
	var in link.ScreenInput
	if kind != websocket.MessageText || !bytes.Contains(p, []byte(`"mode"`)) || json.Unmarshal(p, &in) != nil {
		return ""
	}
	switch in.Mode {
	case link.ScreenView, link.ScreenShare, link.ScreenTake:
		return in.Mode
	}
	return ""
}

// desktop finds the desktop of a device that is meant: the first that can be looked at where none is named.
func (s *Service) desktop(ctx context.Context, d api.Device, named string) (string, error) {
	if strings.HasPrefix(named, consolePrefix) {
		return named, nil
	}
	list, err := s.desktops(ctx, d)
	if err != nil {
		return "", err
	}
	missing := ""
	for _, one := range list.Items {
		switch {
		case named != "" && one.ID != named:
		case one.Missing == "":
			return one.ID, nil
		case missing == "":
			missing = one.Missing
		}
	}
	switch {
	case missing != "":
		return "", front.Problem(http.StatusConflict, "The desktop of "+d.Name+" cannot be shown.", device.CleanText(missing))
	case named != "":
		return "", front.Problem(http.StatusGone, "The desktop "+named+" of "+d.Name+" has ended.", "Choose another, or the first.")
	}
	return "", front.Problem(http.StatusConflict, d.Name+" has no desktop that is open.",
		"Nobody is signed in at it, and no log-in screen is shown. Use its shell and the other tools, or wait until somebody signs in.")
}

// desktops asks a device for its desktops; an error is what the caller is told.
func (s *Service) desktops(ctx context.Context, d api.Device) (link.DesktopList, error) {
	within, cancel := context.WithTimeout(ctx, presentWithin)
	defer cancel()
	list, err := call[link.DesktopList](within, s.hub, d.ID, "/screen/desktops", struct{}{})
	if err != nil && ctx.Err() == nil {
		err = front.Unreachable(d.Name, err)
	}
	return list, err
}

// ListDesktops lists the desktops of a device: GET /devices/{id}/screen/desktops.
func (s *Service) ListDesktops(c *gin.Context, id api.ID) {
	list, err := func() (list link.DesktopList, err error) {
		d, _, err := s.tool(c, id, "screen")
		if err != nil {
			return list, err
		}
		// Which there are is no secret to who may look: nobody is asked.
		if list, err = s.desktops(c.Request.Context(), d); err != nil {
			return list, err
		}
		return list, s.withConsoles(c.Request.Context(), d.ID, &list)
	}()
	front.Answer(c, http.StatusOK, list, err)
}
