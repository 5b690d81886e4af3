package rules

import (
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// owners are the tables that each service keeps. Its owner alone changes a table.
var owners = map[string]string{
	"access": "api_tokens audit audit_keys authenticators grants known_browsers passkeys people recovery_codes roles service sessions " +
		"set_up_links sign_in_failures",
	"fleet":     "devices enrolment_tokens favourites group_members groups identity_questions organisations sites tags",
	"health":    "alert_events alerts channels deliveries findings maintenance_windows policies responses rules",
	"inventory": "changes installed inventories software",
	"job":       "contents jobs package_versions packages runs script_versions scripts",
	"patch": "advisories advisory_imports advisory_packages approvals compliance exploited feeds lacking mirrored missing patched " +
		"report_schedules rollout_devices rollouts updates weak_devices weaknesses",
	"session": "consent_rules consoles recording_pieces recordings saved_queries tool_sessions",
	"vitals":  "chunks layouts readings",
}

// common are tables that lists of all services join for names and places, and read alone.
var common = []string{"devices", "organisations", "people", "sites"}

// beyond is what a service does with tables of others all the same: "reads" or "changes". What stands here is to become
// fewer; a new line needs a reason that a reviewer accepts.
var beyond = map[string]string{
	"vitals changes devices":          "the latest reading of a device is a column of its row, written with the reading",
	"inventory changes devices":       "the digest of an inventory is a column of its row, locked while it changes",
	"health changes devices":          "the condition is a column of its row, written with the findings",
	"fleet reads findings":            "the list of devices is sorted by them",
	"fleet reads installed":           "expressions ask for software",
	"fleet reads software":            "expressions ask for software",
	"fleet reads service":             "whether groups were divided by organisation",
	"health reads identity_questions": "a device of which something is asked has a finding",
	"inventory reads alerts":          "the suspects of an alert are found by its time and its like",
	"patch reads alerts":              "a ring is judged by the alerts since it began",
	"patch reads installed":           "advisories are compared with what is installed",
	"patch reads runs":                "a ring is judged by its runs",
	"patch reads software":            "advisories are compared with what is installed",
	"patch changes software":          "what a comparison found is noted at the software",
}

var (
	created = regexp.MustCompile(`(?i)CREATE (?:UNLOGGED )?TABLE (?:IF NOT EXISTS )?(\w+)`)
	dropped = regexp.MustCompile(`(?i)DROP TABLE (?:IF EXISTS )?(\w+)`)
	touched = regexp.MustCompile(`\b(FROM|JOIN|INTO|UPDATE|DELETE FROM|TABLE|TRUNCATE)\s+(?:ONLY )?([a-z_]+)\b`)
)

// Tables have owners: nobody else changes them, and what others read is listed above.
func TestTablesHaveOwners(t *testing.T) {
	tables := map[string]bool{}
	for _, path := range tracked(t, ".sql") {
		text, err := os.ReadFile(filepath.Join(root, path))
		if err != nil {
			t.Fatal(err)
		}
		up, _, _ := strings.Cut(string(text), "-- +goose Down")
		for _, m := range created.FindAllStringSubmatch(up, -1) {
			tables[m[1]] = true
		}
		for _, m := range dropped.FindAllStringSubmatch(up, -1) {
			delete(tables, m[1])
		}
	}
	owner := map[string]string{}
	for service, list := range owners {
		for table := range strings.FieldsSeq(list) {
			owner[table] = service
			if !tables[table] {
				t.Errorf("there is no table %s", table)
			}
		}
	}
	for table := range tables {
		if owner[table] == "" {
			t.Errorf("the table %s has no owner", table)
		}
	}
	done := map[string]string{}
	for _, s := range sources(t) {
		service, _, _ := strings.Cut(strings.TrimPrefix(s.dir, "service/"), "/")
		if s.test || !below(s.dir, "service") || owners[service] == "" { // db, front, and privacy, which knows all tables
			continue
		}
		texts(s, func(pos token.Pos, text string) {
			for _, m := range touched.FindAllStringSubmatch(text, -1) {
				of := owner[m[2]]
				how := "changes"
				if m[1] == "FROM" || m[1] == "JOIN" {
					how = "reads"
				}
				if of == "" || of == service || how == "reads" && slices.Contains(common, m[2]) {
					continue
				}
				what := service + " " + how + " " + m[2]
				if done[what] = s.at(pos); beyond[what] == "" {
					t.Errorf("%s: %s, which is a table of %s", s.at(pos), what, of)
				}
			}
		})
	}
	for what := range maps.Keys(beyond) {
		if done[what] == "" {
			t.Errorf("%q is no longer so: take the exception away", what)
		}
	}
}
