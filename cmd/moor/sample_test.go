package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/urfave/cli/v3"
)

// sampler answers as the contract says a service may, with values made from the schemas: the same each time, but for
// times, which are always three days ago. It refuses what the contract does not allow.
type sampler struct {
	t      *testing.T
	router routers.Router
	asked  []string // since the last command: method, path, and body
}

func newSampler(t *testing.T) *sampler {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromFile("../../contract/openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	doc.Servers = nil
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	return &sampler{t: t, router: router}
}

func (s *sampler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	r.URL.Path = strings.TrimPrefix(r.URL.Path, "/api/v1")
	body, err := io.ReadAll(r.Body)
	if err != nil {
		s.t.Error(err)
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	asked := r.Method + " " + r.URL.RequestURI()
	if strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		asked += " " + string(bytes.TrimSpace(body))
	} else if len(body) > 0 {
		asked += fmt.Sprintf(" (%d bytes)", len(body))
	}
	s.asked = append(s.asked, asked)
	route, params, err := s.router.FindRoute(r)
	if err != nil {
		s.t.Errorf("%s is no route of the contract: %v", asked, err)
		http.NotFound(w, r)
		return
	}
	err = openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{Request: r, PathParams: params,
		Route: route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc,
			ExcludeRequestBody: !strings.HasPrefix(r.Header.Get("Content-Type"), "application/json")}})
	if err != nil {
		s.t.Errorf("%s is not as the contract wants it: %v", asked, err)
	}
	for _, status := range slices.Sorted(maps.Keys(route.Operation.Responses.Map())) {
		if !strings.HasPrefix(status, "2") {
			continue
		}
		var code int
		fmt.Sscan(status, &code)
		for _, kind := range slices.Sorted(maps.Keys(route.Operation.Responses.Value(status).Value.Content)) {
			schema := route.Operation.Responses.Value(status).Value.Content[kind].Schema
			if !strings.Contains(kind, "json") || schema == nil {
				continue
			}
			w.Header().Set("Content-Type", kind)
			w.WriteHeader(code)
			json.NewEncoder(w).Encode(sample(schema.Value, "", 0))
			return
		}
		w.WriteHeader(code)
		return
	}
	s.t.Errorf("%s has no answer in the contract", asked)
}

// known are values of properties by name, where what the schema says of them would read oddly.
var known = map[string]any{"name": "hay-desk-01", "host_name": "hay-desk-01", "device": "hay-desk-01", "device_name": "hay-desk-01",
	"email": "robin@moor.example", "organisation": "Larkmoor Libraries", "site": "Haywater branch", "path": "/srv/a.txt",
	"message": "It is done.", "addresses": []string{"192.0.2.10"}, "address": "192.0.2.10", "actor": "robin@moor.example",
	"created_by": "robin@moor.example",
	"changed_by": "robin@moor.example", "version": "1.4.0", "cidr": "192.0.2.0/24",
	"ring": 0, "id": id(7).String(), "sha256": strings.Repeat("a0", 32), "digest": strings.Repeat("a0", 32)}

