package main

import (
	"encoding/json"
	"flag"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/script"
	"moorwatch.example/core/update"
)

var renew = flag.Bool("renew", false, "write testdata anew, to be looked at before it is committed")

// id makes an identity that is the same each time.
func id(n byte) uuid.UUID { return uuid.UUID{15: n} }

// answers are what the service says to each question, by its path below /api/v1. Names hold what would steer a terminal.
func answers() map[string]any {
	at := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	days := func(n int) time.Time { return time.Now().AddDate(0, 0, -n).Add(-time.Minute) }
	everywhere := health.Scope{Kind: health.Everywhere}
	return map[string]any{
		"/devices": api.DevicePage{Items: []api.Device{{ID: id(1), Name: "hay-desk-01\x1b[2J", Condition: health.Degraded, Online: true,
			Organisation: "Larkmoor Libraries", Site: "Haywater branch", OSName: "Windows 11 Pro", Addresses: []string{"192.0.2.10", "x"},
			CPU: new(3.4), Disk: new(91.0), People: []string{"Wren", "Tobias"}}, {ID: id(2), Name: "van-board", Condition: health.Silent}}},
		"/alerts": api.AlertPage{Items: []api.Alert{{ID: id(3), Level: health.Warning, State: health.Open, Device: new("hay-desk-01"),
			Check: "disk", Message: "Disk / is 91 % full.", OpenedAt: days(3), Assignee: new("Ines")},
			{ID: id(4), Level: health.Critical, State: health.Open, Site: "Bog end", Organisation: "Sphagnum Dairy",
				Message:  "The site is silent.",
				OpenedAt: days(4)}}},
		"/jobs": api.JobPage{Items: []api.Job{{ID: id(5), Name: "Free space", State: "running",
			Counts:  map[string]int{"succeeded": 3, "failed": 1},
			BeginAt: at, CreatedAt: at, CreatedBy: "robin@moor.example"}}},
		"/sessions": api.ToolSessionPage{Items: []api.ToolSession{{ID: id(6), BeganAt: at, LastAt: at.Add(90 * time.Second),
			Device: "hay-desk-01",
			Tool:   "files", Actor: "robin@moor.example", Actions: 7, Consent: "silent"}}},
		"/groups": api.GroupPage{Items: []api.Group{{ID: id(7), Name: "Kiosks", Devices: 15, Expression: `"kiosk" in tags`,
			Reported: []string{}},
			{ID: id(8), Name: "Windows", Devices: 60, Expression: `os == "windows"`, Reported: []string{"os"}}}},
		"/policies": api.PolicyPage{Items: []api.Policy{{ID: id(9), Name: "Kiosks", Scope: everywhere,
			Settings: []health.Setting{{Check: "disk"}, {Check: "service", Subject: "cron"}}, ChangedAt: days(3),
			ChangedBy: "robin@moor.example"}}},
		"/maintenance-windows": api.WindowPage{Items: []api.Window{}},
		"/people": api.PersonPage{Items: []api.Person{{ID: id(10), Name: "Robin Carr", Email: "robin@moor.example", SecondFactor: true,
			LastSeenAt: new(days(5)), Ready: true}, {ID: id(11), Name: "Ines", Email: "ines@moor.example"}}},
		"/tokens": api.TokenPage{Items: []api.Token{{ID: id(12), Name: "backup", CreatedAt: days(9),
			ExpiresAt: time.Now().AddDate(0, 1, 0)}}},
		"/scripts": api.ScriptPage{Items: []api.Script{{ID: id(13), Version: 2, ChangedAt: at, ChangedBy: "robin@moor.example",
			Content: script.Script{Name: "Free space", Interpreter: "bash", Systems: []string{"linux"}}}}},
		"/packages": api.PackagePage{Items: []api.Package{{ID: id(14), Version: 1, Devices: new(15), ChangedAt: at,
			ChangedBy: "ines@moor.example",
			Content:   pack.Package{Name: "Catalogue Fonts", Version: "1.4"}}}},
		"/rollouts": api.RolloutPage{Items: []api.Rollout{{ID: id(15), Phase: string(patch.PhaseHeld), BegunAt: at,
			BegunBy: "robin@moor.example",
			Spec:    patch.Rollout{Name: "November", Rings: []patch.Ring{{Name: "first"}, {Name: "rest"}}},
			Rings: []api.RolloutRing{{Devices: 3, States: map[string]int{"patched": 2, "failed": 1}}, {Devices: 7,
				States: map[string]int{"planned": 7}}}}}},
		"/updates": api.MissingUpdatePage{Items: []api.MissingUpdate{{Devices: 34, States: map[string]int{"approved": 34},
			Update: update.Update{Source: "apt", Name: "heathssl", To: "3.0.15-1", Class: update.Security, Severity: "high",
				Released: days(12)}}}},
		"/advisories": api.AdvisoryPage{Items: []api.Advisory{}},
		"/advisory-feeds": api.FeedPage{Items: []api.Feed{{Name: "fell", Advisories: 12, Refused: 1, ImportedAt: days(2),
			ImportedBy: "robin@moor.example"}}},
		"/audit": api.AuditPage{Items: []api.AuditEntry{{Seq: 9, At: at, Actor: "robin@moor.example", Via: "browser", Address: "192.0.2.1",
			Action: "power.restart", DeviceName: new("hay-desk-01"), Detail: new("=1+1"), Result: "done"}}},
		"/software": api.SoftwarePage{Items: []api.Software{{Name: "Fennick Print Driver", Source: "windows", Devices: 31,
			Versions: []api.SoftwareVersion{{Version: "4.2.0", Devices: 30}, {Version: "4.1.7", Devices: 1}}}}},
	}
}

