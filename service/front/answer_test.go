package front

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"moorwatch.example/contract/api"
)

// book is an audit log in memory; it fails with an error where one is set.
type book struct {
	entries []Entry
	err     error
}

func (b *book) Record(_ context.Context, e Entry) error {
	if b.err == nil {
		b.entries = append(b.entries, e)
	}
	return b.err
}

func (b *book) Note(e Entry) { b.entries = append(b.entries, e) }

// asked is a request of a caller, and what it is answered with.
func asked(caller *Caller) (*gin.Context, *httptest.ResponseRecorder) {
	gin.SetMode(gin.ReleaseMode)
	w := httptest.NewRecorder()
	c, _ := gin.CreateTestContext(w)
	c.Request = httptest.NewRequest(http.MethodPost, "/api/v1/groups", nil)
	if caller != nil {
		c.Set(callerKey, caller)
	}
	return c, w
}

// A change is on record exactly where it took effect, and its caller is told what is wrong with it.
func TestChanged(t *testing.T) {
	robin := &Caller{ID: uuid.New(), Email: "robin@moor.example", Via: "browser"}
	duplicate := &pgconn.PgError{Code: "23505"}
	for name, c := range map[string]struct {
		err, then, audit error
		change           Change
		status           int
		title            string
	}{
		"well": {nil, nil, nil, Change{Action: "group.add", Detail: "Kiosks"}, 0, ""},
		"not there": {fmt.Errorf("reading it: %w", pgx.ErrNoRows), nil, nil, Change{What: "group"}, 404,
			"There is no such group."},
		"nothing of a kind": {pgx.ErrNoRows, nil, nil, Change{}, 404, "There is no such entry."},
		"there already":     {duplicate, nil, nil, Change{}, 409, "There is one of this name already."},
		"there already, in words": {duplicate, nil, nil, Change{Taken: Problem(409, "Somebody has this address.", "")}, 409,
			"Somebody has this address."},
		"what the caller did":      {Problem(400, "The name is empty.", "Give one."), nil, nil, Change{}, 400, "The name is empty."},
		"what the service did":     {errors.New("secret: the disk /dev/peat is full"), nil, nil, Change{}, 500, "The service failed."},
		"it takes no effect":       {nil, errors.New("secret: no"), nil, Change{}, 500, "The service failed."},
		"it cannot be put on file": {nil, nil, errors.New("secret: no"), Change{}, 500, "The service failed."},
	} {
		log, then := &book{err: c.audit}, 0
		if c.change.Action == "" {
			c.change.Action = "group.change"
		}
		c.change.Device, c.change.DeviceName = robin.ID, "hay-desk-01"
		c.change.Then = func(context.Context) error { then++; return c.then }
		ctx, w := asked(robin)
		ok := Changed(ctx, log, c.change, c.err)
		if ok != (c.status == 0) || then != map[bool]int{true: 1, false: 0}[c.err == nil] {
			t.Errorf("%s: %v, %d times in effect", name, ok, then)
		}
		if !ok {
			var p api.Problem
			if err := json.Unmarshal(w.Body.Bytes(), &p); err != nil || w.Code != c.status || p.Title != c.title ||
				w.Header().Get("Content-Type") != "application/problem+json" || strings.Contains(w.Body.String(), "secret") ||
				len(log.entries) != 0 {
				t.Errorf("%s: %d %s, %d entries", name, w.Code, w.Body, len(log.entries))
			}
			continue
		}
		e := log.entries[0]
		if e.Actor != robin.Email || e.ActorID != robin.ID.String() || e.Action != "group.add" || e.Detail != "Kiosks" ||
			e.Result != "done" ||
			e.Device != robin.ID || e.DeviceName != "hay-desk-01" {
			t.Errorf("%s: %+v", name, e)
		}
	}
	ctx, _ := asked(nil)
	log := &book{}
	if !Changed(ctx, log, Change{Action: "person.set-up"}, nil) || log.entries[0].ActorID != "" {
		t.Errorf("a change by nobody who is signed in: %+v", log.entries)
	}
}

