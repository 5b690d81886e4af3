package session

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/session"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// Times of sessions.
const (
	// idleEnds is how long after its last call a session ends by itself.
	idleEnds = 5 * time.Minute
	// keepEvery is how often what came together in sessions is written.
	keepEvery = 5 * time.Second
	// askAgain is how long a person who ended a session is asked before another begins, where they
	// would else only be told.
	askAgain = 15 * time.Minute
)

// activeSession is a session that is open: what one person does with one tool at one device.
type activeSession struct {
	key   sessionKey
	ready chan struct{} // closed when it is known whether it may begin
	err   error         // why it may not
	row   api.ToolSession
	rule  session.Rule
	ctx   context.Context // ends when the person at the device ends it
	end   context.CancelCauseFunc
	// rights are what their person may do at the begin, by any means.
	rights access.Rights
	sign   func() // shows the person that somebody works there, where they are to see it and do not yet

	mu    sync.Mutex
	calls int // that run
	tally tally
}

// endedBy says to a caller that somebody else ended what they do, and who; "" where nobody did.
func endedBy(ctx context.Context, device string) string {
	switch why := context.Cause(ctx); why {
	case errEnded:
		return "The person at " + device + " ended the session."
	case errCut, front.ErrRightsChanged:
		return sentence(why)
	}
	return ""
}

type sessionKey struct {
	person, device uuid.UUID
	via, tool      string
	desktop        string // of a screen; "" is the first
}

// activeSessions are the open sessions of this node.
type activeSessions struct {
	mu    sync.Mutex
	open  map[sessionKey]*activeSession
	ended map[sessionKey]time.Time // by the person at the device
}

// errCut is the cause with which a session's calls end when somebody else ends it.
var errCut = errors.New("the session was ended")

// errEnded is the cause with which a session's calls end when the person at the device ends it.
var errEnded = errors.New("the person at the device ended the session")

// enter joins the caller's session with a tool at a device, or begins one, having the person there
// told or asked as the rules say. The caller leaves it. It has answered where it fails.
func (s *Service) enter(c *gin.Context, d api.Device, tool, reason string) (*activeSession, error) {
	return s.enterAt(c, d, tool, "", reason)
}

// open finds a device and a tool that it offers, and enters a session with it, at a desktop where it is
// of a screen. It has answered where it fails.
func (s *Service) open(c *gin.Context, id uuid.UUID, tool, desktop string) (d api.Device, v *activeSession, ok bool) {
	front.Serve(c, func() error {
		var t session.Tool
		var err error
		if d, t, err = s.tool(c, id, tool); err != nil {
			return err
		}
		v, err = s.enterAt(c, d, t.Name, desktop, "")
		ok = err == nil
		return err
	})
	return d, v, ok
}

// enterAt is enter for a desktop, whose person is told or asked.
func (s *Service) enterAt(c *gin.Context, d api.Device, tool, desktop, reason string) (*activeSession, error) {
	caller := front.CallerOf(c)
	key := sessionKey{caller.ID, d.ID, caller.Via, tool, desktop}
	if tool == "screen" && !s.active.isOpen(key) { // whom to ask, and whom to show, is one and the same
		var err error
		if key.desktop, err = s.desktop(c.Request.Context(), d, desktop); err != nil {
			return nil, err
		}
	}
	s.active.mu.Lock()
	v := s.active.open[key]
	mine := v == nil
	if mine {
		v = &activeSession{key: key, ready: make(chan struct{}), calls: 1}
		v.ctx, v.end = context.WithCancelCause(context.Background())
		s.active.open[key] = v
	} else {
		v.mu.Lock()
		v.calls++
		v.mu.Unlock()
	}
	recently := time.Since(s.active.ended[key]) < askAgain
	s.active.mu.Unlock()
	if mine {
		if v.err = s.begin(c, v, d, reason, recently); v.err != nil {
			s.drop(v)
		}
		close(v.ready)
	}
	select {
	case <-v.ready:
	case <-c.Request.Context().Done():
		v.leave()
		return nil, c.Request.Context().Err()
	}
	if v.err != nil {
		return nil, v.err
	}
	return v, nil
}

// isOpen tells whether there is a session.
func (s *activeSessions) isOpen(key sessionKey) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.open[key] != nil
}

// drop forgets a session.
func (s *Service) drop(v *activeSession) {
	s.active.mu.Lock()
	defer s.active.mu.Unlock()
	if s.active.open[v.key] == v {
		delete(s.active.open, v.key)
	}
}

