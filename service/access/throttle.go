package access

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"net/netip"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// knownLasts is how long a browser counts as known after somebody signed in with it.
const knownLasts = 180 * 24 * time.Hour

// attempt is a try to prove who one is. It counts as a failure from before it is made until it has succeeded, so
// that many at once are no more than many in turn.
type attempt struct {
	account string // that it is counted for
	failed  int    // that the account had before
	rows    []int64
}

const attemptKey = "moorwatch attempt"

// whoTries says what a try is counted for: the account, or the browser where somebody signed in with it
// before, so that nobody is locked out by the failures of others; and the address.
func (a *Service) whoTries(c *gin.Context, email string) (account, place string, err error) {
	account, place = "account "+email, "address "+shared(c.ClientIP())
	secret := front.KnownOf(c.Request)
	if _, bad := access.ParseSecret(secret, access.KnownBrowser); bad != nil {
		return account, place, nil
	}
	hash := access.HashSecret(secret)
	known, err := a.store.knows(c.Request.Context(), hash, email)
	if known {
		account = "browser " + hex.EncodeToString(hash)
	}
	return account, place, err
}

// shared is an address as its owner has it: of IPv6 the first 64 bits.
func shared(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if a = a.Unmap(); a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.String()
		}
	}
	return a.String()
}

// manyShare is how many times more failures an address may have than an account: many people may share one.
const manyShare = 4

// try counts a try, and refuses it soon after others failed. It ends as a failure unless passed is called.
func (a *Service) try(c *gin.Context, email string) error {
	account, place, err := a.whoTries(c, email)
	if err != nil {
		return err
	}
	return a.tryFor(c, account, place)
}

func (a *Service) tryFor(c *gin.Context, account, place string) error {
	t := attempt{account: account}
	wait, err := a.store.try(c.Request.Context(), &t, place)
	if err != nil {
		return err
	}
	if wait > 0 {
		seconds := int(math.Ceil(wait.Seconds()))
		return &front.Error{Status: http.StatusTooManyRequests, Title: "Too many failed sign-ins.",
			Detail: fmt.Sprintf("Try again in %d seconds, or from a browser with which you have signed in before, or give the code of "+
				"your authenticator together with the password.", seconds), RetryAfter: seconds}
	}
	c.Set(attemptKey, t)
	return nil
}

// attemptOf is the try that a request is; none where it is not one.
func attemptOf(c *gin.Context) attempt {
	v, _ := c.Get(attemptKey)
	t, _ := v.(attempt)
	return t
}

// passed no longer counts the try as a failure; wholly, where it proved all that there is to prove, nor those
// of its account before it.
func (a *Service) passed(c *gin.Context, wholly bool) error {
	t := attemptOf(c)
	if wholly && t.account != "" {
		if err := a.store.forgetFailures(c.Request.Context(), t.account); err != nil {
			return err
		}
	}
	return a.store.forgetTries(c.Request.Context(), t.rows)
}

// pastLock lets somebody try a password though their account is locked: they give the code of their
// authenticator with it. Codes are counted on their own.
func (a *Service) pastLock(c *gin.Context, email, code string) (bool, error) {
	if err := a.tryFor(c, "code of "+email, "address "+shared(c.ClientIP())); err != nil {
		return false, err
	}
	p, err := a.store.personByEmail(c.Request.Context(), email)
	if err != nil {
		if db.Missing(err) {
			err = nil
		}
		return false, err
	}
	return a.codeFits(c.Request.Context(), p, code)
}

// know has the browser be known for whoever has just signed in with it.
func (a *Service) know(c *gin.Context, p person) error {
	if secret := front.KnownOf(c.Request); secret != "" {
		if known, err := a.store.knows(c.Request.Context(), access.HashSecret(secret), p.Email); known || err != nil {
			return err
		}
	}
	others, err := a.store.hasKnown(c.Request.Context(), p.ID)
	if err != nil {
		return err
	}
	secret, err := access.NewSecret(rand.Reader, access.KnownBrowser, "")
	if err != nil {
		return err
	}
	if err := a.store.addKnown(c.Request.Context(), access.HashSecret(secret), p.ID, time.Now().Add(knownLasts)); err != nil {
		return err
	}
	front.SetKnown(c, secret, knownLasts)
	if others { // it is not the first of all
		a.tell(c, p.Email, "a sign-in from a new browser",
			"Somebody signed in as you with a browser that had not been used for that before: "+
				cut(device.CleanText(c.Request.UserAgent()), 200)+".")
	}
	return nil
}

// tellWithin is how long a mail about somebody's sign-in may take to be handed over.
const tellWithin = time.Minute

// tell writes to somebody about their sign-in, without waiting for it. Where no mail server is set nothing
// is said.
func (a *Service) tell(c *gin.Context, to, subject, text string) {
	if a.post.SMTP == "" {
		return
	}
	body := text + fmt.Sprintf("\n\nIt came from %s, at %s.\nIf it was not you, tell whoever runs Moorwatch at once, and choose another "+
		"password: %s\n", c.ClientIP(), time.Now().UTC().Format("2 January 2006 15:04 UTC"), a.address)
	a.telling.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), tellWithin)
		defer cancel()
		if err := a.post.Mail(ctx, []string{to}, uuid.NewString(), "Moorwatch: "+subject, body); err != nil {
			slog.Warn("somebody cannot be told of a change to their sign-in", "error", err)
		}
	})
}
