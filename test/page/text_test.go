package page

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"reflect"
	"slices"
	"strings"
	"testing"

	"moorwatch.example/core/query"
)

func TestPaths(t *testing.T) {
	t.Parallel()
	p := open(t)
	for _, c := range []struct{ os, folder, name, join, parent string }{
		{"linux", "/", "etc", "/etc", "/"},
		{"linux", "/etc", "hosts", "/etc/hosts", "/"},
		{"linux", "/etc/", "a/b", "/etc/a/b", "/"},
		{"macos", "/Users/rowan", "x", "/Users/rowan/x", "/Users"},
		{"windows", `C:\`, "Temp", `C:\Temp`, `C:\`},
		{"windows", `C:\Temp`, "a/b", `C:\Temp\a\b`, `C:\`},
		{"windows", `D:\a\b`, "c", `D:\a\b\c`, `D:\a`},
	} {
		if got := call[string](p, `part.paths.join`, c.folder, c.name, c.os); got != c.join {
			t.Errorf("%s in %s is %s, want %s", c.name, c.folder, got, c.join)
		}
		if got := call[string](p, `part.paths.parent`, c.folder, c.os); got != c.parent {
			t.Errorf("above %s is %s, want %s", c.folder, got, c.parent)
		}
	}
	crumbs := `(path, os) => part.paths.crumbs(path, os).map(c => c.name + "=" + c.path).join(" ")`
	for args, want := range map[[2]string]string{
		{"/", "linux"}: "/=/", {"/var/log", "linux"}: "/=/ var=/var log=/var/log",
		{`C:\`, "windows"}: `C:=C:\`, {`C:\Users\x`, "windows"}: `C:=C:\ Users=C:\Users x=C:\Users\x`,
	} {
		if got := call[string](p, crumbs, args[0], args[1]); got != want {
			t.Errorf("%s: %s, want %s", args[0], got, want)
		}
	}
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 4))
	for range 100 { // join and parent undo each other, and agree with package path
		folder := "/" + strings.Repeat("d/", r.IntN(4))
		name := string(rune('a' + r.IntN(26)))
		joined := call[string](p, `part.paths.join`, path.Clean(folder), name, "linux")
		if joined != path.Join(folder, name) || call[string](p, `part.paths.parent`, joined, "linux") != path.Clean(folder) {
			t.Fatalf("%s and %s give %s", folder, name, joined)
		}
	}
	if got := call[string](p, `part.paths.visible`, "a\x1b[31m\x7f\nb"); got != "a␛[31m␡␊b" {
		t.Errorf("a name that steers shows as %s", got)
	}
}

// The builder of queries writes what the service reads, and reads what the service writes.
func TestQueriesAreTheServices(t *testing.T) {
	t.Parallel()
	p := open(t)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 6))
	type condition struct {
		Field string `json:"field"`
		Op    string `json:"op"`
		Value string `json:"value"`
	}
	type built struct {
		Name   string      `json:"name"`
		Fields []string    `json:"fields"`
		Where  []condition `json:"where"`
		Most   int         `json:"most,omitempty"`
	}
	values := []string{"failed", "12", "-3.5", `a "quoted" one`, "where", "", "ümlaut, and more", `back\slash`, "a\tb", "1e5", "true"}
	for range 60 {
		q := built{Name: "service", Fields: []string{}, Where: []condition{}}
		for range r.IntN(4) {
			q.Fields = append(q.Fields, []string{"name", "state", "memory_bytes"}[r.IntN(3)])
		}
		for range r.IntN(4) {
			op := query.Ops[r.IntN(len(query.Ops)-1)] // but for matches, whose value must be an expression
			q.Where = append(q.Where, condition{"name", op, values[r.IntN(len(values))]})
		}
		if r.IntN(2) == 0 {
			q.Most = 1 + r.IntN(500)
		}
		text := call[string](p, `part.query.queryText`, q)
		want := query.Query{Class: q.Name, Most: q.Most}
		want.Fields = append(want.Fields, q.Fields...)
		for _, c := range q.Where {
			want.Where = append(want.Where, query.Condition{Field: c.Field, Op: c.Op, Value: c.Value})
		}
		got, err := query.Parse(text)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Fatalf("%s is read as %+v, %v; want %+v", text, got, err, want)
		}
		back := call[built](p, `part.query.readQuery`, text)
		if !reflect.DeepEqual(back, q) {
			t.Fatalf("%s is read again as %+v, want %+v", text, back, q)
		}
	}
	for _, text := range []string{`service where name == "open`, "service show a b", "service limit 3", ""} {
		if got := call[*built](p, `part.query.readQuery`, text); got != nil {
			t.Errorf("%q is shown as %+v", text, got)
		}
	}
}

type row struct {
	Name string `json:"name"`
	N    *int   `json:"n,omitempty"`
}

// columns are those of rows: a name, and a number that some lack.
const columns = `[{head: "Name", value: r => r.name}, {head: "N", value: r => r.n}, {head: "", show: () => ""}]`

func TestRowsInOrder(t *testing.T) {
	t.Parallel()
	p := open(t)
	n := func(v int) *int { return &v }
	rows := []row{{"disk 10", n(3)}, {"disk 9", nil}, {"Äpfel", n(20)}, {"apple", n(3)}, {"", n(-1)}}
	sort := `(rows, sort) => part.columns.sorted(rows, ` + columns + `, sort ?? undefined).map(r => r.name || "-").join(", ")`
	for _, c := range []struct {
		sort any
		want string
	}{
		{nil, "disk 10, disk 9, Äpfel, apple, -"},
		{map[string]any{"head": "Name", "back": false}, "Äpfel, apple, disk 9, disk 10, -"},
		{map[string]any{"head": "Name", "back": true}, "disk 10, disk 9, apple, Äpfel, -"},
		{map[string]any{"head": "N", "back": false}, "-, disk 10, apple, Äpfel, disk 9"},
		{map[string]any{"head": "N", "back": true}, "Äpfel, disk 10, apple, -, disk 9"},
		{map[string]any{"head": "nosuch", "back": true}, "disk 10, disk 9, Äpfel, apple, -"},
	} {
		if got := call[string](p, sort, rows, c.sort); got != c.want {
			t.Errorf("by %v: %s, want %s", c.sort, got, c.want)
		}
	}
	text := call[string](p, `rows => part.columns.toCsv(rows, `+columns+`)`,
		[]row{{`a "b", c`, n(-4)}, {"two\nlines", nil}, {"=1+1", n(5)}, {"-x", n(6)}})
	got, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	want := [][]string{{"Name", "N"}, {`a "b", c`, "-4"}, {"two\nlines", ""}, {"'=1+1", "5"}, {"'-x", "6"}}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("as CSV %q, %v", got, err)
	}
}

