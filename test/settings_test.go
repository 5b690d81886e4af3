package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/recording"
)

// setting lists a place and returns one of its settings.
func (w *world) setting(t *testing.T, d *running, path []string, name string) *link.Setting {
	t.Helper()
	page := must(client.Result(w.owner.ListSettingsWithResponse(t.Context(), d.id, &api.ListSettingsParams{At: &path})))(t)
	if i := slices.IndexFunc(page.Items, func(s link.Setting) bool { return s.Name == name }); i >= 0 {
		return &page.Items[i]
	}
	return nil
}

func (w *world) set(t *testing.T, d *running, in link.SettingAction) (string, error) {
	t.Helper()
	out, err := client.Result(w.owner.ChangeSettingWithResponse(t.Context(), d.id, in))
	if err != nil {
		return "", err
	}
	return out.Message, nil
}

// The settings of this machine are read; files below /etc are changed where the test may write there.
func TestSettings(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	if s := w.setting(t, d, []string{"kernel", "kernel"}, "ostype"); s == nil || s.Value != "Linux" || !s.ReadOnly {
		t.Errorf("ostype is %+v", s)
	}
	_, err := w.set(t, d, link.SettingAction{Action: link.SettingSet, Path: []string{"kernel", "kernel"}, Name: "ostype", Value: "Other",
		Was: new("Linux")})
	refused(t, err, http.StatusConflict, "ostype cannot be opened")
	for _, path := range [][]string{{"kernel", ".."}, {"configuration", "../root"}, {"configuration", "a\x00"}, {"nosuch"}} {
		if _, err := client.Result(w.owner.ListSettingsWithResponse(t.Context(), d.id, &api.ListSettingsParams{At: &path})); err == nil {
			t.Errorf("%q is listed", path)
		}
	}
	var found []string
	r, err := w.owner.SearchSettings(t.Context(), d.id, link.SettingSearch{Path: []string{"kernel", "kernel"}, Text: "OSTYPE"})
	if err := client.Lines(t.Context(), r, err, "", func(f link.SettingFound) (bool, error) {
		if f.Setting != nil {
			found = append(found, strings.Join(append(f.Path, f.Setting.Name), "/"))
		}
		return f.Done, nil
	}); err != nil || !slices.Equal(found, []string{"kernel/kernel/ostype"}) {
		t.Errorf("found %q, %v", found, err)
	}
	name := fmt.Sprintf("moorwatch-test-%d.conf", os.Getpid())
	file := filepath.Join("/etc", name)
	const before = "# the records\n[copy]\nwait = forever\n\n[log]\nlevel = warn\n"
	if os.WriteFile(file, []byte(before), 0o640) != nil {
		t.Skip("files below /etc cannot be written by this account")
	}
	t.Cleanup(func() { os.Remove(file) })
	at := []string{"configuration", name, "copy"}
	in := link.SettingAction{Action: link.SettingSet, Path: at, Name: "wait", Value: "30 s", Was: new("never")}
	_, err = w.set(t, d, in)
	refused(t, err, http.StatusConflict, `it is "forever"`)
	in.Was = new("forever")
	if message := must(w.set(t, d, in))(t); !strings.Contains(message, "wait in /etc/"+name+" is 30 s, and was forever.") {
		t.Error(message)
	}
	if text, info := must(os.ReadFile(file))(t), must(os.Stat(file))(t); string(text) != strings.Replace(before, "forever", "30 s", 1) ||
		info.Mode().Perm() != 0o640 {
		t.Errorf("the file is %q, %s", text, info.Mode())
	}
	_, err = w.set(t, d, link.SettingAction{Action: link.SettingSet, Path: at, Name: "# bad", Value: "a"})
	refused(t, err, http.StatusUnprocessableEntity, "would be read as something else")
	must(w.set(t, d, link.SettingAction{Action: link.SettingRemove, Path: at, Name: "wait", Was: new("30 s")}))(t)
	if s := w.setting(t, d, at, "wait"); s != nil {
		t.Errorf("it is still there: %+v", s)
	}
	entries := must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Text: new("wait = 30 s, was forever")})))(t).Items
	if len(entries) == 0 {
		t.Error("the change is not on record with both values")
	}
}