func TestAnswers(t *testing.T) {
	ctx, w := asked(nil)
	Answer(ctx, http.StatusCreated, api.TagList{Tags: []string{"kiosk"}}, nil)
	if w.Code != http.StatusCreated || w.Body.String() != `{"tags":["kiosk"]}` {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	ctx, w = asked(nil)
	Answer(ctx, http.StatusCreated, (*api.TagList)(nil), NotFound("tag"))
	if w.Code != http.StatusNotFound || !strings.Contains(w.Body.String(), "no such tag") {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	ctx, w = asked(nil)
	Done(ctx, nil)
	if ctx.Writer.Status() != http.StatusNoContent || w.Body.Len() != 0 {
		t.Errorf("%d %s", ctx.Writer.Status(), w.Body)
	}
	ctx, w = asked(nil)
	if Done(ctx, NotFound("tag")); w.Code != http.StatusNotFound {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	// A caller who went away is told nothing, and nothing is logged as a failure of the service.
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	ctx, w = asked(nil)
	ctx.Request = ctx.Request.WithContext(gone)
	if Done(ctx, gone.Err()); w.Body.Len() != 0 || !ctx.IsAborted() {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}

// Pages end where their cursors say, and whatever a caller sends as a cursor is read or refused.
func TestPages(t *testing.T) {
	all := make([]int, 25)
	for i := range all {
		all[i] = i
	}
	for _, limit := range []int{1, 7, 24, 25, 100} {
		got, after, cursor := 0, -1, (*string)(nil)
		for {
			if err := After(cursor, &after); err != nil {
				t.Fatal(err)
			}
			rows := all[after+1:]
			page, next := Page(rows[:min(limit+1, len(rows))], limit, func(n int) any { return n })
			if len(page) > limit || len(page) > 0 && page[0] != got {
				t.Fatalf("%v after %d", page, after)
			}
			if got += len(page); next == nil {
				break
			}
			cursor = next
		}
		if got != len(all) {
			t.Errorf("pages of %d: %d rows", limit, got)
		}
	}
	if page, next := Page[int](nil, 5, nil); page == nil || next != nil {
		t.Error("an empty page is null in JSON")
	}
	for _, odd := range []string{"x", "!", "bnVsbA", *Cursor("a text")} {
		n := 3
		if err := After(&odd, &n); err != nil {
			var e *Error
			if !errors.As(err, &e) || e.Status != http.StatusBadRequest {
				t.Errorf("%q: %v", odd, err)
			}
		}
	}
	if Limit(nil, 50) != 50 || Limit(new(7), 50) != 7 {
		t.Error("a limit is another")
	}
}

// A change is made of what the body says, is completed by what it came to know, and is on record before it is answered.
func TestWrite(t *testing.T) {
	robin := &Caller{ID: uuid.New(), Email: "robin@moor.example", Via: "browser"}
	type body struct{ Name string }
	for name, test := range map[string]struct {
		body   string
		err    error
		audit  error
		status int
	}{
		"well":              {`{"name": "Kiosks"}`, nil, nil, http.StatusCreated},
		"a broken body":     {`{"name":`, nil, nil, http.StatusBadRequest},
		"nothing there":     {`{"name": "Kiosks"}`, pgx.ErrNoRows, nil, http.StatusNotFound},
		"it is not on file": {`{"name": "Kiosks"}`, nil, errors.New("the disk is full"), http.StatusInternalServerError},
	} {
		log, made, took := &book{err: test.audit}, 0, 0
		change := Change{Action: "group.add", What: "group", Then: func(context.Context) error { took++; return nil }}
		begin := func() (*gin.Context, *httptest.ResponseRecorder) {
			c, w := asked(robin)
			c.Request.Body = io.NopCloser(strings.NewReader(test.body))
			return c, w
		}
		c, w := begin()
		ok := Write(c, log, http.StatusCreated, change, func(_ context.Context, in body, x *Change) (api.TagList, error) {
			made++
			x.Detail = in.Name
			return api.TagList{Tags: []string{in.Name}}, test.err
		})
		well := test.status == http.StatusCreated
		if w.Code != test.status || ok != well || (took == 1) != (test.err == nil && test.status != http.StatusBadRequest) {
			t.Errorf("%s: %d %s, %d times made, %d times in effect", name, w.Code, w.Body, made, took)
		}
		if well && (w.Body.String() != `{"tags":["Kiosks"]}` || len(log.entries) != 1 || log.entries[0].Detail != "Kiosks") {
			t.Errorf("%s: %s, %+v", name, w.Body, log.entries)
		}
		if !well && len(log.entries) != 0 {
			t.Errorf("%s: %+v is on record", name, log.entries)
		}
		c, w = begin()
		set := Set(c, log, change, func(_ context.Context, in body, x *Change) error { x.Detail = in.Name; return test.err })
		if set != well || well && (c.Writer.Status() != http.StatusNoContent || w.Body.Len() != 0) || !well && w.Code != test.status {
			t.Errorf("%s, with nothing to answer: %d %s", name, c.Writer.Status(), w.Body)
		}
	}
	c, w := asked(robin)
	log := &book{}
	if !Do(c, log, Change{Action: "group.remove"}, func(_ context.Context, x *Change) error { x.Detail = "Kiosks"; return nil }) ||
		c.Writer.Status() != http.StatusNoContent || log.entries[0].Detail != "Kiosks" {
		t.Errorf("%d %s, %+v", c.Writer.Status(), w.Body, log.entries)
	}
}

func TestRead(t *testing.T) {
	c, w := asked(nil)
	Read(c, func(context.Context) (api.TagList, error) { return api.TagList{Tags: []string{"kiosk"}}, nil })
	if w.Code != http.StatusOK || w.Body.String() != `{"tags":["kiosk"]}` {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	c, w = asked(nil)
	Read(c, func(context.Context) (api.TagList, error) { return api.TagList{}, NotFound("tag") })
	if w.Code != http.StatusNotFound {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}
