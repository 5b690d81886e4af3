package front

import (
	"context"
	"errors"
	"log/slog"
	"net/http"

	"github.com/gin-gonic/gin"

	"moorwatch.example/contract/api"
	"moorwatch.example/service/db"
)

// Error is a failure that the caller is told of, as an RFC 9457 problem document. Title says what
// went wrong, Detail what to do.
type Error struct {
	Status     int
	Title      string
	Detail     string
	Candidates []string
	RetryAfter int    // seconds; 0 for not said
	Type       string // a URN by which programs know it; "" for none
}

func (e *Error) Error() string { return e.Title }

// Problem makes an Error.
func Problem(status int, title, detail string) *Error {
	return &Error{Status: status, Title: title, Detail: detail}
}

// NotFound says that there is no such thing.
func NotFound(what string) *Error {
	return Problem(http.StatusNotFound, "There is no such "+what+".", "It may have been removed; look at the list again.")
}

// Serve answers a request by serve, and with what went wrong where it returns an error. Where serve returns none, it has
// answered itself.
func Serve(c *gin.Context, serve func() error) {
	if err := serve(); err != nil {
		Fail(c, err)
	}
}

// Fail answers a request with what went wrong. An error that is not meant for the caller is
// logged, and the caller told only that the service failed.
func Fail(c *gin.Context, err error) {
	var e *Error
	switch {
	case errors.As(err, &e):
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		c.Abort()
		return
	case db.Unavailable(err):
		slog.Warn("database unavailable", "path", c.FullPath(), "error", err)
		e = Problem(http.StatusServiceUnavailable, "The database does not answer.",
			"Nothing that was stored is lost. Try again in a moment.")
		e.RetryAfter = 2
	default:
		slog.Error("request failed", "method", c.Request.Method, "path", c.FullPath(), "error", err)
		e = Problem(http.StatusInternalServerError, "The service failed.",
			"The reason is in its log. Try again; if it stays, tell whoever runs the service.")
	}
	body := api.Problem{Status: e.Status, Title: e.Title}
	if e.Detail != "" {
		body.Detail = &e.Detail
	}
	if e.Type != "" {
		body.Type = &e.Type
	}
	if len(e.Candidates) > 0 {
		body.Candidates = &e.Candidates
	}
	if e.RetryAfter > 0 {
		body.RetryAfterSeconds = &e.RetryAfter
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(e.Status, body)
}

// Bind reads a JSON body that the gate has already held against the contract. When it fails it
// has answered.
func Bind[T any](c *gin.Context) (T, bool) {
	var v T
	if err := c.ShouldBindJSON(&v); err != nil {
		Fail(c, Problem(http.StatusBadRequest, "The request's body cannot be read.", err.Error()))
		return v, false
	}
	return v, true
}
