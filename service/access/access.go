// Package access is the column of people: who they are, how they prove it, what they may do, their
// API tokens, and the audit log. Its rules are in core/access.
package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/part"
	"moorwatch.example/service/post"
)

// How long what opens the door lasts.
const (
	sessionLasts = 12 * time.Hour
	setUpLasts   = 72 * time.Hour
)

// Service serves the access part of the contract.
type Service struct {
	store    store
	log      *Log
	anchors  []string
	anchored int64  // the last entry whose head is kept outside
	address  string // of the console, for links
	passkeys passkeys
	scopes   Scopes
	post     post.Post      // by which people are told of changes to their sign-in
	telling  sync.WaitGroup // mails under way
	hashing  chan struct{}  // bounds the memory that password hashes take at once
	bus      *bus.Bus
}

// New makes the column. address is where people reach the console, and poster how they are told of changes to
// their sign-in. ring seals the seeds of authenticators; the head of the audit log is written to each of anchors.
func New(base part.Base, log *Log, scopes Scopes, address string, poster post.Post, ring *secret.Ring, anchors []string) *Service {
	a := &Service{store: store{base.Pool, ring}, log: log, scopes: scopes, bus: base.Bus, anchors: anchors, address: address, post: poster,
		passkeys: newPasskeys(address), hashing: make(chan struct{}, 4)}
	a.bus.DeviceMoved.Subscribe(func(ctx context.Context, _ uuid.UUID) { a.changed(ctx, bus.RightsChanged{}) })
	a.bus.ScopeUser.Subscribe(a.scopeInUse)
	a.bus.RoleHolder.Subscribe(a.holderAt)
	a.bus.PersonMay.Subscribe(a.personMay)
	return a
}

// Part is what the service hands out.
func (a *Service) Part() part.Part {
	return part.Part{Name: "access", Run: []func(context.Context){a.Run}, Expire: a.expire, Reseal: a.reseal, Close: a.close}
}

// Scopes knows where roles may be held, and what of the fleet their holders see.
type Scopes interface {
	front.Visibility
	KnownScope(ctx context.Context, s health.Scope) error
	// TrustedScope refuses a scope that rests on what devices say of themselves.
	TrustedScope(ctx context.Context, what string, s health.Scope) error
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
	// Publish sends an event to all consoles that may see it.
	Publish(name string, data any)
}

// changeWithin is how long all who are told of a change may take together to act on it.
const changeWithin = 10 * time.Second

// changed tells others that what somebody may do has changed. What it ends is ended also when who
// changed it has left.
func (a *Service) changed(ctx context.Context, what bus.RightsChanged) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), changeWithin)
	defer cancel()
	a.bus.RightsChanged.Publish(ctx, what)
}

func (a *Service) reseal(ctx context.Context) (int, error) { return a.store.reseal(ctx) }

// Run keeps the audit log's head outside until ctx ends, and waits for what people are told by then.
func (a *Service) Run(ctx context.Context) {
	a.anchor(ctx)
	a.telling.Wait()
}

// close ends the audit log after all that others put on record, and keeps its last head outside.
func (a *Service) close() {
	a.log.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	a.writeHead(ctx)
}

// expire removes sessions, links and failures that no longer count. It is run every hour.
func (a *Service) expire(ctx context.Context) error { return a.store.expire(ctx) }

// Authenticate implements front.Sessions.
func (a *Service) Authenticate(r *http.Request) (*front.Caller, error) {
	if secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		if _, err := access.ParseSecret(secret, access.APIToken); err != nil {
			return nil, nil
		}
		p, t, err := a.store.personByToken(r.Context(), access.HashSecret(secret))
		c, err := caller(p, t.Name, "", err)
		if c != nil {
			c.Token = t.ID
		}
		if limit, ok := t.limit(); ok && c != nil {
			c.Rights, c.Limited = c.Rights.Limited(limit), true
		}
		return c, err
	}
	cookie := sessionOf(r)
	if cookie == "" {
		return nil, nil
	}
	p, use, err := a.store.personBySession(r.Context(), access.HashSecret(cookie), false)
	c, err := caller(p, "browser", cookie, err)
	if c != nil {
		c.Proved, c.Idle = use.proved, use.idle
	}
	return c, err
}

// sessionOf is the secret of the session that a request's cookie names; "" where there is none.
func sessionOf(r *http.Request) string {
	secret := front.SessionOf(r)
	if _, err := access.ParseSecret(secret, access.Session); err != nil {
		return ""
	}
	return secret
}