func TestDevicesAreFound(t *testing.T) {
	t.Parallel()
	p := open(t)
	type device map[string]any
	d := func(name string, online bool, more device) device {
		all := device{"id": name, "name": name, "online": online, "organisation": "Larkmoor Libraries", "site": "Central Library",
			"serial": "", "model": "", "os": "linux", "os_name": "Debian", "addresses": []string{}, "people": []string{},
			"last_people": []string{}, "condition": "healthy"}
		for k, v := range more {
			all[k] = v
		}
		return all
	}
	fleet := []device{
		d("cen-desk-10", true, device{"cpu": 20.0, "people": []string{"rowan"}, "last_people": []string{"rowan"}}),
		d("cen-desk-9", true, device{"cpu": 90.5, "tags": []string{"till"}, "condition": "failing"}),
		d("cen-kiosk", false, device{"cpu": 99.0, "addresses": []string{"192.0.2.7"}, "favourite": true}),
		d("van", true, device{"groups": []string{"Hill stations"}, "serial": "CS-77"}),
	}
	arrange := `(fleet, typed, id, back) => part.rows.arrange(fleet, typed, {id, back}).map(d => d.name).join(" ")`
	for _, c := range []struct {
		typed, id string
		back      bool
		want      string
	}{
		{"", "name", false, "cen-desk-9 cen-desk-10 van cen-kiosk"}, // online first, numbers as numbers
		{"", "cpu", true, "cen-desk-9 cen-desk-10 van cen-kiosk"},
		{"", "cpu", false, "cen-desk-10 cen-desk-9 van cen-kiosk"}, // who tells no reading stands last
		{"", "condition", false, "cen-desk-9 cen-desk-10 van cen-kiosk"},
		{"", "people", false, "cen-desk-10 cen-desk-9 van cen-kiosk"},
		{"CEN desk", "name", false, "cen-desk-9 cen-desk-10"},
		{"rowan", "name", false, "cen-desk-10"},
		{"192.0.2", "name", false, "cen-kiosk"},
		{"favourite", "name", false, "cen-kiosk"},
		{"hill", "name", false, "van"},
		{"cs-77", "name", false, "van"},
		{"till", "nosuch", false, "cen-desk-9"},
		{"  ", "name", true, "van cen-desk-10 cen-desk-9 cen-kiosk"},
		{"kiosk van", "name", false, ""},
	} {
		if got := call[string](p, arrange, fleet, c.typed, c.id, c.back); got != c.want {
			t.Errorf("%q by %s: %s, want %s", c.typed, c.id, got, c.want)
		}
	}
}

