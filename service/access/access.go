// Package access is the column of people: who they are, how they prove it, what they may do, their
// API tokens, and the audit log. Its rules are in core/access.
package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// How long what opens the door lasts.
const (
	sessionLasts = 12 * time.Hour
	setUpLasts   = 72 * time.Hour
)

// Column serves the access part of the contract.
type Column struct {
	store   store
	Log     *Log
	address string        // of the console, for links
	hashing chan struct{} // bounds the memory that password hashes take at once
}

// New makes the column. address is where people reach the console.
func New(pool *pgxpool.Pool, address string) *Column {
	s := store{pool}
	return &Column{store: s, Log: newLog(s), address: address, hashing: make(chan struct{}, 4)}
}

// Run writes the audit log until ctx ends.
func (a *Column) Run(ctx context.Context) { a.Log.run(ctx) }

// Expire removes sessions, links and failures that no longer count. It is run every hour.
func (a *Column) Expire(ctx context.Context) error { return a.store.expire(ctx) }

// Authenticate implements front.Sessions.
func (a *Column) Authenticate(r *http.Request) (*front.Caller, error) {
	if secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		if _, err := access.ParseSecret(secret, access.APIToken); err != nil {
			return nil, nil
		}
		p, name, err := a.store.personByToken(r.Context(), access.HashSecret(secret))
		return caller(p, name, "", err)
	}
	cookie, err := r.Cookie(front.SessionCookie)
	if err != nil {
		return nil, nil
	}
	if _, err := access.ParseSecret(cookie.Value, access.Session); err != nil {
		return nil, nil
	}
	p, err := a.store.personBySession(r.Context(), access.HashSecret(cookie.Value))
	return caller(p, "browser", cookie.Value, err)
}