// sample makes a value of a schema. Optional properties are there, but for what would lead on to a next page.
func sample(s *openapi3.Schema, property string, depth int) any {
	if s == nil || depth > 7 {
		return nil
	}
	for _, all := range [][]*openapi3.SchemaRef{s.OneOf, s.AnyOf} {
		if len(all) > 0 {
			return sample(all[0].Value, property, depth+1)
		}
	}
	if len(s.AllOf) > 0 {
		whole := map[string]any{}
		for _, part := range s.AllOf {
			v := sample(part.Value, property, depth+1)
			m, ok := v.(map[string]any)
			if !ok {
				return v
			}
			maps.Copy(whole, m)
		}
		return whole
	}
	if v, ok := known[property]; ok && s.Format == "" && len(s.Enum) == 0 {
		if s.Type.Is("string") && isText(v) || s.Type.Is("integer") && v == 0 {
			return v
		}
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Type.Is("string"):
		switch s.Format {
		case "uuid":
			return id(7).String()
		case "date-time":
			return time.Now().AddDate(0, 0, -3).Add(-time.Minute).UTC().Format(time.RFC3339)
		case "date":
			return "2026-11-27"
		case "byte":
			return []byte("bytes")
		}
		if s.Pattern != "" && strings.Contains(s.Pattern, "64") {
			return strings.Repeat("a0", 32)
		}
		return strings.ReplaceAll(property, "_", " ")
	case s.Type.Is("integer"), s.Type.Is("number"):
		v := 7.0
		if s.Min != nil && v < *s.Min {
			v = *s.Min
		}
		if s.Max != nil && v > *s.Max {
			v = *s.Max
		}
		return v
	case s.Type.Is("boolean"):
		return true
	case s.Type.Is("array"):
		if v := sample(s.Items.Value, regexp.MustCompile(`([^s])s$`).ReplaceAllString(property, "$1"), depth+1); v != nil {
			return []any{v}
		}
		return []any{}
	}
	object := map[string]any{}
	for _, p := range slices.Sorted(maps.Keys(s.Properties)) {
		if p == "next" || p == "error" || p == "type" && s.Properties["title"] != nil && s.Properties["status"] != nil {
			continue
		}
		if v := sample(s.Properties[p].Value, p, depth+1); v != nil {
			object[p] = v
		}
	}
	if len(s.Properties) == 0 && s.AdditionalProperties.Schema != nil {
		object["key"] = sample(s.AdditionalProperties.Schema.Value, "value", depth+1)
	}
	return object
}

func isText(v any) bool {
	_, ok := v.(string)
	return ok
}

