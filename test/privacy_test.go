package test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
)

// kinds counts the objects of an export by their kind, and returns all of it as text.
func kinds(t *testing.T, answer *http.Response, err error) (count map[string]int, text string) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		t.Fatalf("answered with %d", answer.StatusCode)
	}
	all := must(io.ReadAll(answer.Body))(t)
	count = map[string]int{}
	lines := bufio.NewScanner(strings.NewReader(string(all)))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var one struct {
			Kind string
			Data map[string]any
		}
		if err := json.Unmarshal(lines.Bytes(), &one); err != nil || one.Kind == "" || len(one.Data) == 0 {
			t.Fatalf("%v: %s", err, lines.Text())
		}
		count[one.Kind]++
	}
	return count, string(all)
}

// What is held about an organisation is handed out whole and without secrets, and erased so that no table has a row of
// it; its neighbour stays as it was.
func TestOrganisationsAreExportedAndErased(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	other := w.elsewhere(t, "bog-desk-01")
	r := w.reporter(t, "mill-desk-21")
	if status := r.inventory(t, nil, []inventory.Item{software("browser", "1")}); status != http.StatusNoContent {
		t.Fatal(status)
	}
	if status := r.inventory(t, []inventory.Item{software("browser", "1")},
		[]inventory.Item{software("browser", "2")}); status != http.StatusNoContent {
		t.Fatal(status)
	}
	r.vitals(t, device.Vitals{CPU: 5, Disks: []device.Disk{{Mount: "/", TotalBytes: 100, UsedBytes: 99}}})
	w.await(t, "an alert", func() bool { return w.attention(t).Total > 0 })
	d := w.machine(t, "van-board")
	s := &shell{t: t, c: must(w.owner.ShellWith(t.Context(), d.id,
		client.ShellOptions{Size: link.TerminalSize{Columns: 80, Rows: 24}, ID: uuid.New(), Program: "/bin/sh"}))(t)}
	s.typed("exit\n")
	s.event()
	must(client.Result(w.owner.SetTagsWithResponse(t.Context(), d.id, api.TagList{Tags: []string{"loan"}})))(t)
	var id uuid.UUID
	for _, o := range must(client.Result(w.owner.ListOrganisationsWithResponse(t.Context(), &api.ListOrganisationsParams{})))(t).Items {
		if o.Name == organisation {
			id = o.ID
		}
	}
	answer, err := w.owner.ExportOrganisation(t.Context(), id)
	count, text := kinds(t, answer, err)
	for _, kind := range []string{"organisation", "site", "device", "inventory", "change", "alert", "session at a device", "tag",
		"enrolment token"} {
		if count[kind] == 0 {
			t.Errorf("the export has no %s: %v", kind, count)
		}
	}
	for _, bad := range []string{"bog-desk-01", otherOrganisation, `"public_key"`, `"hash"`, `"secret"`} {
		if strings.Contains(text, bad) {
			t.Errorf("the export has %s", bad)
		}
	}
	refused(t, client.Done(w.owner.EraseOrganisationWithResponse(t.Context(), id, api.Erasure{Name: "another"})),
		http.StatusUnprocessableEntity, "not its name")
	technician := w.person(t, access.Technician)
	refused(t, client.Done(technician.EraseOrganisationWithResponse(t.Context(), id, api.Erasure{Name: organisation})),
		http.StatusForbidden, "fleet.manage")
	if _, errs, exit := ran(t, w.moor(t, "data", "erase", "--organisation", organisation)); exit == 0 || !strings.Contains(errs, "--sure") {
		t.Errorf("%d %q", exit, errs)
	}
	if out, errs, exit := ran(t, w.moor(t, "data", "erase", "--organisation", organisation, "--sure")); exit != 0 ||
		!strings.Contains(out, "is erased") {
		t.Fatalf("%d %q %q", exit, out, errs)
	}
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(context.Background())
	rows := must(db.Query(t.Context(), "SELECT table_name FROM information_schema.columns WHERE table_schema = 'public' AND column_name "+
		"= 'device_id' ORDER BY 1"))(t)
	for _, table := range must(pgx.CollectRows(rows, pgx.RowTo[string]))(t) {
		n := 0
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM "+pgx.Identifier{table}.Sanitize()+" WHERE device_id::text = ANY($1)",
			[]string{r.id.String(), d.id.String()}).Scan(&n); err != nil {
			t.Fatal(table, err)
		}
		if n > 0 {
			t.Errorf("%s still has %d rows of it", table, n)
		}
	}
	_, err = client.Result(w.owner.GetDeviceWithResponse(t.Context(), r.id))
	refused(t, err, http.StatusNotFound, "")
	must(client.Result(w.owner.GetDeviceWithResponse(t.Context(), other.id)))(t)
	w.await(t, "the list has the other's device alone", func() bool {
		all := must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t).Items
		return len(all) == 1 && all[0].ID == other.id
	})
	if all := must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Text: new("organisation.erase")})))(t).Items; len(all) != 2 {
		t.Errorf("%d entries tell of it", len(all))
	}
}