// The registry of a simulated Windows device is changed, on one and on many.
func TestSettingsOfWindows(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	at := []string{"HKEY_LOCAL_MACHINE", "SOFTWARE", "Fennick", "Print Driver"}
	must(w.set(t, d, link.SettingAction{Action: link.SettingSet, Path: at, Name: "EnumerateAtLogon", Type: link.SettingNumber, Value: "7",
		Was: new("0")}))(t)
	_, err := w.set(t, d, link.SettingAction{Action: link.SettingSet, Path: at, Name: "EnumerateAtLogon", Type: link.SettingNumber,
		Value: "x", Was: new("7")})
	refused(t, err, http.StatusBadRequest, "no number of 32 bits")
	viewer := w.person(t, access.Helper)
	_, err = client.Result(viewer.ChangeSettingWithResponse(t.Context(), d.id,
		link.SettingAction{Action: link.SettingRemove, Path: at, Name: "Ports"}))
	refused(t, err, http.StatusForbidden, "settings.act")
	var answers []string
	many := func(in api.ManyAction) {
		t.Helper()
		if err := w.owner.DoOnMany(t.Context(), in, func(e api.SweepEvent) error {
			if e.Answer != nil {
				answers = append(answers, e.Answer.Value)
			}
			if e.Error != nil {
				answers = append(answers, *e.Error)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	many(api.ManyAction{Setting: &link.SettingAction{Action: link.SettingSet, Path: at, Name: "EnumerateAtLogon", Type: link.SettingNumber,
		Value: "0", Any: true}})
	many(api.ManyAction{Query: &link.Query{Text: `service where name == "Spooler" show name, state`}})
	if want := []string{"EnumerateAtLogon is 0, and was 7.", "name Spooler, state running"}; !slices.Equal(answers, want) {
		t.Errorf("the answers are %q", answers)
	}
}

// Queries over this machine: every class is read, conditions hold, and what cannot be read is told.
func TestQueries(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	ask := func(text string) (rows []map[string]any, err error) {
		r, err := w.owner.AskQuery(t.Context(), d.id, link.Query{Text: text})
		return rows, client.Lines(t.Context(), r, err, "", func(row link.QueryRow) (bool, error) {
			if row.Row != nil {
				rows = append(rows, row.Row)
			}
			return row.Done, nil
		})
	}
	classes := must(client.Result(w.owner.ListQueryClassesWithResponse(t.Context(), d.id)))(t).Items
	if len(classes) < 15 {
		t.Errorf("only %d classes", len(classes))
	}
	for _, class := range classes {
		rows, err := ask(class.Name + " most 3")
		if err != nil {
			t.Errorf("%s: %v", class.Name, err)
		}
		for _, row := range rows {
			for field, v := range row {
				i := slices.IndexFunc(class.Fields, func(f link.QueryField) bool { return f.Name == field })
				if _, number := v.(float64); i < 0 || (class.Fields[i].Type == "number" && !number && v != "") {
					t.Errorf("%s has a field %s of %v, which its class does not tell of", class.Name, field, v)
				}
			}
		}
	}
	pid := os.Getpid()
	rows := must(ask(fmt.Sprintf("process where pid == %d show pid, name", pid)))(t)
	if len(rows) != 1 || rows[0]["pid"] != float64(pid) || len(rows[0]) != 2 {
		t.Errorf("this process is %v", rows)
	}
	if rows := must(ask(`mount where on == "/proc" show kind`))(t); len(rows) == 0 || rows[0]["kind"] != "proc" {
		t.Errorf("/proc is %v", rows)
	}
	_, err := ask("process where")
	refused(t, err, http.StatusBadRequest, "ends too early")
	_, err = ask("unheard")
	refused(t, err, http.StatusNotFound, "no class")

	saved := must(client.Made(w.owner.SaveQueryWithResponse(t.Context(),
		api.NewSavedQuery{Name: "Failed", Text: `service where state == "failed"`})))(t)
	_, err = client.Made(w.owner.SaveQueryWithResponse(t.Context(), api.NewSavedQuery{Name: "Failed", Text: "service"}))
	refused(t, err, http.StatusConflict, "of this name already")
	other := w.person(t, access.Helper)
	if list := must(client.Result(other.ListQueriesWithResponse(t.Context(), &api.ListQueriesParams{})))(t).Items; len(list) != 1 ||
		list[0].Text != saved.Text {
		t.Errorf("saved are %+v", list)
	}
	refused(t, client.Done(other.RemoveQueryWithResponse(t.Context(), saved.ID)), http.StatusNotFound, "of yours")
	if err := client.Done(w.owner.RemoveQueryWithResponse(t.Context(), saved.ID)); err != nil {
		t.Error(err)
	}
}

// What a shell prints is recorded once, through a lost connection too, and is found and replayed by
// those who may.
func TestRecordings(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	o := client.ShellOptions{Size: link.TerminalSize{Columns: 80, Rows: 24}, ID: uuid.New(), Program: "/bin/sh"}
	c := must(w.owner.ShellWith(t.Context(), d.id, o))(t)
	s := &shell{t: t, c: c}
	s.typed("printf 'fir%s\\n' st; printf 'caf\\303\\251 %s\\n' $((6*7))\n")
	s.await("first", "café 42")
	c.CloseNow()
	again := &shell{t: t, c: must(w.owner.ShellWith(t.Context(), d.id, o))(t)} // which prints all of it once more
	again.await("first", "café 42")
	text, _ := json.Marshal(link.ShellEvent{Resize: &link.TerminalSize{Columns: 100, Rows: 30}})
	if err := again.c.Write(t.Context(), websocket.MessageText, text); err != nil {
		t.Fatal(err)
	}
	again.typed("printf 'sec%s\\n' ond; exit 3\n")
	again.await("second")
	again.event()
	var found []api.Recording
	w.await(t, "the recording is whole", func() bool {
		found = must(client.Result(w.owner.ListRecordingsWithResponse(t.Context(),
			&api.ListRecordingsParams{Text: new("SECOND")})))(t).Items
		return len(found) == 1 && found[0].EndedAt != nil
	})
	r := found[0]
	if r.Device != "van-board" || r.Actor != "robin@curlew-sedge.example" || !r.Complete || r.Program != "/bin/sh" ||
		!strings.Contains(*r.Excerpt, "second") {
		t.Errorf("it is %+v, %s", r, *r.Excerpt)
	}
	var printed []byte
	var columns []int
	last := 0.0
	if err := w.owner.Replay(t.Context(), r.ID, func(e recording.Event) error {
		if e.Seconds < last {
			t.Errorf("time goes back from %g to %g", last, e.Seconds)
		}
		last = e.Seconds
		printed = append(printed, e.Output...)
		if e.Columns > 0 {
			columns = append(columns, e.Columns)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	words := recording.Words(printed)
	if strings.Count(words, "first") != 1 || strings.Count(words, "café 42") != 1 || strings.Count(words, "second") != 1 ||
		int64(len(printed)) != r.Bytes {
		t.Errorf("%d of %d bytes: %q", len(printed), r.Bytes, words)
	}
	if !slices.Equal(columns, []int{80, 80, 100}) {
		t.Errorf("the sizes are %v", columns)
	}
	if none := must(client.Result(w.owner.ListRecordingsWithResponse(t.Context(),
		&api.ListRecordingsParams{Text: new("never printed")})))(t).Items; len(none) != 0 {
		t.Errorf("found %+v", none)
	}
	refused(t, w.person(t, access.Helper).Replay(t.Context(), r.ID, nil), http.StatusForbidden, "recordings.see")
	elsewhere := w.elsewhere(t, "bog-desk-01")
	bog := w.client(t, w.personWith(t, api.Grants{{Role: access.Technician, Scope: w.siteScope(t, otherOrganisation, otherSite)}}))
	must(client.Result(bog.GetDeviceWithResponse(t.Context(), elsewhere.id)))(t)
	refused(t, bog.Replay(t.Context(), r.ID, nil), http.StatusNotFound, "no such recording")
	if list := must(client.Result(bog.ListRecordingsWithResponse(t.Context(), &api.ListRecordingsParams{})))(t).Items; len(list) != 0 {
		t.Errorf("a technician of another site is shown %+v", list)
	}
	if played := must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Text: new("recording.play")})))(t).Items; len(played) != 1 {
		t.Errorf("%d playings are on record", len(played))
	}
}
