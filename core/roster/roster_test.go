package roster_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/roster"
	"moorwatch.example/core/selector"
)

var now = time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)

// id makes identities that a failure can name.
func id(n int) (out uuid.UUID) {
	out[14], out[15] = byte(n>>8), byte(n)
	return out
}

const quay, moor = 1000, 1001 // organisations

// row is a device as a test wants it.
func row(n int, name string, change func(*roster.Row)) roster.Row {
	r := roster.Row{ID: id(n), Site: id(900), Organisation: id(quay),
		Subject: selector.Subject{ID: id(n).String(), Name: name, OS: "linux", Organisation: "Quay"}}
	if change != nil {
		change(&r)
	}
	return r
}

func ids(rows []roster.Row) (out []uuid.UUID) {
	for _, r := range rows {
		out = append(out, r.ID)
	}
	return out
}

func names(all []*roster.Entry) string {
	var out []string
	for _, e := range all {
		out = append(out, e.Subject.Name)
	}
	return strings.Join(out, " ")
}

func expression(t *testing.T, text string) *selector.Selector {
	t.Helper()
	s, err := selector.Compile(text)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestDevicesComeAndGo(t *testing.T) {
	r := roster.New()
	all := []roster.Row{row(1, "wren", nil), row(2, "crake", nil), row(3, "wren", nil)}
	r.Put(ids(all), all, now)
	if got := names(r.All()); got != "crake wren wren" {
		t.Fatalf("listed %q", got)
	}
	steps := []struct {
		name string
		ids  []uuid.UUID
		rows []roster.Row
		want string
	}{
		{"renamed", []uuid.UUID{id(1)}, []roster.Row{row(1, "avocet", nil)}, "avocet crake wren"},
		{"new", []uuid.UUID{id(4)}, []roster.Row{row(4, "bittern", nil)}, "avocet bittern crake wren"},
		{"changed, but not its name", []uuid.UUID{id(4)}, []roster.Row{row(4, "bittern", func(r *roster.Row) { r.Subject.OS = "windows" })},
			"avocet bittern crake wren"},
		{"gone", []uuid.UUID{id(2), id(4)}, []roster.Row{row(4, "bittern", nil)}, "avocet bittern wren"},
		{"gone once more", []uuid.UUID{id(2)}, nil, "avocet bittern wren"},
		{"nothing", nil, nil, "avocet bittern wren"},
	}
	for _, s := range steps {
		r.Put(s.ids, s.rows, now)
		if got := names(r.All()); got != s.want {
			t.Errorf("%s: listed %q, want %q", s.name, got, s.want)
		}
	}
	if r.Find(id(2)) != nil || r.Find(id(1)).Subject.Name != "avocet" {
		t.Error("what is found is not what is listed")
	}
	list := r.All()
	list[0] = nil // it is the caller's
	if got := names(r.All()); got != "avocet bittern wren" {
		t.Errorf("a caller changed the roster to %q", got)
	}
}

func TestEntriesAreReplaced(t *testing.T) {
	r := roster.New()
	r.Put(nil, []roster.Row{row(1, "wren", nil)}, now)
	r.All()
	before := r.Find(id(1))
	r.Put(nil, []roster.Row{row(1, "wren", func(r *roster.Row) { r.Subject.OS = "windows" })}, now)
	if before.Subject.OS != "linux" || r.All()[0].Subject.OS != "windows" {
		t.Errorf("who holds an entry sees it change, or the list keeps the old one")
	}
}

func TestPagesGoOnAfterANameAndAnID(t *testing.T) {
	r := roster.New()
	r.Put(nil, []roster.Row{row(1, "wren", nil), row(2, "wren", nil), row(3, "avocet", nil)}, now)
	for _, test := range []struct {
		name string
		id   int
		want string
	}{{"", 0, "avocet wren wren"}, {"avocet", 3, "wren wren"}, {"wren", 1, "wren"}, {"wren", 2, ""}, {"crake", 7, "wren wren"},
		{"zz", 1, ""}} {
		if got := names(roster.After(r.All(), test.name, id(test.id))); got != test.want {
			t.Errorf("after %s, %d: %q, want %q", test.name, test.id, got, test.want)
		}
	}
}

func TestGroups(t *testing.T) {
	r := roster.New()
	r.Put(nil, []roster.Row{row(1, "wren", nil), row(2, "crake", func(r *roster.Row) { r.Subject.OS = "windows" }),
		row(3, "heron", func(r *roster.Row) { r.Organisation = id(moor) })}, now)
	groups := []roster.Group{
		{ID: id(50), Name: "linux", Match: expression(t, `os == "linux"`)},
		{ID: id(51), Name: "quay's linux", Organisation: id(quay).String(), Match: expression(t, `os == "linux"`)},
		{ID: id(52), Name: "some", Members: map[uuid.UUID]bool{id(2): true, id(3): true}},
		{ID: id(53), Name: "hot", Match: expression(t, `readings["temperature"] > 60.0`)}, // nobody has told
	}
	if moved := r.SetGroups(groups, now); len(moved) != 3 {
		t.Errorf("%d devices moved, want all", len(moved))
	}
	want := map[int]string{1: "linux, quay's linux", 2: "some", 3: "linux, some"}
	for n, groups := range want {
		if got := strings.Join(r.Find(id(n)).Subject.Groups, ", "); got != groups {
			t.Errorf("device %d is in %q, want %q", n, got, groups)
		}
	}
	if moved := r.SetGroups(groups, now); len(moved) != 0 {
		t.Errorf("%d devices moved, and nothing changed", len(moved))
	}
	groups[2].Name = "a few"
	if moved := r.SetGroups(groups, now); len(moved) != 2 {
		t.Errorf("%d devices are in a group of another name, want 2", len(moved))
	}
	hot := row(1, "wren", func(r *roster.Row) { r.Readings = []roster.Reading{{Name: "temperature", Value: 71}} })
	if moved := r.Put(nil, []roster.Row{hot}, now); !slices.Equal(moved, []uuid.UUID{id(1)}) {
		t.Errorf("moved %v", moved)
	}
	if got := r.Find(id(1)).Subject.Groups; !slices.Contains(got, "hot") {
		t.Errorf("it is in %q", got)
	}
	if !r.HasGroup(id(53)) || r.HasGroup(id(54)) {
		t.Error("which groups there are is told wrongly")
	}
	got := r.GroupsWith(func(e *roster.Entry) bool { return e.Subject.Name == "heron" })
	if !slices.Equal(got, []uuid.UUID{id(50), id(52)}) {
		t.Errorf("heron's groups are %v", got)
	}
	if got := r.GroupsWith(func(*roster.Entry) bool { return false }); got == nil || len(got) > 0 {
		t.Errorf("nobody's groups are %v; an empty list is not all", got)
	}
}

// What a device says of itself must not bring it into a group of another organisation.
func TestAGroupHoldsItsOrganisationAlone(t *testing.T) {
	r := roster.New()
	r.SetGroups([]roster.Group{{ID: id(50), Name: "kiosks", Organisation: id(quay).String(), Match: expression(t, `name == "kiosk"`)}}, now)
	r.Put(nil, []roster.Row{row(1, "kiosk", nil), row(2, "kiosk", func(r *roster.Row) {
		r.Organisation, r.Subject.Organisation = id(moor), "Quay"
	})}, now)
	if a, b := r.Find(id(1)).Subject.Groups, r.Find(id(2)).Subject.Groups; len(a) != 1 || len(b) != 0 {
		t.Errorf("its own is in %q, the other organisation's in %q", a, b)
	}
}

func TestMatching(t *testing.T) {
	r := roster.New()
	warm := func(by float64) func(*roster.Row) {
		return func(r *roster.Row) { r.Readings = []roster.Reading{{Name: "temperature", Value: by}} }
	}
	r.Put(nil, []roster.Row{row(1, "wren", warm(71)), row(2, "crake", nil), row(3, "heron", warm(40))}, now)
	tests := []struct {
		expression string
		want       string
		undecided  int
	}{
		{`os == "linux"`, "crake heron wren", 0},
		{`name.startsWith("h")`, "heron", 0},
		{`readings["temperature"] > 60.0`, "wren", 1},
		{`software["moor"] == "1"`, "", 3},
	}
	for _, test := range tests {
		got := roster.Match(expression(t, test.expression), r.All(), now)
		if names(got.Found) != test.want || got.Of != 3 || got.Undecided != test.undecided || (got.Why != nil) != (test.undecided > 0) {
			t.Errorf("%s: %q of %d, %d undecided (%v); want %q, %d", test.expression, names(got.Found), got.Of, got.Undecided, got.Why,
				test.want, test.undecided)
		}
	}
	if got := r.Find(id(1)).Subject.Readings.Names(); !slices.Equal(got, []string{"temperature"}) {
		t.Errorf("readings %q", got)
	}
	if r.Find(id(2)).Subject.Readings != nil {
		t.Error("a device that told nothing has readings")
	}
}

func TestSoftware(t *testing.T) {
	r := roster.New()
	rows := []roster.Row{row(1, "wren", func(r *roster.Row) { r.Software = []int32{1, 3} }),
		row(2, "crake", func(r *roster.Row) { r.Software = []int32{2, 3} }), row(3, "heron", nil)}
	if got := r.Unknown(rows); !slices.Equal(got, []int32{1, 3, 2}) {
		t.Fatalf("unknown: %v", got)
	}
	r.Learn(1, "editor", "1.0")
	r.Learn(2, "editor", "2.0")
	r.Learn(3, "shell", "5.2")
	r.Learn(3, "another", "9") // what is known stays
	if got := r.Unknown(rows); len(got) > 0 {
		t.Errorf("unknown: %v", got)
	}
	r.Put(nil, rows, now)
	version := func(n int, name string) string {
		v, _ := r.Find(id(n)).Subject.Software.Version(name)
		return v
	}
	if a, b, c := version(1, "editor"), version(2, "editor"), version(1, "another"); a != "1.0" || b != "2.0" || c != "" {
		t.Errorf("versions %q, %q, %q", a, b, c)
	}
	if got := r.Find(id(1)).Subject.Software.Names(); !slices.Equal(got, []string{"editor", "shell"}) {
		t.Errorf("names %q", got)
	}
	if r.Find(id(3)).Subject.Software != nil {
		t.Error("a device without software has some")
	}
	r.Forget([]int32{1, 7})
	if got := r.Find(id(1)).Subject.Software.Names(); version(1, "editor") != "" || !slices.Equal(got, []string{"shell"}) {
		t.Errorf("forgotten software is there: %q", got)
	}
	if version(2, "editor") != "2.0" {
		t.Error("another version of it is gone too")
	}
	r.Forget([]int32{2, 3})
	if got := r.Unknown(rows); len(got) != 3 {
		t.Errorf("unknown after all was forgotten: %v", got)
	}
}

// Texts are kept once, and what comes from outside is not kept alive or changed by it.
func TestTextsAreKeptOnce(t *testing.T) {
	r := roster.New()
	capabilities := []string{strings.Clone("commands")}
	one := row(1, "wren", func(r *roster.Row) { r.Subject.Capabilities = capabilities })
	r.Put(nil, []roster.Row{one}, now)
	capabilities[0] = "changed"
	if got := r.Find(id(1)).Subject.Capabilities[0]; got != "commands" {
		t.Errorf("the caller's list is the roster's: %q", got)
	}
}

// However devices and groups change, the roster says of each what it would say of it alone.
func TestRosterAgreesWithItsRows(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	r := roster.New()
	want := map[uuid.UUID]roster.Row{}
	groups := []roster.Group{{ID: id(50), Name: "linux", Match: expression(t, `os == "linux"`)},
		{ID: id(51), Name: "early", Organisation: id(quay).String(), Match: expression(t, `name < "m"`)}}
	r.SetGroups(groups, now)
	for range 400 {
		n := random.IntN(40)
		if random.IntN(4) == 0 {
			r.Put([]uuid.UUID{id(n)}, nil, now)
			delete(want, id(n))
		} else {
			d := row(n, string(rune('a'+random.IntN(26))), func(d *roster.Row) {
				d.Subject.OS = []string{"linux", "windows"}[random.IntN(2)]
				d.Organisation = id([]int{quay, moor}[random.IntN(2)])
			})
			r.Put([]uuid.UUID{d.ID}, []roster.Row{d}, now)
			want[d.ID] = d
		}
		all := r.All()
		if len(all) != len(want) {
			t.Fatalf("%d devices, want %d", len(all), len(want))
		}
		if !slices.IsSortedFunc(all, func(a, b *roster.Entry) int {
			if c := strings.Compare(a.Subject.Name, b.Subject.Name); c != 0 {
				return c
			}
			return slices.Compare(a.ID[:], b.ID[:])
		}) {
			t.Fatalf("not by name: %s", names(all))
		}
		for _, e := range all {
			d := want[e.ID]
			var in []string
			if d.Subject.OS == "linux" {
				in = append(in, "linux")
			}
			if d.Subject.Name < "m" && d.Organisation == id(quay) {
				in = append(in, "early")
			}
			if e.Subject.Name != d.Subject.Name || !slices.Equal(e.Subject.Groups, in) || r.Find(e.ID) != e {
				t.Fatalf("device %s is %s in %q, want %s in %q", e.ID, e.Subject.Name, e.Subject.Groups, d.Subject.Name, in)
			}
		}
	}
}

func TestRosterIsUsedByMany(t *testing.T) {
	r := roster.New()
	match := expression(t, `os == "linux"`)
	var all sync.WaitGroup
	for w := range 4 {
		all.Go(func() {
			for i := range 50 {
				n := w*50 + i
				r.Learn(int32(n), fmt.Sprint("title ", n), "1")
				r.Put(nil, []roster.Row{row(n, fmt.Sprint("heron-", n), func(r *roster.Row) { r.Software = []int32{int32(n)} })}, now)
				roster.Match(match, r.All(), now)
				r.SetGroups([]roster.Group{{ID: id(500 + w), Name: "linux", Match: match}}, now)
				r.Find(id(n)).Subject.Software.Names()
			}
		})
	}
	all.Wait()
	if got := len(r.All()); got != 200 {
		t.Errorf("%d devices, want 200", got)
	}
}

func ExampleRoster() {
	r := roster.New()
	r.Put(nil, []roster.Row{{ID: id(1), Subject: selector.Subject{Name: "heron", OS: "linux"}},
		{ID: id(2), Subject: selector.Subject{Name: "crake", OS: "windows"}}}, now)
	match, _ := selector.Compile(`os == "linux"`)
	for _, e := range roster.Match(match, r.All(), now).Found {
		fmt.Println(e.Subject.Name)
	}
	// Output: heron
}