// What is held about a person is handed out to them and to who manages people; once they are removed it is erased, and
// their name stands nowhere but where it is proof.
func TestPeopleAreExportedAndErased(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	const email = "wren@curlew-sedge.example"
	c, p := w.joins(t, email, wholly(access.Technician))
	must(client.Made(c.AddGroupWithResponse(t.Context(), api.NewGroup{Name: "Wren's", Global: new(true), Expression: new("disk > 80")})))(t)
	must(client.Made(c.SaveQueryWithResponse(t.Context(), api.NewSavedQuery{Name: "Failed", Text: `service where state == "failed"`})))(t)
	must(client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "desk", Days: 1})))(t)
	own, err := c.ExportMe(t.Context())
	count, text := kinds(t, own, err)
	for _, kind := range []string{"person", "role", "sign-in", "API token", "saved query", "entry of the audit log"} {
		if count[kind] == 0 {
			t.Errorf("their own export has no %s: %v", kind, count)
		}
	}
	if strings.Contains(text, "password_hash") || strings.Contains(text, `"hash"`) || strings.Contains(text, "robin@") {
		t.Errorf("it has secrets, or is about others: %.300s", text)
	}
	others, err := w.owner.ExportPerson(t.Context(), p.ID)
	if again, _ := kinds(t, others, err); again["saved query"] != 1 {
		t.Errorf("%v", again)
	}
	answer := must(c.ExportPerson(t.Context(), p.ID))(t)
	if answer.Body.Close(); answer.StatusCode != http.StatusForbidden {
		t.Errorf("a technician exports a person: %d", answer.StatusCode)
	}
	refused(t, client.Done(w.owner.ErasePersonWithResponse(t.Context(), api.Erasure{Name: email})), http.StatusConflict,
		"may still sign in")
	if err := client.Done(w.owner.RemovePersonWithResponse(t.Context(), p.ID)); err != nil {
		t.Fatal(err)
	}
	if out, errs, exit := ran(t, w.moor(t, "data", "erase", "--person", email, "--sure")); exit != 0 {
		t.Fatalf("%d %q %q", exit, out, errs)
	}
	refused(t, client.Done(w.owner.ErasePersonWithResponse(t.Context(), api.Erasure{Name: email})), http.StatusNotFound, "")
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(context.Background())
	rows := must(db.Query(t.Context(), `SELECT c.table_name,
		c.column_name FROM information_schema.columns c JOIN information_schema.tables t USING (table_schema, table_name)
		WHERE c.table_schema = 'public' AND t.table_type = 'BASE TABLE' AND c.data_type IN ('text', 'jsonb', 'ARRAY') AND c.table_name NOT IN ('audit', 'river_job') ORDER BY 1, 2`))(t)
	for _, at := range must(pgx.CollectRows(rows,
		func(row pgx.CollectableRow) (at [2]string, err error) { return at, row.Scan(&at[0], &at[1]) }))(t) {
		n := 0
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM "+pgx.Identifier{at[0]}.Sanitize()+" WHERE "+
			pgx.Identifier{at[1]}.Sanitize()+"::text LIKE '%' || $1 || '%'", email).Scan(&n); err != nil {
			t.Fatal(at, err)
		}
		if n > 0 {
			t.Errorf("%s of %s still has the address", at[1], at[0])
		}
	}
	if all := must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Text: new(email)})))(t).Items; len(all) == 0 {
		t.Error("the audit log forgot them")
	}
	// The address is free for somebody else.
	w.joins(t, email, wholly(access.Helper))
}
