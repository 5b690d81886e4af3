package access

import (
	"context"
	"crypto/rand"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// limit is how the token is narrower than its owner; false where it is not.
func (t token) limit() (access.Limit, bool) {
	l := access.Limit{Permissions: t.Permissions}
	if t.ScopeKind != nil && *t.ScopeKind != health.Everywhere {
		l.Scope = health.Scope{Kind: *t.ScopeKind, ID: *t.ScopeID}
	}
	return l, l.Permissions != nil || l.Scope.Kind != ""
}

func describeToken(t token) api.Token {
	out := api.Token{ID: t.ID, Name: t.Name, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, LastUsedAt: t.LastUsedAt,
		RevokedAt: t.RevokedAt}
	if l, ok := t.limit(); ok {
		if l.Permissions != nil {
			out.Permissions = &l.Permissions
		}
		if l.Scope.Kind != "" {
			out.Scope = &l.Scope
		}
	}
	return out
}

func (a *Service) listTokens(c *gin.Context, person uuid.UUID, cursor *string, limit *int) {
	front.List(c, cursor, limit, time.Now().Add(time.Hour),
		func(ctx context.Context, before time.Time, limit int) ([]token, error) {
			return a.store.tokens(ctx, person, before, limit)
		},
		func(t token) time.Time { return t.CreatedAt },
		func(found []token, next *string) any {
			items := make([]api.Token, len(found))
			for i, t := range found {
				items[i] = describeToken(t)
			}
			return api.TokenPage{Items: items, Next: next}
		})
}

// ListTokens lists the caller's API tokens: GET /tokens.
func (a *Service) ListTokens(c *gin.Context, in api.ListTokensParams) {
	a.listTokens(c, front.CallerOf(c).ID, in.Cursor, in.Limit)
}

// ListPersonTokens lists the API tokens of a person: GET /people/{id}/tokens.
func (a *Service) ListPersonTokens(c *gin.Context, id api.ID, in api.ListPersonTokensParams) {
	a.listTokens(c, id, in.Cursor, in.Limit)
}

// reserved are what the audit log says instead of a token's name where something was not done with one.
var reserved = []string{"browser", "agent", "service", "policy", "rollout", "job", "schedule"}

// AddToken makes an API token: POST /tokens. A token cannot make another, so that one that leaks does
// not outlast its end.
func (a *Service) AddToken(c *gin.Context) {
	caller := front.CallerOf(c)
	if caller.Session == "" {
		front.Fail(c, front.Problem(http.StatusForbidden, "An API token makes no other.",
			"Sign in with your password: in the console, or with: moor token add"))
		return
	}
	var made api.NewToken
	change := front.Change{Action: "token.add"}
	if front.Write(c, a.log, http.StatusCreated, change, func(ctx context.Context, in api.NewToken, x *front.Change) (
		out api.AddedToken, err error) {
		made, x.Detail = in, in.Name
		if slices.Contains(reserved, strings.ToLower(strings.TrimSpace(in.Name))) {
			return out, front.Problem(http.StatusUnprocessableEntity, "A token cannot have this name.",
				"The audit log means something else by it. Choose another.")
		}
		limit, err := a.tokenLimit(ctx, in)
		if err != nil {
			return out, err
		}
		if out.Secret, err = access.NewSecret(rand.Reader, access.APIToken, ""); err != nil {
			return out, err
		}
		t, err := a.store.addToken(ctx, caller.ID, access.HashSecret(caller.Session), in.Name, access.HashSecret(out.Secret),
			time.Now().AddDate(0, 0, in.Days), limit)
		if db.Missing(err) {
			err = errTakenMeanwhile
		}
		out.Token = describeToken(t)
		return out, err
	}) {
		a.tell(c, caller.Email, "an API token was made", "An API token was made for you: "+made.Name+". It holds for "+
			strconv.Itoa(made.Days)+" days.")
	}
}

// tokenLimit reads to what a token is limited. It may name what its owner lacks now: it never grants it.
func (a *Service) tokenLimit(ctx context.Context, in api.NewToken) (l access.Limit, err error) {
	if in.Permissions != nil {
		l.Permissions = *in.Permissions
	}
	if in.Scope != nil && in.Scope.Kind != health.Everywhere {
		l.Scope = *in.Scope
	}
	if err := l.Validate(); err != nil {
		return l, front.Problem(http.StatusUnprocessableEntity, "The token cannot be limited so.", err.Error()+".")
	}
	if l.Scope.Kind != "" {
		err = a.scopes.KnownScope(ctx, l.Scope)
	}
	return l, err
}

// RevokeToken revokes one of the caller's API tokens: DELETE /tokens/{id}.
func (a *Service) RevokeToken(c *gin.Context, id api.ID) {
	if front.CallerOf(c).Limited {
		front.Fail(c, front.Problem(http.StatusForbidden, "A limited API token revokes none.", "Sign in, or use a token without limits."))
		return
	}
	a.revoke(c, front.CallerOf(c).ID, id)
}

// RevokePersonToken revokes an API token of a person: DELETE /people/{id}/tokens/{token}. To end what
// somebody may do is less than to grant it: it is open to whoever manages people, whatever the person is.
func (a *Service) RevokePersonToken(c *gin.Context, id api.ID, token uuid.UUID) {
	a.revoke(c, id, token)
}

func (a *Service) revoke(c *gin.Context, person, id uuid.UUID) {
	change := front.Change{Action: "token.revoke", What: "API token that holds", Then: a.rights(bus.RightsChanged{Person: person})}
	front.Do(c, a.log, change, func(ctx context.Context, x *front.Change) (err error) {
		x.Detail, err = a.store.revokeToken(ctx, person, id)
		return err
	})
}
