package serving

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/reporting"
	"moorwatch.example/agent/running"
	"moorwatch.example/contract/link"
	"moorwatch.example/test/scratch"
)

// simulated is an agent of a device that is not there, and what it serves of what a host offers.
func simulated(t *testing.T, change func(h *host.Host)) http.Handler {
	t.Helper()
	d := sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 7, Address: "192.0.2.10", Dir: scratch.Dir(t)}
	h := d.Host(func() time.Time { return time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC) })
	h.Screens, h.Disk = nil, nil // which are served by rooms of their own
	if change != nil {
		change(&h)
	}
	dir := scratch.Dir(t)
	report, err := reporting.Open(dir, h, slog.New(slog.DiscardHandler), time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	v, err := Open(t.Context(), Config{Dir: dir, Host: h, Log: slog.New(slog.DiscardHandler), Report: report, Runs: &running.Runs{}})
	if err != nil {
		t.Fatal(err)
	}
	return v.Handler(calls.Service{}, h)
}

// call asks for a path with a body, and returns what is answered.
func call(t *testing.T, h http.Handler, method, path, body string) (status int, text string) {
	t.Helper()
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequestWithContext(t.Context(), method, path, strings.NewReader(body)))
	return w.Code, w.Body.String()
}

// What a host does not offer is served nowhere, and what it offers everywhere that belongs to it.
func TestOnlyWhatIsOfferedIsServed(t *testing.T) {
	paths := map[string][]string{
		"Runner":    {"/commands", "/runs", "/runs/cancel"},
		"Terminals": {"/shell/choices"},
		"Asker":     {"/questions"},
		"Processes": {"/processes/list", "/processes/watch", "/processes/past", "/processes/do", "/processes/start"},
		"Services":  {"/services/list", "/services/service", "/services/do"},
		"Events":    {"/events/sources", "/events/read"},
		"Network":   {"/network/read", "/network/reach", "/network/scan", "/network/wake"},
		"Settings":  {"/settings/list", "/settings/search", "/settings/do"},
		"Power":     {"/power/do"},
		"People":    {"/people/list", "/people/show", "/people/clip"},
	}
	served := func(h http.Handler, path string) bool {
		_, pattern := h.(*http.ServeMux).Handler(httptest.NewRequest(http.MethodPost, path, nil))
		return pattern != ""
	}
	all, none := simulated(t, nil), simulated(t, func(h *host.Host) {
		*h = host.Host{Informer: h.Informer}
	})
	for capability, list := range paths {
		for _, path := range list {
			if !served(all, path) {
				t.Errorf("%s is offered, and %s not served", capability, path)
			}
			if served(none, path) {
				t.Errorf("%s is not offered, and %s served", capability, path)
			}
		}
	}
}

// What is read of a device comes as JSON, and what cannot be read is refused with a reason.
func TestToolsAnswer(t *testing.T) {
	h := simulated(t, nil)
	for path, c := range map[string]struct {
		body string
		has  string
	}{
		"/processes/list":  {"", `"items":[{`},
		"/services/list":   {"{}", `"items":[{`},
		"/events/sources":  {"", `"items":[`},
		"/network/read":    {"", `"interfaces":[`},
		"/people/list":     {"", `"items":[`},
		"/settings/list":   {`{"path":[]}`, `"folder":true`},
		"/queries/classes": {"", `"name":"`},
		"/questions":       {`{"kind":"log-on"}`, `"value":"`},
		"/questions#fact":  {`{"kind":"fact","name":"os"}`, `"value":"`},
	} {
		path, _, _ := strings.Cut(path, "#")
		status, text := call(t, h, http.MethodPost, path, c.body)
		if status != http.StatusOK || !json.Valid([]byte(text)) || !strings.Contains(text, c.has) {
			t.Errorf("%s: %d %.300s", path, status, text)
		}
	}
	for name, c := range map[string]struct {
		path, body string
		status     int
		why        string
	}{
		"no JSON":          {"/services/do", "no JSON", 400, "cannot be read"},
		"another form":     {"/processes/do", `{"pid": "one"}`, 400, "cannot be read"},
		"too long":         {"/settings/do", `{"value": "` + strings.Repeat("x", maxAsked) + `"}`, 400, "cannot be read"},
		"no such action":   {"/processes/do", `{"action": "annoy", "pid": 1}`, 0, ""},
		"no such service":  {"/services/service", `{"name": "nothing"}`, 404, ""},
		"nothing asked":    {"/questions", `{"kind": "software"}`, 422, "names nothing"},
		"no order":         {"/commands", `{"argv": ["true"]}`, 400, "UUID"},
		"no program":       {"/commands", `{"order": "` + uuid.NewString() + `"}`, 400, "names a program"},
		"an empty program": {"/commands", `{"argv": [""], "order": "` + uuid.NewString() + `"}`, 400, "names a program"},
	} {
		status, text := call(t, h, http.MethodPost, c.path, c.body)
		if c.status != 0 && status != c.status || status < 400 || status == 500 || !strings.Contains(text, c.why) {
			t.Errorf("%s: %d %.300s", name, status, text)
		}
	}
}

// An order is carried out once, whoever sends it again.
func TestCommandOnce(t *testing.T) {
	h := simulated(t, nil)
	order := fmt.Sprintf(`{"argv": ["df"], "order": %q}`, uuid.NewString())
	status, text := call(t, h, http.MethodPost, "/commands", order)
	var last link.CommandEvent
	printed := 0
	for line := range bytes.Lines([]byte(text)) {
		last = link.CommandEvent{}
		if err := json.Unmarshal(line, &last); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		printed += len(last.Stdout)
	}
	if status != http.StatusOK || printed == 0 || last.Exit == nil || *last.Exit != 0 || last.Error != "" {
		t.Errorf("%d, %d bytes, %+v", status, printed, last)
	}
	if status, text := call(t, h, http.MethodPost, "/commands", order); status != http.StatusConflict {
		t.Errorf("again: %d %s", status, text)
	}
}

func TestBytes(t *testing.T) {
	h := simulated(t, nil)
	for n, want := range map[string]int{"0": 0, "1": 1, "300000": 300_000} {
		if status, text := call(t, h, http.MethodGet, "/bytes?n="+n, ""); status != http.StatusOK || len(text) != want {
			t.Errorf("%s bytes: %d, %d of them", n, status, len(text))
		}
	}
	for _, n := range []string{"", "-1", "x", "99999999999999999999"} {
		if status, _ := call(t, h, http.MethodGet, "/bytes?n="+n, ""); status != http.StatusBadRequest {
			t.Errorf("%q bytes: %d", n, status)
		}
	}
}