// TestGolden holds what lists print against what a person looked at: as a table, as CSV and as JSON.
func TestGolden(t *testing.T) {
	was := time.Local
	time.Local = time.UTC
	defer func() { time.Local = was }()
	all := answers()
	asked := map[string]bool{}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/api/v1")
		value, ok := all[path]
		if !ok {
			t.Errorf("nothing is known of %s", r.URL)
		}
		asked[path] = true
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(value)
	}))
	defer service.Close()
	t.Setenv("MOOR_URL", service.URL)
	t.Setenv("MOOR_TOKEN", "mw-token")
	for _, line := range []string{"devices", "alerts", "jobs list", "sessions", "groups list", "policies list", "windows list",
		"staff list",
		"token list", "scripts list", "packages list", "rollouts list", "updates list", "advisories list", "advisories feeds", "audit",
		"software", "devices --limit 1", "devices --csv", "audit --csv", "groups list --json"} {
		got, err := printed(t, command(), strings.Fields(line)...)
		if err != nil {
			t.Errorf("moor %s: %v", line, err)
			continue
		}
		file := filepath.Join("testdata", strings.NewReplacer(" ", "-", "---", "-", "--", "-").Replace(line)+".txt")
		if *renew {
			if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(file)
		if err != nil || got != string(want) {
			t.Errorf("moor %s prints what nobody has looked at (go test ./cmd/moor -renew, and look): %v\n%s\nand not\n%s", line, err, got,
				want)
		}
		if strings.Contains(got, "\x1b") {
			t.Errorf("moor %s steers the terminal: %q", line, got)
		}
	}
	for path := range all {
		if !asked[path] {
			t.Errorf("no list asks for %s", path)
		}
	}
}

// Every command says what it does, and every list has the flags of a list.
func TestCommandsAreAlike(t *testing.T) {
	n := 0
	var walk func(c *cli.Command, path string)
	walk = func(c *cli.Command, path string) {
		if c.Hidden || c.Name == "help" || c.Name == "completion" {
			return
		}
		n++
		if c.Usage == "" || strings.HasSuffix(c.Usage, ".") {
			t.Errorf("%s: %q does not say what it does, or ends as a sentence", path, c.Usage)
		}
		flags := map[string]bool{}
		for _, f := range c.Flags {
			for _, name := range f.Names() {
				if flags[name] {
					t.Errorf("%s has the flag %s twice", path, name)
				}
				flags[name] = true
			}
		}
		if flags["csv"] != flags["limit"] || flags["csv"] && !flags["json"] {
			t.Errorf("%s has some of a list's flags: %v", path, flags)
		}
		for _, below := range c.Commands {
			walk(below, path+" "+below.Name)
		}
	}
	walk(command(), "moor")
	if n < 100 {
		t.Errorf("only %d commands were found", n)
	}
}