func caller(p person, via, session string, err error) (*front.Caller, error) {
	if db.Missing(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &front.Caller{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, Via: via, Session: session}, nil
}

// FirstOwner makes the first person, an owner, where there is nobody yet, and returns the address
// of their one-time set-up page; "" where there is somebody.
func (a *Column) FirstOwner(ctx context.Context) (string, error) {
	if there, err := a.store.anyone(ctx); there || err != nil {
		return "", err
	}
	_, link, err := a.invite(ctx, "owner", "Owner", access.Owner)
	if err != nil {
		return "", err
	}
	err = a.Log.Record(ctx, front.Deed{Actor: "service", Via: "service", Action: "person.add", Detail: "the first owner", Result: "done"})
	return strings.Replace(link, "/set-up#", "/set-up?first#", 1), err
}

func (a *Column) invite(ctx context.Context, email, name string, role access.Role) (person, string, error) {
	secret, err := access.NewSecret(rand.Reader, access.SetUpLink, "")
	if err != nil {
		return person{}, "", err
	}
	p, err := a.store.addPerson(ctx, email, name, role, access.HashSecret(secret), time.Now().Add(setUpLasts))
	// The secret stands after the '#', which browsers keep to themselves: no server logs it.
	return p, a.address + "/set-up#" + secret, err
}

// SetUp spends a one-time link: POST /set-up.
func (a *Column) SetUp(c *gin.Context) {
	in, ok := front.Bind[api.SetUp](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	email, name := "", ""
	if in.Name != nil {
		name = strings.TrimSpace(*in.Name)
	}
	if in.Email != nil && *in.Email != "" {
		var err error
		if email, err = address(*in.Email); err != nil {
			front.Fail(c, err)
			return
		}
	}
	if err := access.CheckPassword(in.Password, email); err != nil {
		front.Fail(c, front.Problem(http.StatusUnprocessableEntity, "This password will not do.", err.Error()))
		return
	}
	hash, err := a.hash(ctx, in.Password)
	if err != nil {
		front.Fail(c, err)
		return
	}
	p, err := a.store.useLink(ctx, access.HashSecret(in.Link), hash, name, email)
	switch {
	case db.Missing(err):
		front.Fail(c, front.Problem(http.StatusGone, "This link has been used, or is older than three days.", "Ask an owner for a new one; if you have chosen a password, sign in with it."))
		return
	case db.Duplicate(err):
		front.Fail(c, front.Problem(http.StatusConflict, "Somebody has this e-mail address already.", "Give another."))
		return
	case err != nil:
		front.Fail(c, err)
		return
	}
	a.begin(c, p, "person.set-up")
}

// SignIn begins a session: POST /session.
func (a *Column) SignIn(c *gin.Context) {
	in, ok := front.Bind[api.SignIn](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	email := strings.ToLower(strings.TrimSpace(in.Email))
	from, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
	account, place := "account "+email, "address "+from
	for _, subject := range []string{account, place} {
		n, last, err := a.store.failures(ctx, subject)
		if err != nil {
			front.Fail(c, err)
			return
		}
		if subject == place {
			n /= 4 // many people may share an address
		}
		if wait := access.Pause(n) - time.Since(last); wait > 0 {
			seconds := int(math.Ceil(wait.Seconds()))
			front.Fail(c, &front.Error{Status: http.StatusTooManyRequests, Title: "Too many failed sign-ins.",
				Detail: fmt.Sprintf("Try again in %d seconds.", seconds), RetryAfter: seconds})
			return
		}
	}
	p, err := a.store.personByEmail(ctx, email)
	if err != nil && !db.Missing(err) {
		front.Fail(c, err)
		return
	}
	hash := absent // an unknown account takes as long as a wrong password
	if err == nil && p.Hash != nil {
		hash = *p.Hash
	}
	right, err := a.verify(ctx, hash, in.Password)
	if err != nil {
		front.Fail(c, err)
		return
	}
	if !right || p.Hash == nil {
		if err := a.store.addFailure(ctx, account, place); err != nil {
			front.Fail(c, err)
			return
		}
		deed := front.DeedOf(c, "session.start", "refused")
		deed.Actor = cut(email, 320)
		if err := a.Log.Record(ctx, deed); err != nil {
			front.Fail(c, err)
			return
		}
		front.Fail(c, front.Problem(http.StatusUnauthorized, "E-mail or password is wrong.", "Check both. After five failures there is a pause."))
		return
	}
	if err := a.store.forgetFailures(ctx, account); err != nil {
		front.Fail(c, err)
		return
	}
	a.begin(c, p, "session.start")
}

// absent is a hash that no password gives.
const absent = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

func (a *Column) hash(ctx context.Context, password string) (string, error) {
	select {
	case a.hashing <- struct{}{}:
		defer func() { <-a.hashing }()
		return access.HashPassword(rand.Reader, password)
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

func (a *Column) verify(ctx context.Context, hash, password string) (bool, error) {
	select {
	case a.hashing <- struct{}{}:
		defer func() { <-a.hashing }()
		return access.VerifyPassword(hash, password), nil
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

// begin starts a session for someone who has proved who they are.
func (a *Column) begin(c *gin.Context, p person, action string) {
	ctx := c.Request.Context()
	secret, err := access.NewSecret(rand.Reader, access.Session, "")
	if err != nil {
		front.Fail(c, err)
		return
	}
	deed := front.DeedOf(c, action, "done")
	deed.Actor = p.Email
	if err := errors.Join(a.store.addSession(ctx, access.HashSecret(secret), p.ID, time.Now().Add(sessionLasts), c.ClientIP()), a.Log.Record(ctx, deed)); err != nil {
		front.Fail(c, err)
		return
	}
	front.SetSession(c, secret, sessionLasts)
	c.JSON(http.StatusOK, me(&front.Caller{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, Session: secret}))
}

func me(p *front.Caller) api.Me {
	m := api.Me{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, Permissions: []string{}}
	for _, permission := range p.Role.Permissions() {
		m.Permissions = append(m.Permissions, string(permission))
	}
	if p.Session != "" {
		m.Csrf = access.CSRF(p.Session)
	}
	return m
}

// GetMe tells who is signed in: GET /me.
func (a *Column) GetMe(c *gin.Context) { c.JSON(http.StatusOK, me(front.CallerOf(c))) }

// SignOut ends the session: DELETE /session.
func (a *Column) SignOut(c *gin.Context) {
	p := front.CallerOf(c)
	ctx := c.Request.Context()
	if p.Session != "" {
		if err := a.store.endSession(ctx, access.HashSecret(p.Session)); err != nil {
			front.Fail(c, err)
			return
		}
	}
	if err := a.Log.Record(ctx, front.DeedOf(c, "session.end", "done")); err != nil {
		front.Fail(c, err)
		return
	}
	front.SetSession(c, "", 0)
	c.Status(http.StatusNoContent)
}

func address(email string) (string, error) {
	email = strings.ToLower(strings.TrimSpace(email))
	if parsed, err := mail.ParseAddress(email); err != nil || parsed.Address != email {
		return "", front.Problem(http.StatusUnprocessableEntity, "This is no e-mail address.", "Write it as name@domain.")
	}
	return email, nil
}

func describe(p person) api.Person {
	return api.Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, CreatedAt: p.CreatedAt, Ready: p.Hash != nil}
}

// ListPeople lists who may sign in: GET /people.
func (a *Column) ListPeople(c *gin.Context, in api.ListPeopleParams) {
	var after struct {
		Name string
		ID   uuid.UUID
	}
	limit := front.Limit(in.Limit, 100)
	if err := front.After(in.Cursor, &after); err != nil {
		front.Fail(c, err)
		return
	}
	found, err := a.store.people(c.Request.Context(), after.Name, after.ID, limit+1)
	if err != nil {
		front.Fail(c, err)
		return
	}
	found, next := front.Page(found, limit, func(p person) any { after.Name, after.ID = p.Name, p.ID; return after })
	items := make([]api.Person, len(found))
	for i, p := range found {
		items[i] = describe(p)
	}
	c.JSON(http.StatusOK, api.PersonPage{Items: items, Next: next})
}

// AddPerson adds someone who may sign in: POST /people.
func (a *Column) AddPerson(c *gin.Context) {
	in, ok := front.Bind[api.NewPerson](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	email, err := address(in.Email)
	if err != nil {
		front.Fail(c, err)
		return
	}
	p, link, err := a.invite(ctx, email, strings.TrimSpace(in.Name), in.Role)
	if db.Duplicate(err) {
		err = front.Problem(http.StatusConflict, "Somebody has this e-mail address already.", "Each person needs an address of their own.")
	}
	if err == nil {
		deed := front.DeedOf(c, "person.add", "done")
		deed.Detail = fmt.Sprintf("%s as %s", email, in.Role)
		err = a.Log.Record(ctx, deed)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, api.AddedPerson{Person: describe(p), Link: link})
}

func describeToken(t token) api.Token {
	return api.Token{ID: t.ID, Name: t.Name, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, LastUsedAt: t.LastUsedAt, RevokedAt: t.RevokedAt}
}

// ListTokens lists the caller's API tokens: GET /tokens.
func (a *Column) ListTokens(c *gin.Context, in api.ListTokensParams) {
	before := time.Now().Add(time.Hour)
	limit := front.Limit(in.Limit, 100)
	if err := front.After(in.Cursor, &before); err != nil {
		front.Fail(c, err)
		return
	}
	found, err := a.store.tokens(c.Request.Context(), front.CallerOf(c).ID, before, limit+1)
	if err != nil {
		front.Fail(c, err)
		return
	}
	found, next := front.Page(found, limit, func(t token) any { return t.CreatedAt })
	items := make([]api.Token, len(found))
	for i, t := range found {
		items[i] = describeToken(t)
	}
	c.JSON(http.StatusOK, api.TokenPage{Items: items, Next: next})
}

// AddToken makes an API token with the caller's role: POST /tokens.
func (a *Column) AddToken(c *gin.Context) {
	in, ok := front.Bind[api.NewToken](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	secret, err := access.NewSecret(rand.Reader, access.APIToken, "")
	if err != nil {
		front.Fail(c, err)
		return
	}
	t, err := a.store.addToken(ctx, front.CallerOf(c).ID, in.Name, access.HashSecret(secret), time.Now().AddDate(0, 0, in.Days))
	if err == nil {
		deed := front.DeedOf(c, "token.add", "done")
		deed.Detail = in.Name
		err = a.Log.Record(ctx, deed)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, api.AddedToken{Token: describeToken(t), Secret: secret})
}

// RevokeToken revokes one of the caller's API tokens: DELETE /tokens/{id}.
func (a *Column) RevokeToken(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	name, err := a.store.revokeToken(ctx, front.CallerOf(c).ID, id)
	if db.Missing(err) {
		err = front.NotFound("API token of yours")
	}
	if err == nil {
		deed := front.DeedOf(c, "token.revoke", "done")
		deed.Detail = name
		err = a.Log.Record(ctx, deed)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