func caller(p person, via, session string, err error) (*front.Caller, error) {
	if db.Missing(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &front.Caller{ID: p.ID, Name: p.Name, Email: p.Email, Rights: p.Rights, Via: via, Session: session,
		SecondFactor: p.SecondFactor, MustAddFactor: p.FactorAsked && !p.SecondFactor}, nil
}

// FirstOwner makes the first person, an owner, where there is nobody yet, and returns the address
// of their one-time set-up page; "" where there is somebody.
func (a *Service) FirstOwner(ctx context.Context) (string, error) {
	if there, err := a.store.anyone(ctx); there || err != nil {
		return "", err
	}
	_, link, err := a.invite(ctx, firstEmail, "Owner", access.Rights{{Role: access.Owner, Scope: health.Scope{Kind: health.Everywhere}}})
	if err != nil {
		return "", err
	}
	err = a.log.Record(ctx, front.Entry{Actor: "service", Via: "service", Action: "person.add", Detail: "the first owner", Result: "done"})
	return strings.Replace(link, "/set-up#", "/set-up?first#", 1), err
}

func (a *Service) invite(ctx context.Context, email, name string, rights access.Rights) (p person, link string, err error) {
	hash, link, err := a.setUpLink()
	if err == nil {
		p, err = a.store.addPerson(ctx, email, name, rights, hash, time.Now().Add(setUpLasts))
	}
	return p, link, err
}

// setUpLink makes the address of a one-time set-up page, and the hash that it is known by.
func (a *Service) setUpLink() (hash []byte, link string, err error) {
	secret, err := access.NewSecret(rand.Reader, access.SetUpLink, "")
	// The secret stands after the '#', which browsers keep to themselves: no server logs it.
	return access.HashSecret(secret), a.address + "/set-up#" + secret, err
}

// SetUp spends a one-time link: POST /set-up.
func (a *Service) SetUp(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.SetUp](c)
		if !ok {
			return nil
		}
		ctx := c.Request.Context()
		email, name := "", ""
		if in.Name != nil {
			name = strings.TrimSpace(*in.Name)
		}
		if in.Email != nil && *in.Email != "" {
			var err error
			if email, err = address(*in.Email); err != nil {
				return err
			}
		}
		if err := access.CheckPassword(in.Password, email); err != nil {
			return front.Problem(http.StatusUnprocessableEntity, "This password will not do.", err.Error())
		}
		hash, err := a.hash(ctx, in.Password)
		if err != nil {
			return err
		}
		p, err := a.store.useLink(ctx, access.HashSecret(in.Link), hash, name, email)
		switch {
		case db.Missing(err):
			return front.Problem(http.StatusGone, "This link has been used, or is older than three days.",
				"Ask an owner for a new one; if you have chosen a password, sign in with it.")
		case db.Duplicate(err):
			return front.Problem(http.StatusConflict, "Somebody has this e-mail address already.", "Give another.")
		case errors.Is(err, errNotFirst):
			return front.Problem(http.StatusUnprocessableEntity, "Name and e-mail are set already.",
				"Choose a password alone. Whoever invited you can change your name.")
		case err != nil:
			return err
		}
		a.changed(ctx, bus.RightsChanged{Person: p.ID, Revoked: true})
		a.tell(c, p.Email, "your set-up link was used",
			"A password was chosen for you with a set-up link. Sign-ins and API tokens from before hold no more.")
		a.begin(c, p, "person.set-up")
		return nil
	})
}

// SignIn begins a session: POST /session.
func (a *Service) SignIn(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.SignIn](c)
		if !ok {
			return nil
		}
		ctx := c.Request.Context()
		email := strings.ToLower(strings.TrimSpace(in.Email))
		err := a.try(c, email)
		past := false // a lock, by a code that is used up with it
		if locked := (*front.Error)(nil); errors.As(err, &locked) && in.Code != nil {
			var bad error
			if past, bad = a.pastLock(c, email, *in.Code); past || bad != nil {
				err = bad
			}
		}
		if err != nil {
			return err
		}
		p, err := a.store.personByEmail(ctx, email)
		if err != nil && !db.Missing(err) {
			return err
		}
		hash := absent // an unknown account takes as long as a wrong password
		if err == nil && p.Hash != nil {
			hash = *p.Hash
		}
		right, err := a.verify(ctx, hash, in.Password)
		if err != nil {
			return err
		}
		if !right || p.Hash == nil {
			return a.failed(c, "session.start", email, front.Problem(http.StatusUnauthorized, "E-mail or password is wrong.",
				"Check both. After five failures there is a pause."))
		}
		if p.SecondFactor && !past {
			a.askSecond(c, p)
			return nil
		}
		a.begin(c, p, "session.start")
		return nil
	})
}

// failed notes what somebody wanted who could not prove who they are, and returns why not; the try stays
// counted. Who is locked out by it is told.
func (a *Service) failed(c *gin.Context, action, email string, why error) error {
	ctx := c.Request.Context()
	entry := front.EntryOf(c, action, "refused")
	entry.Actor = cut(device.CleanText(email), 320)
	if err := a.log.Record(ctx, entry); err != nil {
		why = err
	}
	if attemptOf(c).failed+1 == access.FreeFailures {
		if p, err := a.store.personByEmail(ctx, email); err == nil {
			a.tell(c, p.Email, "failed sign-ins", fmt.Sprintf("%d tries to sign in as you have failed. For a while further tries must "+
				"wait, but for those from a browser with which you have signed in before.", access.FreeFailures))
		}
	}
	return why
}

// absent is a hash that no password gives.
const absent = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

