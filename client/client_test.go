package client

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/google/uuid"
)

// serving is a client of a service that answers every call so.
func serving(t *testing.T, answer http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(answer)
	t.Cleanup(s.Close)
	c, err := New(Options{URL: s.URL, Token: "mw-token"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

func TestAddresses(t *testing.T) {
	for address, ok := range map[string]bool{"https://moorwatch.example": true, "http://127.0.0.1:8460/somewhere": true,
		"moorwatch.example":       false,
		"ftp://moorwatch.example": false, "": false, "https://": false, "::": false} {
		if _, err := New(Options{URL: address}); (err == nil) != ok {
			t.Errorf("%q: %v", address, err)
		}
	}
	for _, none := range []string{"/nowhere", "client_test.go"} {
		if _, err := New(Options{URL: "https://moorwatch.example", CA: none}); err == nil {
			t.Errorf("%s holds an authority", none)
		}
	}
}

// What the service says is wrong is what a caller reads; what is no answer of the service is told apart.
func TestProblems(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		kind   string
		body   string
		want   string
	}{
		"a problem": {404, "application/problem+json",
			`{"title": "There is no such device.", "status": 404, "detail": "Look again.", "candidates": ["a", "b"]}`,
			"There is no such device. Look again.\n  a\n  b"},
		"a proxy's page": {502, "text/html", "<html>Bad gateway</html>", "nothing that this client understands"},
		"something else": {200, "text/html", "<html>Welcome</html>", "nothing that this client understands"},
		"half of it":     {200, "application/json", `{"id": `, "unexpected"},
	} {
		k := serving(t, func(w http.ResponseWriter, r *http.Request) {
			if r.Header.Get("Authorization") != "Bearer mw-token" {
				t.Errorf("%s: called with %q", name, r.Header.Get("Authorization"))
			}
			w.Header().Set("Content-Type", c.kind)
			w.WriteHeader(c.status)
			fmt.Fprint(w, c.body)
		})
		_, err := k.Find(t.Context(), "hay-desk-01")
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
		if p, ok := errors.AsType[*Problem](err); ok != (name == "a problem") || ok && p.Status != 404 {
			t.Errorf("%s: %v", name, err)
		}
	}
	k := serving(t, nil)
	k.Close()
	gone, err := New(Options{URL: "http://127.0.0.1:1"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := gone.Device(t.Context(), uuid.New()); err == nil {
		t.Error("a service that is not there answers")
	}
}

// A list that breaks off in its middle is an error, after what came until then; one that nobody wants more of is not
// read on.
func TestPagesBreakOff(t *testing.T) {
	calls := 0
	k := serving(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if calls++; calls == 3 {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(503)
			fmt.Fprint(w, `{"title": "The database does not answer.", "status": 503}`)
			return
		}
		fmt.Fprintf(w, `{"items": [{"id": %q, "name": "d%d"}], "next": "c%d"}`, uuid.New(), calls, calls)
	})
	var names []string
	var broken error
	for d, err := range k.Devices(t.Context(), "") {
		if err != nil {
			broken = err
			break
		}
		names = append(names, d.Name)
	}
	if len(names) != 2 || broken == nil || !strings.Contains(broken.Error(), "database") {
		t.Errorf("%q, %v", names, broken)
	}
	calls = 10
	for range k.Devices(t.Context(), "") {
		break
	}
	if calls != 11 {
		t.Errorf("%d pages were read for one row", calls-10)
	}
}
