package front

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/core/access"
)

// refusals puts what is refused on record: who tries what they may not is to be seen. The same of the same is recorded
// once in refusalEvery, with how often it came, so that nobody fills the log by asking.
type refusals struct {
	audit Recorder
	mu    sync.Mutex
	last  map[refusal]*refused
	swept time.Time
}

// refusal is who was refused what: a person, or an address where nobody is known.
type refusal struct {
	person  uuid.UUID
	address string
	method  string
	path    string
}

type refused struct {
	at   time.Time // when it was recorded
	more int       // that came since
}

const (
	refusalEvery  = time.Minute
	mostRefusals  = 10_000 // that are remembered; beyond, none is recorded until some are forgotten
	refusedWithin = 2 * time.Second
)

// note records a refusal, where it is one of rights and has not been recorded of late.
func (f *refusals) note(c *gin.Context, caller *Caller, op *operation, why error) {
	var e *Error
	if f.audit == nil || !errors.As(why, &e) || e.Status != http.StatusForbidden && e.Status != http.StatusUnauthorized {
		return
	}
	credentials := c.GetHeader("Authorization") != "" || SessionOf(c.Request) != ""
	if caller == nil && !credentials {
		return // a page that was opened before signing in
	}
	key := refusal{address: c.ClientIP(), method: c.Request.Method, path: op.route.Path}
	entry := Entry{Actor: "nobody", Via: "unknown", Address: c.ClientIP(), Action: "request.refuse", Result: "refused: " + e.Title}
	if caller != nil {
		key.person, key.address = caller.ID, ""
		entry.Actor, entry.ActorID, entry.Via = caller.Email, caller.ID.String(), caller.Via
		if caller.Token != uuid.Nil {
			entry.ViaID = caller.Token.String()
		}
	}
	times, record := f.times(key, time.Now())
	if !record {
		return
	}
	entry.Detail = fmt.Sprintf("%s %s, which needs %s", c.Request.Method, op.route.Path, op.permission)
	if op.permission == access.Self {
		entry.Detail = c.Request.Method + " " + op.route.Path
	}
	if times > 1 {
		entry.Detail += fmt.Sprintf(", %d times since it was recorded last", times)
	}
	if id, err := uuid.Parse(c.Param("id")); err == nil && op.reach == atDevice {
		entry.Device = id
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), refusedWithin)
	defer cancel()
	if err := f.audit.Record(ctx, entry); err != nil && c.Request.Context().Err() == nil {
		slog.Warn("what was refused cannot be recorded", "path", op.route.Path, "error", err)
	}
}

// times tells whether a refusal is to be recorded now, and how often it came since it was last.
func (f *refusals) times(key refusal, now time.Time) (n int, record bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now.Sub(f.swept) > refusalEvery {
		f.swept = now
		for k, r := range f.last {
			if now.Sub(r.at) > refusalEvery && r.more == 0 || now.Sub(r.at) > time.Hour {
				delete(f.last, k)
			}
		}
	}
	r := f.last[key]
	switch {
	case r == nil && len(f.last) >= mostRefusals:
		return 0, false
	case r == nil:
		f.last[key] = &refused{at: now}
		return 1, true
	case now.Sub(r.at) < refusalEvery:
		r.more++
		return 0, false
	}
	n = r.more + 1
	r.at, r.more = now, 0
	return n, true
}