func (a *Service) hash(ctx context.Context, password string) (string, error) {
	select {
	case a.hashing <- struct{}{}:
		defer func() { <-a.hashing }()
		return access.HashPassword(rand.Reader, password)
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

func (a *Service) verify(ctx context.Context, hash, password string) (bool, error) {
	select {
	case a.hashing <- struct{}{}:
		defer func() { <-a.hashing }()
		return access.VerifyPassword(hash, password), nil
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

// begin starts a session for someone who has proved who they are.
func (a *Service) begin(c *gin.Context, p person, action string) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		entry := front.EntryOf(c, action, "done")
		entry.Actor = p.Email
		secret, err := a.open(c, p, sessionLasts, false)
		if err == nil {
			err = errors.Join(a.passed(c, true), a.know(c, p), a.log.Record(ctx, entry))
		}
		if err != nil {
			return err
		}
		who, _ := caller(p, "browser", secret, nil)
		if who.Idle, err = a.store.idleMinutes(ctx); err != nil {
			return err
		}
		c.JSON(http.StatusOK, me(who))
		return nil
	})
}

// errTakenMeanwhile answers somebody whose password, or sign-in, was taken between its check and what it was to give.
var errTakenMeanwhile = front.Problem(http.StatusUnauthorized, "Your sign-in was changed meanwhile.", "Sign in again.")

// open makes a session and hands its secret to the browser. A pending one opens nothing but the
// step of the second factor.
func (a *Service) open(c *gin.Context, p person, lasts time.Duration, pending bool) (secret string, err error) {
	if secret, err = access.NewSecret(rand.Reader, access.Session, ""); err != nil {
		return "", err
	}
	err = a.store.addSession(c.Request.Context(), access.HashSecret(secret), p, time.Now().Add(lasts), c.ClientIP(),
		cut(device.CleanText(c.Request.UserAgent()), 300), pending)
	if db.Missing(err) {
		return "", errTakenMeanwhile
	}
	if err == nil {
		front.SetSession(c, secret, lasts)
	}
	return secret, err
}

func me(p *front.Caller) api.Me {
	m := api.Me{ID: p.ID, Name: p.Name, Email: p.Email, Grants: describeGrants(p.Rights), Permissions: access.List(p.Rights.Somewhere),
		Everywhere: access.List(p.Rights.Everywhere), SecondFactor: p.SecondFactor, MustAddFactor: p.MustAddFactor, IdleMinutes: p.Idle}
	if p.Session != "" {
		m.Csrf = access.CSRF(p.Session)
	}
	return m
}

// GetMe tells who is signed in: GET /me.
func (a *Service) GetMe(c *gin.Context) { c.JSON(http.StatusOK, me(front.CallerOf(c))) }

// SignOut ends the session: DELETE /session.
func (a *Service) SignOut(c *gin.Context) {
	front.Serve(c, func() error {
		p := front.CallerOf(c)
		ctx := c.Request.Context()
		if p.Session != "" {
			if err := a.store.endSession(ctx, access.HashSecret(p.Session)); err != nil {
				return err
			}
		}
		if err := a.log.Record(ctx, front.EntryOf(c, "session.end", "done")); err != nil {
			return err
		}
		a.changed(ctx, bus.RightsChanged{Person: p.ID})
		front.SetSession(c, "", 0)
		c.Status(http.StatusNoContent)
		return nil
	})
}

// ProveSelf proves with the password that it is still the same person: POST /session/proof.
func (a *Service) ProveSelf(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Password](c)
		if !ok {
			return nil
		}
		if _, err := a.prove(c, "session.prove", in.Password); err != nil {
			return err
		}
		err := a.store.prove(c.Request.Context(), access.HashSecret(front.CallerOf(c).Session))
		if a.done(c, "session.prove", "", err) {
			c.Status(http.StatusNoContent)
		}
		return nil
	})
}

// SetPassword chooses another password: PUT /me/password.
func (a *Service) SetPassword(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.NewPassword](c)
		if !ok {
			return nil
		}
		p, err := a.prove(c, "password.set", in.Password)
		if err != nil {
			return err
		}
		ctx := c.Request.Context()
		if err := access.CheckPassword(in.New, p.Email); err != nil {
			return front.Problem(http.StatusUnprocessableEntity, "This password will not do.", err.Error())
		}
		hash, err := a.hash(ctx, in.New)
		if err == nil {
			err = a.store.setPassword(ctx, p.ID, hash, access.HashSecret(front.CallerOf(c).Session))
		}
		if a.done(c, "password.set", "", err) {
			a.tell(c, p.Email, "your password was changed",
				"Your password was changed. Your other sign-ins and all of your API tokens hold no more.")
			a.changed(ctx, bus.RightsChanged{Person: p.ID, Revoked: true})
			c.Status(http.StatusNoContent)
		}
		return nil
	})
}

func address(email string) (string, error) {
	email = strings.ToLower(strings.TrimSpace(email))
	if parsed, err := mail.ParseAddress(email); err != nil || parsed.Address != email {
		return "", front.Problem(http.StatusUnprocessableEntity, "This is no e-mail address.", "Write it as name@domain.")
	}
	return email, nil
}