// begin puts a session on record, after the person at the device was asked where they must be.
func (s *Service) begin(c *gin.Context, v *activeSession, d api.Device, reason string, asked bool) error {
	ctx := c.Request.Context()
	caller := front.CallerOf(c)
	place, err := s.devices.Place(ctx, d.ID)
	if err != nil {
		return err
	}
	rule := session.Resolve(s.rules.get(), v.key.tool, &place)
	if asked && rule.Mode == session.Tell {
		rule.Mode = session.Ask
	}
	if console := strings.HasPrefix(v.key.desktop, consolePrefix); console {
		rule.Mode = session.Silent // nobody sits at it; who may set rules has added it
	}
	if v.rights, err = s.people.RightsOf(ctx, caller.ID); err != nil {
		return err
	}
	now := time.Now()
	v.rule = rule
	v.row = api.ToolSession{ID: uuid.New(), DeviceID: d.ID, Device: d.Name, Actor: caller.Email, Via: caller.Via, Address: c.ClientIP(),
		Tool:   v.key.tool,
		Reason: &reason, BeganAt: now, LastAt: now}
	v.tally = tally{id: v.row.ID, last: now}
	allowed, shown, err := s.consent(ctx, v, rule, caller.Name, reason)
	if err != nil {
		return err
	}
	ending := ""
	if !allowed {
		ending = "it was not allowed to begin"
	}
	v.row.LastAt = time.Now()
	entry := front.EntryOf(c, "session.begin", v.row.Consent)
	entry.Device, entry.DeviceName, entry.Detail = d.ID, d.Name, v.key.tool
	if reason != "" {
		entry.Detail += ": " + reason
	}
	if !allowed {
		entry.Action = "session.refuse"
	}
	if err := errors.Join(s.store.addSession(ctx, caller.ID, v.row, ending), s.audit.Record(ctx, entry)); err != nil {
		return err
	}
	if !allowed {
		return front.Problem(http.StatusForbidden, "The session may not begin: "+v.row.Consent+".",
			"Reach the person another way, or ask who sets the policy of consent.")
	}
	switch sign := func() { go s.sign(v, d, caller.Name, reason) }; {
	case shown && v.key.tool == "screen": // the desktop may show one itself
		v.sign = sync.OnceFunc(sign)
	case shown:
		sign()
	}
	return nil
}

// leave ends one call.
func (v *activeSession) leave() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.calls--
	v.tally.last = time.Now()
}

// count adds to what the session's record tells.
func (v *activeSession) count(received, sent int64, actions int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.tally.received += received
	v.tally.sent += sent
	v.tally.actions += actions
	v.tally.last = time.Now()
}

func (v *activeSession) interrupted(seconds float64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.tally.interrupted += seconds
}

// during is a context for one call: it ends with the caller's, or with the session.
func (v *activeSession) during(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	stop := context.AfterFunc(v.ctx, func() { cancel(context.Cause(v.ctx)) })
	return ctx, func() { stop(); cancel(nil) }
}

// run keeps sessions until ctx ends.
func (s *Service) run(ctx context.Context) {
	tick := time.NewTicker(keepEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			s.keep(context.WithoutCancel(ctx), time.Now(), true)
			s.keepRecordings()
			return
		case now := <-tick.C:
			s.keep(ctx, now, false)
			if err := s.store.endForgotten(ctx, 2*idleEnds); err != nil && ctx.Err() == nil {
				slog.Warn("sessions that are over cannot be ended", "error", err)
			}
		}
	}
}

// keep writes what came together, and ends the sessions that are over; all of them when the service
// stops.
func (s *Service) keep(ctx context.Context, now time.Time, stopping bool) {
	var all []tally
	s.active.mu.Lock()
	for key, v := range s.active.open {
		select {
		case <-v.ready:
		default:
			continue
		}
		if v.err != nil {
			continue
		}
		v.mu.Lock()
		if v.calls > 0 {
			v.tally.last = now
		}
		t := v.tally
		switch {
		case stopping:
			t.ending = "the service stopped"
		case v.calls == 0 && now.Sub(t.last) > idleEnds:
			t.ending = fmt.Sprintf("nothing was done for %s", idleEnds)
		}
		v.tally = tally{id: t.id, last: t.last}
		v.mu.Unlock()
		if t.ending != "" {
			delete(s.active.open, key)
			v.end(nil)
		}
		all = append(all, t)
	}
	for key, at := range s.active.ended {
		if now.Sub(at) > askAgain {
			delete(s.active.ended, key)
		}
	}
	s.active.mu.Unlock()
	if len(all) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, keepEvery)
	defer cancel()
	if err := s.store.keep(ctx, all); err != nil {
		slog.Warn("what was done in sessions cannot be written; it is kept", "error", err)
		s.giveBack(all)
	}
}

// giveBack adds to the sessions that are still open what could not be written.
func (s *Service) giveBack(all []tally) {
	s.active.mu.Lock()
	defer s.active.mu.Unlock()
	byID := map[uuid.UUID]*activeSession{}
	for _, v := range s.active.open {
		byID[v.row.ID] = v
	}
	for _, t := range all {
		if v := byID[t.id]; v != nil {
			v.count(t.received, t.sent, t.actions)
			v.interrupted(t.interrupted)
		}
	}
}

// finish ends a session before its time.
func (s *Service) finish(ctx context.Context, v *activeSession, ending string, cause error) error {
	s.drop(v)
	v.end(cause)
	v.mu.Lock()
	t := v.tally
	v.tally = tally{id: t.id, last: t.last}
	v.mu.Unlock()
	t.last, t.ending = time.Now(), ending
	return s.store.keep(ctx, []tally{t})
}