func TestWords(t *testing.T) {
	t.Parallel()
	p := open(t)
	for n, want := range map[float64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 99_940: "99.9 kB", 123_456: "123 kB",
		999_600: "1.0 MB", 5e9: "5.0 GB", 2.5e15: "2.5 PB", 9e18: "9000 PB"} {
		if got := call[string](p, `part.units.bytes`, n); got != want {
			t.Errorf("%g bytes are %s, want %s", n, got, want)
		}
	}
	for s, want := range map[float64]string{-5: "0 s", 59.4: "59 s", 60: "1 min", 3599: "59 min", 3600: "1 h", 172_799: "47 h",
		172_800: "2 days"} {
		if got := call[string](p, `part.time.span`, s); got != want {
			t.Errorf("%g s are %s, want %s", s, got, want)
		}
	}
	type setting map[string]any
	for _, c := range []struct {
		s    setting
		unit string
		want string
	}{
		{setting{"check": "disk", "off": true}, "%", "off"},
		{setting{"check": "disk", "above": setting{"warning": 85, "critical": 95}, "for_seconds": 300}, "%",
			"warning at or above 85 %, critical at or above 95 %, for 5 min"},
		{setting{"check": "service", "level": "critical"}, "", "critical"},
		{setting{"check": "service"}, "", "warning"},
		{setting{"check": "software", "value": "1.4", "fix": true}, "", "must be 1.4 or later, warning otherwise, corrected automatically"},
		{setting{"check": "software", "absent": true}, "", "must not be there, warning otherwise"},
	} {
		if got := call[string](p, `part.setting.settingText`, c.s, c.unit); got != c.want {
			t.Errorf("%v: %s, want %s", c.s, got, c.want)
		}
	}
}

// Lines break where readings are missing, and the live ones take over from the history where they begin.
func TestReadingsAsLines(t *testing.T) {
	t.Parallel()
	p := open(t)
	span := func(v float64) map[string]any { return map[string]any{"mean": v, "min": v - 1, "max": v + 1} }
	at := func(minute int) string { return fmt.Sprintf("2026-11-30T10:%02d:00Z", minute) }
	history := map[string]any{"step_seconds": 60, "at": []string{at(0), at(1), at(2), at(9), at(10)},
		"readings": []any{map[string]any{"name": "cpu", "title": "CPU", "unit": "%",
			"spans": []any{span(10), nil, span(12), span(19), span(20)}}}}
	live := []any{map[string]any{"at": at(10), "cpu": 50, "disks": []any{}, "temperatures": []any{}},
		map[string]any{"at": "2026-11-30T10:10:02Z", "cpu": 51, "disks": []any{}, "temperatures": []any{}}}
	lines := `(h, live) => { const l = part.readings.toLines(h ?? undefined, live).get("cpu"); return l ? [l.now, l.lines[1], l.lines[2]] : []; }`
	if got := fmt.Sprint(call[[]any](p, lines, history, []any{})); got != "[20 [10 12 <nil> 19 20] [9 11 <nil> 18 19]]" {
		t.Errorf("of the past: %s", got)
	}
	if got := fmt.Sprint(call[[]any](p, lines, history, live)); got != "[51 [10 12 <nil> 19 50 51] [9 11 <nil> 18 50 51]]" {
		t.Errorf("up to now: %s", got)
	}
	if got := call[[]any](p, lines, nil, live); len(got) != 0 {
		t.Errorf("before the history is there: %v", got)
	}
}

