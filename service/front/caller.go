package front

import (
	"context"
	"net/http"
	"net/netip"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/service/doors"
)

// Caller is the person whom a request comes from.
type Caller struct {
	ID      uuid.UUID
	Name    string
	Email   string
	Rights  access.Rights
	Via     string    // "browser" or the name of an API token
	Session string    // the session's secret, where a cookie brought it
	Proved  time.Time // when they last proved who they are in that session
	Idle    int       // minutes without a request after which it ends
	Token   uuid.UUID // the API token that they come with; uuid.Nil for a browser
	// Limited tells that they come with an API token that may do less than they: it begins nothing that
	// is later done with their own rights.
	Limited bool
	// SecondFactor tells whether they have one, and MustAddFactor that nothing but adding one is open
	// to them, since the sign-in policy asks for it.
	SecondFactor, MustAddFactor bool
}

// Sessions finds out who calls. Authenticate returns nil and no error for a request without
// credentials, or with ones that do not hold.
type Sessions interface {
	Authenticate(r *http.Request) (*Caller, error)
}

// Visibility tells what callers may see and do of the fleet. It is the fleet column's.
type Visibility interface {
	// View is the devices and sites at which the caller holds a permission; nil for all.
	View(ctx context.Context, caller *Caller, p access.Permission) ([]uuid.UUID, error)
	// MayAt refuses a caller who may not do what needs p at each of some scopes.
	MayAt(ctx context.Context, caller *Caller, p access.Permission, scopes ...health.Scope) error
	// Concerns tells whether what is set for a scope concerns what the caller may see.
	Concerns(ctx context.Context, caller *Caller, s health.Scope) bool
	// Sees leaves of devices those that the caller may know of.
	Sees(caller *Caller, rows []api.Device) []api.Device
}

const placeKey = "moorwatch place"

// May tells whether the caller may do what needs p at the device that a request is about; of a
// request about none, whether they may everywhere.
func May(c *gin.Context, p access.Permission) bool { return CallerOf(c).Rights.May(p, PlaceOf(c)) }

// PlaceOf is where the device stands that a request is about; everywhere where it is about none.
func PlaceOf(c *gin.Context) *health.Place {
	at, _ := c.Get(placeKey)
	if place, ok := at.(*health.Place); ok {
		return place
	}
	return &health.Place{}
}

// Action is what the audit log is told.
type Entry struct {
	Actor, Via, Address string // filled from the request by EntryOf
	ActorID, ViaID      string // of the person and the API token; "" where there is none
	Action              string // a verb and its object: "command.start"
	Device              uuid.UUID
	DeviceName          string
	Detail              string
	Result              string
}

// Recorder writes actions to the audit log. Record returns once the action is on disk.
type Recorder interface {
	Record(ctx context.Context, d Entry) error
	// Note puts on record what is over already, and does not wait for it: it is on disk before the service stops.
	Note(d Entry)
}

const callerKey = "moorwatch caller"

// CallerOf is who makes this request; the gate has seen to it that there is one wherever the
// contract asks for more than "anyone".
func CallerOf(c *gin.Context) *Caller {
	v, _ := c.Get(callerKey)
	caller, _ := v.(*Caller)
	return caller
}

// EntryOf begins an action with what the request tells of its doer.
func EntryOf(c *gin.Context, action, result string) Entry {
	d := Entry{Action: action, Result: result, Address: c.ClientIP(), Via: "browser"}
	if caller := CallerOf(c); caller != nil {
		d.Actor, d.Via, d.ActorID = caller.Email, caller.Via, caller.ID.String()
		if caller.Token != uuid.Nil {
			d.ViaID = caller.Token.String()
		}
	}
	return d
}

// The names of the cookie that carries a session. Over TLS it has a prefix by which browsers let no other
// host, and nobody without TLS, set it (RFC 6265bis, 4.1.3.2).
const (
	sessionCookie = "__Host-moorwatch"
	plainCookie   = "moorwatch_session" // on loopback without TLS
)

type secureKey struct{}

// secure tells whether a request came over TLS, to this service or to a proxy that is trusted.
func secure(r *http.Request) bool {
	over, _ := r.Context().Value(secureKey{}).(bool)
	return over || r.TLS != nil
}

// mark notes of a request whether it came over TLS to a trusted proxy.
func mark(d *doors.Doors) gin.HandlerFunc {
	return func(c *gin.Context) {
		if at, err := netip.ParseAddrPort(c.Request.RemoteAddr); err == nil && d.Proxied(at.Addr().Unmap()) &&
			c.GetHeader("X-Forwarded-Proto") == "https" {
			c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), secureKey{}, true))
		}
		c.Next()
	}
}

// SessionOf is what a request's cookie carries; "" where it has none.
func SessionOf(r *http.Request) string { return carried(r, sessionCookie, plainCookie) }

func carried(r *http.Request, over, plain string) string {
	for _, name := range []string{over, plain} {
		if name == plain && secure(r) {
			break // anybody without TLS could have set it
		}
		if cookie, err := r.Cookie(name); err == nil {
			return cookie.Value
		}
	}
	return ""
}

// The names of the cookie by which a browser is known with which somebody has signed in before.
const (
	knownCookie      = "__Host-moorwatch-known"
	plainKnownCookie = "moorwatch_known"
)

// KnownOf is what a browser that is known carries; "" of another.
func KnownOf(r *http.Request) string { return carried(r, knownCookie, plainKnownCookie) }

// SetKnown has the browser be known.
func SetKnown(c *gin.Context, secret string, lasts time.Duration) {
	setCookie(c, knownCookie, plainKnownCookie, secret, int(lasts.Seconds()))
}

// SetSession hands a session to the browser; an empty secret takes it back.
func SetSession(c *gin.Context, secret string, lasts time.Duration) {
	age := int(lasts.Seconds())
	if secret == "" {
		age = -1
	}
	setCookie(c, sessionCookie, plainCookie, secret, age)
}

func setCookie(c *gin.Context, over, plain, value string, age int) {
	name := plain
	if secure(c.Request) {
		name = over
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: name, Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, Secure: name == over, SameSite: http.SameSiteStrictMode})
}

// ProofLasts is how long after somebody proved who they are nobody asks again, for what is grave.
const ProofLasts = 15 * time.Minute

// proofNeeded is known by the console, which asks for the password and sends the request again.
const proofNeeded = "urn:moorwatch:proof-needed"

// Recent refuses somebody at a browser who has not proved lately who they are. API tokens are made after such a proof,
// and are not asked.
func Recent(caller *Caller, now time.Time) error {
	if caller.Session == "" || now.Sub(caller.Proved) < ProofLasts {
		return nil
	}
	return &Error{Status: http.StatusForbidden, Title: "Prove that it is you.",
		Detail: "Give your password once more: it changes who may do what, or many devices at once, and you signed in a while ago.",
		Type:   proofNeeded}
}
