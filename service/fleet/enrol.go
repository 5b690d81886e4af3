package fleet

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// ListEnrolmentTokens lists enrolment tokens: GET /enrolment-tokens.
func (f *Service) ListEnrolmentTokens(c *gin.Context, in api.ListEnrolmentTokensParams) {
	front.Serve(c, func() error {
		before := time.Now().Add(time.Hour)
		limit := front.Limit(in.Limit, 100)
		if err := front.After(in.Cursor, &before); err != nil {
			return err
		}
		view, err := f.View(c.Request.Context(), front.CallerOf(c), access.FleetEnrol)
		var found []api.EnrolmentToken
		if err == nil {
			found, err = f.store.tokens(c.Request.Context(), view, before, limit+1)
		}
		if err != nil {
			return err
		}
		items, next := front.Page(found, limit, func(t api.EnrolmentToken) any { return t.CreatedAt })
		c.JSON(http.StatusOK, api.EnrolmentTokenPage{Items: items, Next: next})
		return nil
	})
}

// AddEnrolmentToken makes an enrolment token: POST /enrolment-tokens.
func (f *Service) AddEnrolmentToken(c *gin.Context) {
	change := front.Change{Action: "enrolment-token.add"}
	front.Write(c, f.audit, http.StatusCreated, change, func(ctx context.Context, in api.NewEnrolmentToken, x *front.Change) (
		out api.AddedEnrolmentToken, err error) {
		site, err := f.siteFor(c, access.FleetEnrol, in.Organisation, in.Site)
		if err != nil {
			return out, err
		}
		if out.Secret, err = access.NewSecret(rand.Reader, access.EnrolmentToken, f.hint); err != nil {
			return out, err
		}
		expires := time.Now().Add(time.Duration(front.Limit(in.Hours, 24)) * time.Hour)
		uses := front.Limit(in.Uses, 1)
		approval := uses > 1
		if in.Approval != nil {
			approval = *in.Approval
		}
		x.Detail = in.Organisation + ", " + in.Site
		out.Token, err = f.store.addToken(ctx, access.HashSecret(out.Secret), site, uses, approval, expires,
			maker{front.CallerOf(c).ID, front.CallerOf(c).Email})
		return out, err
	})
}

// RevokeEnrolmentToken revokes one: DELETE /enrolment-tokens/{id}.
func (f *Service) RevokeEnrolmentToken(c *gin.Context, id api.ID) {
	change := front.Change{Action: "enrolment-token.revoke", What: "enrolment token that still holds", Detail: id.String()}
	front.Do(c, f.audit, change, func(ctx context.Context, _ *front.Change) error {
		view, err := f.View(ctx, front.CallerOf(c), access.FleetEnrol)
		if err != nil {
			return err
		}
		return f.store.revokeToken(ctx, view, id)
	})
}

// Enrol adds a device: POST /enrol, called by its agent.
func (f *Service) Enrol(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Enrolment](c)
		if !ok {
			return nil
		}
		ctx, name := c.Request.Context(), device.CleanName(in.HostName)
		if f.guesses.tooMany(c.ClientIP(), time.Now()) {
			return &front.Error{Status: http.StatusTooManyRequests, Title: "Too many refused enrolments from this address.",
				Detail: "Try again in a minute.", RetryAfter: 60}
		}
		key, err := base64.RawURLEncoding.DecodeString(in.PublicKey)
		if err != nil || len(key) != ed25519.PublicKeySize {
			return front.Problem(http.StatusBadRequest, "The device's key cannot be read.",
				"It is an Ed25519 public key in unpadded base64url.")
		}
		entry := front.EntryOf(c, "device.enrol", "done")
		entry.Actor, entry.Via, entry.DeviceName = name, "agent", name
		var e api.Enrolled
		if _, err = access.ParseSecret(in.Token, access.EnrolmentToken); err == nil {
			e, err = f.store.enrol(ctx, access.HashSecret(in.Token), uuid.New(), name, key)
		} else {
			err = errUnknown
		}
		switch {
		case errors.Is(err, errUnknown), errors.Is(err, errRevoked), errors.Is(err, errExpired), errors.Is(err, errUsedUp):
			f.guesses.note(c.ClientIP(), time.Now())
			entry.Result = "refused: " + err.Error()
			if err := f.audit.Record(ctx, entry); err != nil {
				return err
			}
			return front.Problem(http.StatusForbidden, "The enrolment token does not hold: "+err.Error()+".",
				"Ask a technician for a new one.")
		case db.Duplicate(err):
			return front.Problem(http.StatusConflict, "A device with this key is enrolled already.",
				"Delete the agent's folder on this computer, and enrol it again.")
		case err == nil:
			entry.Device = e.Device
			entry.Detail = e.Organisation + ", " + e.Site
			err = f.audit.Record(ctx, entry)
		}
		if err != nil {
			return err
		}
		waiting := e.Waiting != nil && *e.Waiting
		if waiting {
			hardware := []string{}
			if in.Hardware != nil {
				hardware = device.CleanHardware(*in.Hardware)
			}
			err := f.store.setHardware(ctx, e.Device, hardware)
			if err == nil {
				_, err = f.store.ask(ctx, enrolled, e.Device, nil, name, c.ClientIP(), hardware)
			}
			if err != nil {
				return err
			}
		} else if in.Hardware != nil {
			if err := f.recognise(ctx, e.Device, name, c.ClientIP(), *in.Hardware); err != nil {
				slog.Error("whether a new device was here before is not known", "device", e.Device, "error", err)
			}
		}
		f.judgeAgain(ctx, e.Device)
		if !waiting {
			f.bus.DeviceEnrolled.Publish(ctx, e.Device)
		}
		c.JSON(http.StatusCreated, e)
		return nil
	})
}

// guesses counts refused enrolments by address, so that nobody fills the audit log by guessing.
type guesses struct {
	mu     sync.Mutex
	minute time.Time
	count  map[string]int
}

// mostGuesses is how many refused enrolments an address has in a minute; a site may well stand
// behind one address.
const mostGuesses = 30

func (g *guesses) tooMany(address string, now time.Time) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return now.Sub(g.minute) < time.Minute && g.count[address] >= mostGuesses
}

func (g *guesses) note(address string, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if now.Sub(g.minute) >= time.Minute {
		g.minute, g.count = now, map[string]int{}
	}
	g.count[address]++
}