// Each of them as they stand in URLs, as people read them, and as the contract writes them:
// stamp finds times as they are printed and asked for, which are others each day.
var stamp = regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d%3A\d\d%3A\d\d(\.\d+)?Z|\d{1,2} [A-Z][a-z]{2} \d\d:\d\d(:\d\d)?|\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?|\d{4}-\d\d-\d\d|\d\d:\d\d:\d\d`)

// gap is what stands between columns, whose width is that of the times in them.
var gap = regexp.MustCompile(` {2,}`)

// commandLines are what is called, by the file of testdata/commands in which it stands. ID is an identity, DIR a folder that
// is the test's, with a file in it.
var commandLines = map[string][]string{
	"alerts": {"attention", "alerts", "alert show ID", "alert acknowledge --note seen ID", "alert snooze --for 2h ID",
		"alert assign --to ines@moor.example ID", "alert note --note hello ID", "alert resolve ID", "suspects ID"},
	"devices": {"device hay-desk-01",
		"note hay-desk-01 'its screen flickers'", "note --alias front hay-desk-01",
		"devices --where os=='linux'", "inventory hay-desk-01", "changes hay-desk-01",
		"changes --since 24h",
		"software driver", "standing hay-desk-01 cpu"},
	"files": {"files list hay-desk-01 /srv", "files access hay-desk-01 /srv/a", "files digest hay-desk-01 /srv/a",
		"files make hay-desk-01 /srv/b",
		"files rename hay-desk-01 /srv/a /srv/b", "files copy hay-desk-01 /srv/a /srv/c /tmp",
		"files move --replace hay-desk-01 /srv/a /tmp",
		"files remove hay-desk-01 /srv/a", "files removed hay-desk-01", "files restore hay-desk-01 x", "files purge hay-desk-01 x",
		"files permit --mode 0640 --owner root --deep hay-desk-01 /srv/a"},
	"processes": {"processes past hay-desk-01", "processes end --force hay-desk-01 7",
		"processes end-tree hay-desk-01 7", "processes pause hay-desk-01 7", "processes continue hay-desk-01 7",
		"processes priority --to low hay-desk-01 7", "processes start --as rowan hay-desk-01 -- sleep 5"},
	"services": {"services list hay-desk-01", "services show hay-desk-01 cron", "services start hay-desk-01 cron",
		"services stop --stopping other hay-desk-01 cron", "services restart hay-desk-01 cron",
		"services mode --to disabled hay-desk-01 cron"},
	"tools": {"events --logs hay-desk-01", "network show hay-desk-01", "settings list hay-desk-01 kernel",
		"settings set hay-desk-01 kernel/vm/swappiness 10",
		"settings remove hay-desk-01 kernel/x", "query --classes hay-desk-01", "query --saved", "people list hay-desk-01",
		"people message --button OK hay-desk-01 hello", "people clipboard hay-desk-01 text",
		"power restart --in 60s --message soon hay-desk-01",
		"power firmware hay-desk-01", "power recovery hay-desk-01", "power off hay-desk-01", "power cancel hay-desk-01",
		"power log-off hay-desk-01 1", "power lock hay-desk-01 1", "power wake hay-desk-01", "screen list hay-desk-01",
		"screen add hay-desk-01 kvm 192.0.2.9:5900", "screen remove hay-desk-01 hay-desk-01"},
	"library": {"scripts list", "scripts export hay-desk-01", "scripts import DIR/script.sh", "scripts versions hay-desk-01",
		"scripts drop hay-desk-01", "packages list", "packages show hay-desk-01", "packages versions hay-desk-01",
		"packages drop hay-desk-01",
		"packages files"},
	"jobs": {"jobs list", "jobs show ID", "jobs runs --state failed ID", "jobs output ID hay-desk-01", "jobs compare ID ID",
		"jobs pause ID",
		"jobs resume ID", "jobs cancel ID", "jobs adopt ID", "jobs retry ID", "jobs start --plan --where os=='linux' hay-desk-01",
		"jobs start --leave --device hay-desk-01 hay-desk-01", "packages install --leave --group hay-desk-01 hay-desk-01"},
	"updates": {"updates list", "updates show hay-desk-01", "updates ask --where os=='linux'", "updates rules",
		"updates approve --class security --defer 2 monthly", "updates hold --reason wait --update heathssl held",
		"updates exclude --reason old --vendor Fennick never", "updates unrule hay-desk-01", "exposure", "advisories list",
		"advisories show MOOR-2026-0112",
		"advisories feeds", "advisories forget fell"},
	"rollouts": {"rollouts list", "rollouts show ID", "rollouts devices ID", "rollouts agree ID", "rollouts adopt ID",
		"rollouts pause ID",
		"rollouts resume ID", "rollouts release ID", "rollouts again ID", "rollouts revert ID", "rollouts cancel ID",
		"rollouts leave-out --without heathssl ID",
		"rollouts start --plan --where os=='linux' --ring first:1 --ring rest:100% --class security monthly"},
	"reports": {"reports compliance", "reports list", "reports schedule --to duty@moor.example --start 2026-12-01T07:00 weekly",
		"reports send hay-desk-01",
		"reports unschedule hay-desk-01"},
	"policies": {"policies list", "policies checks hay-desk-01", "policies responses", "policies remove ID",
		"policies try --warning 90 disk", "windows list", "windows add --start 2026-12-01T22:00 --for 2h --rule FREQ=DAILY nightly",
		"windows remove ID",
		"groups list", "groups set --where os=='linux' --global all", "groups preview os=='linux'", "groups words",
		"groups remove hay-desk-01"},
	"agents": {"agent conflicts", "agent settle --same hay-desk-01", "agent admit hay-desk-01", "agent refuse hay-desk-01",
		"agent code hay-desk-01",
		"agent releases", "agent move --organisation Larkmoor --site Central hay-desk-01", "enrolment list",
		"enrolment add --organisation Larkmoor --site Central", "enrolment revoke ID", "site list", "site add Larkmoor Central",
		"site rename hay-desk-01 Moor", "site rename hay-desk-01 hay-desk-01 Moor"},
	"people": {"staff list", "staff add --role viewer ines@moor.example Ines", "staff set --role technician robin@moor.example",
		"staff reset robin@moor.example", "staff remove robin@moor.example", "roles list", "roles set --permit shell.act night",
		"roles remove night", "sign-ins list", "sign-ins list robin@moor.example", "sign-ins end ID",
		"sign-ins end-all robin@moor.example",
		"sign-ins policy required", "token list", "token add --days 30 backup", "token revoke ID", "sessions hay-desk-01", "audit",
		"recordings list"},
}

// elsewhere are the commands that hold a stream, a terminal or a file's bytes: the end-to-end tests run them at devices.
var elsewhere = strings.Fields(`sign-in sign-out sweep run shell put get files-show files-follow processes-list network-reach network-scan
	settings-search recordings-play recordings-text recordings-verify recordings-export screen-picture many-run many-end
		many-service many-power
	many-message many-query many-set many-put scripts-changes scripts-try packages-add packages-changes packages-uninstall jobs-export
	reports-make advisories-import policies-set agent-add audit-verify audit-export data-export data-erase link-test`)

// Every command is called by TestCommands, or stands among those that are tried elsewhere.
func TestEveryCommandIsCalled(t *testing.T) {
	called := map[string]bool{}
	for _, lines := range commandLines {
		for _, line := range lines {
			words := strings.Fields(line)
			called[words[0]] = true
			called[strings.Join(words[:min(2, len(words))], "-")] = true
		}
	}
	var walk func(c *cli.Command, path string)
	walk = func(c *cli.Command, path string) {
		if c.Hidden || c.Name == "help" || c.Name == "completion" {
			return
		}
		for _, below := range c.Commands {
			walk(below, strings.TrimPrefix(path+"-"+below.Name, "-"))
		}
		leaf := len(c.Commands) == 0 || len(c.Commands) == 1 && c.Commands[0].Name == "help"
		if other := slices.Contains(elsewhere, path); leaf && called[path] == other {
			t.Errorf("moor %s: called here %t, elsewhere %t", path, called[path], other)
		}
	}
	walk(command(), "")
}

// TestCommands holds what commands ask the service for, and what they print of its answers, against what a person looked at.
// What they ask must be as the contract allows it.
func TestCommands(t *testing.T) {
	was := time.Local
	time.Local = time.UTC
	defer func() { time.Local = was }()
	s := newSampler(t)
	service := httptest.NewServer(s)
	defer service.Close()
	t.Setenv("MOOR_URL", service.URL)
	t.Setenv("MOOR_TOKEN", "mw-token")
	dir := t.TempDir()
	script := "#!/bin/sh\n# --- moorwatch\n# name: Space\n# interpreter: sh\n# ---\ndf\n"
	if err := os.WriteFile(filepath.Join(dir, "script.sh"), []byte(script), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, file := range slices.Sorted(maps.Keys(commandLines)) {
		var all strings.Builder
		for _, line := range commandLines[file] {
			s.asked = nil
			args := strings.Fields(strings.NewReplacer("ID", id(7).String(), "DIR", dir).Replace(line))
			got, err := printed(t, command(), args...)
			fmt.Fprintf(&all, "$ moor %s\n", line)
			for _, asked := range s.asked {
				fmt.Fprintf(&all, "> %s\n", asked)
			}
			all.WriteString(got)
			if err != nil {
				fmt.Fprintf(&all, "! %v\n", err)
			}
			all.WriteString("\n")
		}
		text := strings.NewReplacer(dir, "DIR", service.URL, "SERVICE").Replace(stamp.ReplaceAllString(all.String(), "<time>"))
		text = gap.ReplaceAllString(text, "  ")
		name := filepath.Join("testdata", "commands", file+".txt")
		if *renew {
			if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(name)
		if err != nil || text != string(want) {
			t.Errorf("%s is not what was looked at (go test ./cmd/moor -renew, and look): %v\n%s", name, err, firstDifference(text,
				string(want)))
		}
	}
}

// firstDifference shows where two texts part.
func firstDifference(got, want string) string {
	g, w := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range g {
		if i >= len(w) || g[i] != w[i] {
			return fmt.Sprintf("line %d: %s\nnot: %s", i+1, g[i], strings.Join(w[min(i, len(w)):min(i+1, len(w))], ""))
		}
	}
	return fmt.Sprintf("it ends after line %d", len(g))
}