// What a change makes old is read anew, and nothing else.
func TestReadAnew(t *testing.T) {
	t.Parallel()
	p := open(t)
	keys := [][]any{
		{"/jobs", map[string]any{"query": map[string]any{"limit": 50}}, "pages"},
		{"/jobs/{id}", map[string]any{"path": map[string]any{"id": "a"}}},
		{"/jobs/{id}/runs", map[string]any{"path": map[string]any{"id": "a"}}, "pages"},
		{"/jobs/{id}", map[string]any{"path": map[string]any{"id": "b"}}},
		{"/jobs-of-others", map[string]any{}},
		{"/devices/{id}", map[string]any{"path": map[string]any{"id": "a"}}},
		{"/devices/{id}/runs", map[string]any{"path": map[string]any{"id": "a"}}},
		{"me"},
	}
	old := `async (keys, old, of) => {
		const client = new part.cache.QueryClient();
		for (const k of keys) client.setQueryData(k, 1);
		await part.queries.readAnew(client, old, of);
		return keys.map((k, i) => client.getQueryState(k).isInvalidated ? i : -1).filter(i => i >= 0);
	}`
	for _, c := range []struct {
		old  any
		of   map[string]string
		want []int
	}{
		{"/jobs", nil, []int{0}},
		{"/jobs/*", nil, []int{0, 1, 2, 3}},
		{"/jobs/{id}/*", map[string]string{"id": "a"}, []int{1, 2}},
		{"/jobs/{id}", map[string]string{"id": "b"}, []int{3}},
		{[]string{"/jobs", "/devices/{id}/runs"}, nil, []int{0, 6}},
		{"/devices/{id}", map[string]string{"id": "a"}, []int{5}},
		{"/scripts/*", nil, []int{}},
	} {
		of := c.of
		if of == nil {
			of = map[string]string{}
		}
		if got := call[[]int](p, old, keys, c.old, of); !slices.Equal(got, c.want) {
			t.Errorf("%v of %v: %v, want %v", c.old, c.of, got, c.want)
		}
	}
}

// A short list is read page after page, whatever the pages hold.
func TestEveryItemIsRead(t *testing.T) {
	t.Parallel()
	p := open(t)
	servePages(p)
	every := `limit => part.queries.everyItem("/policies", {query: {limit}}, new AbortController().signal).then(all => all.map(p => p.name))`
	for _, limit := range []int{1, 3, 7, 100} {
		if got := call[[]string](p, every, limit); len(got) != 7 || got[0] != "policy 0" || got[6] != "policy 6" {
			t.Errorf("by %d: %v", limit, got)
		}
	}
	if _, err := try[[]string](p, every, 999); err == nil || err.Error() != "threw At most 500." {
		t.Errorf("a page that is refused: %v", err)
	}
}

// Rules are said in the same words as the service's.
func TestRules(t *testing.T) {
	t.Parallel()
	p := open(t)
	text, err := os.ReadFile("../../core/calendar/testdata/rules.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases map[string]string
	if err := json.Unmarshal(text, &cases); err != nil || len(cases) < 10 {
		t.Fatal(len(cases), err)
	}
	for rule, want := range cases {
		if got := call[string](p, `part.rule.ruleText`, rule); got != want {
			t.Errorf("%s: %s, want %s", rule, got, want)
		}
	}
}