// BeginSession begins a session: POST /devices/{id}/sessions.
func (s *Service) BeginSession(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.NewToolSession](c)
	if !ok {
		return
	}
	reason := ""
	if in.Reason != nil {
		reason = *in.Reason
	}
	desktop := ""
	if in.Desktop != nil && in.Tool == "screen" {
		desktop = *in.Desktop
	}
	front.Serve(c, func() error {
		d, tool, err := s.tool(c, id, in.Tool)
		if err != nil {
			return err
		}
		if !mayUse(c, in.Tool) {
			return front.Lacking(access.Of(in.Tool, access.See))
		}
		v, err := s.enterAt(c, d, tool.Name, desktop, reason)
		if err != nil {
			return err
		}
		v.leave()
		c.JSON(http.StatusOK, v.row)
		return nil
	})
}

// EndSession ends a session of the caller's own, or of anybody where the caller manages people: DELETE
// /sessions/{id}.
func (s *Service) EndSession(c *gin.Context, id api.ID) {
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	found := s.active.which(func(v *activeSession) bool {
		return v.tally.id == id && (v.key.person == caller.ID || caller.Rights.Everywhere(access.PeopleManage))
	})
	err := error(nil)
	if len(found) == 0 {
		err = front.NotFound("open session that you may end")
	}
	for _, v := range found {
		entry := front.EntryOf(c, "session.end", "done")
		entry.Device, entry.DeviceName, entry.Detail = v.key.device, v.row.Device, v.key.tool+" of "+v.row.Actor
		err = errors.Join(err, s.finish(ctx, v, "ended by "+caller.Email, errCut), s.audit.Record(ctx, entry))
	}
	front.Done(c, err)
}

// which are the open sessions for which a question holds.
func (s *activeSessions) which(holds func(*activeSession) bool) (found []*activeSession) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, v := range s.open {
		select {
		case <-v.ready:
			if v.err == nil && holds(v) {
				found = append(found, v)
			}
		default: // it has not begun; the request that begins it is ended by the gate
		}
	}
	return found
}

// rightsChanged ends the sessions of those from whom something was taken that they had when their
// sessions began.
func (s *Service) rightsChanged(ctx context.Context, change bus.RightsChanged) {
	mine := s.active.which(func(v *activeSession) bool { return change.Person == uuid.Nil || v.key.person == change.Person })
	rights := map[uuid.UUID]access.Rights{}
	for _, v := range mine {
		person := v.key.person
		now, known := rights[person]
		if !known {
			var err error
			if now, err = s.people.RightsOf(ctx, person); err != nil {
				slog.Warn("what somebody may do cannot be read; their sessions are ended", "error", err)
			}
			rights[person] = now
		}
		if change.Revoked || !now.Include(v.rights) {
			if err := s.finish(ctx, v, "ended, as what "+v.row.Actor+" may do has changed", front.ErrRightsChanged); err != nil {
				slog.Warn("the end of a session cannot be written", "error", err)
			}
		}
	}
}

// NoteSession writes a note at a session of the caller's own: PUT /sessions/{id}/note.
func (s *Service) NoteSession(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.SessionNote](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	device, name, err := s.store.setNote(ctx, id, front.CallerOf(c).ID, in.Note)
	if db.Missing(err) {
		err = front.NotFound("session of yours")
	}
	if err == nil {
		entry := front.EntryOf(c, "session.note", "done")
		entry.Device, entry.DeviceName, entry.Detail = device, name, in.Note
		err = s.audit.Record(ctx, entry)
	}
	front.Done(c, err)
}

var latest = moment{time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), uuid.Max}

// ListDeviceSessions lists the sessions with a device: GET /devices/{id}/sessions.
func (s *Service) ListDeviceSessions(c *gin.Context, id api.ID, in api.ListDeviceSessionsParams) {
	s.list(c, &id, false, in.Cursor, in.Limit)
}

// ListSessions lists the sessions with all devices: GET /sessions.
func (s *Service) ListSessions(c *gin.Context, in api.ListSessionsParams) {
	s.list(c, nil, in.Open != nil && *in.Open, in.Cursor, in.Limit)
}

// hideAddresses leaves out where colleagues work from, for whoever does not read the audit log everywhere.
func hideAddresses(c *gin.Context, items []api.ToolSession) []api.ToolSession {
	if !front.CallerOf(c).Rights.Everywhere(access.AuditRead) {
		for i := range items {
			items[i].Address = ""
		}
	}
	return items
}

func (s *Service) list(c *gin.Context, device *uuid.UUID, open bool, cursor *string, limit *int) {
	var view []uuid.UUID
	if device == nil { // the gate has looked to the one
		var err error
		if view, err = s.devices.View(c.Request.Context(), front.CallerOf(c), access.AuditRead); err != nil {
			front.Fail(c, err)
			return
		}
	}
	front.List(c, cursor, limit, latest,
		func(ctx context.Context, before moment, limit int) ([]api.ToolSession, error) {
			return s.store.sessions(ctx, view, device, open, before, limit)
		},
		func(t api.ToolSession) moment { return moment{t.BeganAt, t.ID} },
		func(items []api.ToolSession, next *string) any {
			return api.ToolSessionPage{Items: hideAddresses(c, items), Next: next}
		})
}
