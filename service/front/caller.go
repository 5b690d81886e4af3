package front

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/core/access"
)

// Caller is the person whom a request comes from.
type Caller struct {
	ID      uuid.UUID
	Name    string
	Email   string
	Role    access.Role
	Via     string // "browser" or the name of an API token
	Session string // the session's secret, where a cookie brought it
}

// May tells whether the caller may do what needs a permission.
func (c *Caller) May(p access.Permission) bool { return c.Role.May(p) }

// Sessions finds out who calls. Authenticate returns nil and no error for a request without
// credentials, or with ones that do not hold.
type Sessions interface {
	Authenticate(r *http.Request) (*Caller, error)
}

// Deed is what the audit log is told.
type Deed struct {
	Actor, Via, Address string // filled from the request by DeedOf
	Action              string // a verb and its object: "command.start"
	Device              uuid.UUID
	DeviceName          string
	Detail              string
	Result              string
}

// Recorder writes deeds to the audit log. Record returns once the deed is on disk.
type Recorder interface {
	Record(ctx context.Context, d Deed) error
}

const callerKey = "moorwatch caller"

// CallerOf is who makes this request; the gate has seen to it that there is one wherever the
// contract asks for more than "anyone".
func CallerOf(c *gin.Context) *Caller {
	v, _ := c.Get(callerKey)
	caller, _ := v.(*Caller)
	return caller
}

// DeedOf begins a deed with what the request tells of its doer.
func DeedOf(c *gin.Context, action, result string) Deed {
	d := Deed{Action: action, Result: result, Address: c.ClientIP(), Via: "browser"}
	if caller := CallerOf(c); caller != nil {
		d.Actor, d.Via = caller.Email, caller.Via
	}
	return d
}

// SessionCookie is the name of the cookie that carries a session.
const SessionCookie = "moorwatch_session"

// SetSession hands a session to the browser; an empty secret takes it back.
func SetSession(c *gin.Context, secret string, lasts time.Duration) {
	age := int(lasts.Seconds())
	if secret == "" {
		age = -1
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: SessionCookie, Value: secret, Path: "/", MaxAge: age,
		HttpOnly: true, Secure: c.Request.TLS != nil, SameSite: http.SameSiteStrictMode})
}
