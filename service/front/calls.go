package front

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/core/access"
)

// ErrRightsChanged is the cause with which the context of a request ends when its caller may no longer
// make it: they were removed or signed out, their token was revoked, or a role was taken from them.
var ErrRightsChanged = errors.New("what you may do has changed: sign in again")

// reviewEvery is how often requests that last are held against what their callers may do, also where
// nobody told of a change: sign-ins and tokens expire, and another node may have changed something.
const reviewEvery = 15 * time.Second

// call is a request that is being answered.
type call struct {
	op          *operation
	credentials http.Header // no more of the request than tells who makes it
	device      string      // that its path names; "" for none
	caller      *Caller
	end         context.CancelCauseFunc
}

// calls are the requests that are being answered, so that each ends within a moment when its caller may
// no longer make it.
type calls struct {
	mu      sync.Mutex
	open    map[*call]struct{}
	changes atomic.Uint64 // counts reviews, so that none is missed between the gate and the register
}

// register notes that a request is being answered, until its end is called.
func (g *gate) register(c *gin.Context, op *operation, end context.CancelCauseFunc) *call {
	made := &call{op: op, end: end, credentials: http.Header{}}
	for _, name := range []string{"Authorization", "Cookie"} {
		if values := c.Request.Header.Values(name); len(values) > 0 {
			made.credentials[name] = values
		}
	}
	if op.reach == atDevice {
		made.device = c.Param("id")
	}
	g.calls.mu.Lock()
	defer g.calls.mu.Unlock()
	g.calls.open[made] = struct{}{}
	return made
}

func (g *gate) forget(made *call) {
	g.calls.mu.Lock()
	defer g.calls.mu.Unlock()
	delete(g.calls.open, made)
}

// review ends the requests of a person, or of everybody where it is uuid.Nil, from whom something was
// taken that they had when they made them.
func (g *gate) review(ctx context.Context, person uuid.UUID) {
	g.calls.changes.Add(1)
	type held struct {
		*call
		before *Caller
	}
	byCredentials := map[string][]held{}
	g.calls.mu.Lock()
	for made := range g.calls.open {
		if made.caller != nil && (person == uuid.Nil || made.caller.ID == person) {
			key := made.credentials.Get("Authorization") + "\n" + made.credentials.Get("Cookie")
			byCredentials[key] = append(byCredentials[key], held{made, made.caller})
		}
	}
	g.calls.mu.Unlock()
	for _, same := range byCredentials {
		request := (&http.Request{Header: same[0].credentials}).WithContext(Unattended(ctx))
		now, err := g.sessions.Authenticate(request)
		if err != nil {
			if ctx.Err() == nil {
				slog.Warn("whether callers may still do what they do cannot be found out; trying again", "error", err)
			}
			continue
		}
		for _, made := range same {
			if now == nil || !now.Rights.Include(made.before.Rights) || now.lacksFactor(made.op) || !g.stillAt(ctx, made.call, now) {
				made.end(ErrRightsChanged)
			}
		}
	}
}

type unattendedKey struct{}

// Unattended marks what is looked up about a session without a request of its person: it does not count as a use.
func Unattended(ctx context.Context) context.Context {
	return context.WithValue(ctx, unattendedKey{}, true)
}

// IsUnattended tells whether ctx was marked so.
func IsUnattended(ctx context.Context) bool { return ctx.Value(unattendedKey{}) != nil }

// lacksFactor tells whether the sign-in policy lets a caller do no more than add a second factor.
func (c *Caller) lacksFactor(op *operation) bool {
	return c.MustAddFactor && op.permission != access.Self
}

// stillAt tells whether a caller may do at a device what they do there: it may have moved.
func (g *gate) stillAt(ctx context.Context, made *call, now *Caller) bool {
	if made.device == "" {
		return true
	}
	id, err := uuid.Parse(made.device)
	if err != nil {
		return true
	}
	at, err := g.places.Place(ctx, id)
	return err != nil || now.Rights.May(made.op.permission, &at)
}

// keepReviewing reviews all requests again and again, until ctx ends.
func (g *gate) keepReviewing(ctx context.Context) {
	tick := time.NewTicker(reviewEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			g.review(ctx, uuid.Nil)
		}
	}
}
