package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/server"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
)

func TestSetUpLinkWorksOnce(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	_, secret, _ := strings.Cut(w.SetUpLink, "#")
	c := w.client(t, "")
	_, err := c.SetUp(t.Context(), api.SetUp{Link: secret, Password: "another password"})
	refused(t, err, http.StatusGone, "has been used")
	_, err = c.SetUp(t.Context(), api.SetUp{Link: "mw-setup.forged", Password: "another password"})
	refused(t, err, http.StatusGone, "has been used")
	added := must(client.Made(w.owner.AddPersonWithResponse(t.Context(),
		api.NewPerson{Name: "Ines", Email: "ines@curlew-sedge.example", Grants: wholly(access.Technician)})))(t)
	_, link, _ := strings.Cut(added.Link, "#")
	_, err = c.SetUp(t.Context(), api.SetUp{Link: link, Password: "short"})
	refused(t, err, http.StatusUnprocessableEntity, "at least 12 characters")
	must(c.SetUp(t.Context(), api.SetUp{Link: link, Password: password}))(t) // a refused password did not spend it
	_, err = client.Made(w.owner.AddPersonWithResponse(t.Context(),
		api.NewPerson{Name: "Ines", Email: "INES@curlew-sedge.example", Grants: wholly(access.Viewer)}))
	refused(t, err, http.StatusConflict, "e-mail address already")
}

func TestSignIn(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	const email = "robin@curlew-sedge.example"
	c := w.client(t, "")
	me := must(c.SignIn(t.Context(), "ROBIN@curlew-sedge.example ", password, nil))(t)
	if me.Grants[0].Role != access.Owner || me.Csrf == "" {
		t.Errorf("signed in as %+v", me)
	}
	for range 5 {
		_, err := w.client(t, "").SignIn(t.Context(), email, "wrong password", nil)
		refused(t, err, http.StatusUnauthorized, "E-mail or password is wrong")
	}
	_, err := w.client(t, "").SignIn(t.Context(), email, password, nil)
	refused(t, err, http.StatusTooManyRequests, "Too many failed sign-ins")
	must(client.Result(c.GetMeWithResponse(t.Context())))(t) // the session goes on
	if err := client.Done(c.SignOutWithResponse(t.Context())); err != nil {
		t.Fatal(err)
	}
	_, err = client.Result(c.GetMeWithResponse(t.Context()))
	refused(t, err, http.StatusUnauthorized, "not signed in")
}

// A change by cookie needs the token that only a page of the console can read.
func TestCSRF(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	answer, err := http.Post(w.Service.URL+"/api/v1/session", "application/json",
		strings.NewReader(`{"email":"robin@curlew-sedge.example","password":"`+password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	cookie := answer.Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || cookie.Path != "/" {
		t.Errorf("the session's cookie is %+v", cookie)
	}
	for token, want := range map[string]int{"": http.StatusForbidden, "forged": http.StatusForbidden,
		access.CSRF(cookie.Value): http.StatusCreated} {
		r, _ := http.NewRequestWithContext(t.Context(), http.MethodPost, w.Service.URL+"/api/v1/tokens",
			strings.NewReader(`{"name":"x","days":1}`))
		r.AddCookie(cookie)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("X-Moorwatch-Csrf", token)
		got, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		got.Body.Close()
		if got.StatusCode != want {
			t.Errorf("with the token %q: %d, want %d", token, got.StatusCode, want)
		}
	}
}

func TestAPITokens(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	owner := w.client(t, "")
	must(owner.SignIn(t.Context(), "robin@curlew-sedge.example", password, nil))(t)
	made := must(client.Made(owner.AddTokenWithResponse(t.Context(), api.NewToken{Name: "backup", Days: 7})))(t)
	other := w.client(t, made.Secret)
	must(client.Result(other.GetMeWithResponse(t.Context())))(t)
	if err := client.Done(w.person(t, access.Technician).RevokeTokenWithResponse(t.Context(), made.Token.ID)); err == nil {
		t.Error("somebody revoked another's token")
	}
	if err := client.Done(w.owner.RevokeTokenWithResponse(t.Context(), made.Token.ID)); err != nil {
		t.Fatal(err)
	}
	_, err := client.Result(other.GetMeWithResponse(t.Context()))
	refused(t, err, http.StatusUnauthorized, "not signed in")
	_, err = client.Made(owner.AddTokenWithResponse(t.Context(), api.NewToken{Name: "", Days: 9999}))
	refused(t, err, http.StatusBadRequest, "not as it should be")
	refused(t, err, http.StatusBadRequest, "days: ")
	_, err = client.Made(owner.AddTokenWithResponse(t.Context(), api.NewToken{Name: "one mistake", Days: 9999}))
	refused(t, err, http.StatusBadRequest, "days: ")
	db, err := pgx.Connect(t.Context(), w.config.Database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	var leaks int
	if err := db.QueryRow(t.Context(), "SELECT count(*) FROM api_tokens WHERE position($1::bytea in hash) > 0",
		[]byte(made.Secret)).Scan(&leaks); err != nil || leaks > 0 {
		t.Errorf("the secret stands in the database: %d, %v", leaks, err)
	}
}

// Every operation of the contract, as nobody, as each built-in role, as a role of one's own and as a
// technician of one site alone: who may not is told so before anything else, and who may is not.
func TestEveryRoute(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	spec := must(server.GetSpec())(t)
	inside, outside := w.simulated(t, "hay-desk-01"), w.elsewhere(t, "bog-desk-01")
	services := access.Of("services", access.Act)
	must(client.Result(w.owner.SetRoleWithResponse(t.Context(), "night-desk", api.NewRole{Permissions: []access.Permission{services}})))(t)
	here := w.siteScope(t, organisation, site)
	type who struct {
		name, token string
		grant       access.Rights
	}
	people := []who{{"nobody", "", nil}, {"owner", w.token, access.Rights{{Role: access.Owner, Scope: everywhere}}}}
	for _, g := range []access.Grant{{Role: access.Technician, Scope: everywhere}, {Role: access.Helper, Scope: everywhere},
		{Role: access.Viewer, Scope: everywhere},
		{Role: "night-desk", Scope: everywhere, Permissions: []access.Permission{access.FleetRead, access.Of("services", access.See),
			services}},
		{Role: access.Technician, Scope: here}} {
		people = append(people, who{fmt.Sprint(g.Role, " at ", g.Scope.Kind), w.personWith(t, api.Grants{{Role: g.Role, Scope: g.Scope}}),
			access.Rights{g}})
	}
	places := map[uuid.UUID]*health.Place{inside.id: {Site: here.ID}, outside.id: {Site: "other"}}
	n := 0
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			needs := access.Permission(op.Extensions["x-permission"].(string))
			if strings.HasPrefix(path, "/tokens") || needs == access.Self { // nobody's own state is changed here
				if got := call(t, w, method, fill(path, uuid.Nil), ""); got != http.StatusUnauthorized {
					t.Errorf("%s %s as nobody: %d", method, path, got)
				}
				continue
			}
			atDevice := strings.HasPrefix(path, "/devices/{id}")
			for id, at := range places {
				if !atDevice && id == outside.id || method == http.MethodDelete && path == "/devices/{id}" && id == inside.id {
					continue
				}
				for _, p := range people {
					may := p.grant.Somewhere(needs)
					switch {
					case atDevice:
						may = p.grant.May(needs, at)
					case op.Extensions["x-place"] == "everywhere":
						may = p.grant.Everywhere(needs)
					}
					if may && atDevice && (method != http.MethodGet && p.name == "owner" || strings.HasSuffix(path, "/shell") ||
						strings.HasSuffix(path, "/screen")) {
						continue // what is done to a device is tested elsewhere
					}
					n++
					got := call(t, w, method, fill(path, id), p.token)
					switch {
					case needs == access.Anyone:
						if got == http.StatusForbidden && p.token == "" && !strings.Contains(path, "enrol") {
							t.Errorf("%s %s needs no sign-in, and answers %d", method, path, got)
						}
					case p.token == "":
						if got != http.StatusUnauthorized {
							t.Errorf("%s %s as nobody: %d", method, path, got)
						}
					case atDevice && !p.grant.May(access.FleetRead, at) && p.grant.Somewhere(needs):
						if got != http.StatusNotFound {
							t.Errorf("%s %s as %s, to whom the device is not there: %d", method, path, p.name, got)
						}
					case !may:
						if got != http.StatusForbidden {
							t.Errorf("%s %s as %s: %d", method, path, p.name, got)
						}
					case got == http.StatusUnauthorized || got == http.StatusForbidden:
						t.Errorf("%s %s as %s, who may: %d", method, path, p.name, got)
					}
				}
			}
		}
	}
	if n < 500 {
		t.Errorf("only %d calls were made", n)
	}
}

// A technician of one site sees that site in every list, and nothing of another.
func TestWhatOneSiteSees(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	mine, other := w.simulated(t, "hay-desk-01"), w.elsewhere(t, "bog-desk-01")
	w.await(t, "both are in the list of software", func() bool {
		for _, id := range []uuid.UUID{mine.id, other.id} {
			if v, err := client.Result(w.owner.GetInventoryWithResponse(t.Context(), id, &api.GetInventoryParams{})); err != nil ||
				len(v.Items) == 0 {
				return false
			}
		}
		return true
	})
	for _, d := range []*running{mine, other} {
		if _, err := w.owner.Run(t.Context(), d.id, command("hostname"), io.Discard, io.Discard); err != nil {
			t.Fatal(err)
		}
		w.policy(t, "noisy "+d.id.String(), health.Scope{Kind: health.Device, ID: d.id.String()},
			health.Setting{Check: "disk", Above: &health.Limits{Warning: new(1.0)}})
	}
	w.await(t, "both have an alert", func() bool {
		return len(must(client.Result(w.owner.ListAlertsWithResponse(t.Context(), &api.ListAlertsParams{})))(t).Items) >= 2
	})
	must(client.Made(w.owner.AddGroupWithResponse(t.Context(),
		api.NewGroup{Name: "All desks", Expression: new("os == 'linux' || os == 'windows' || os == 'macos'"), Global: new(true)})))(t)
	token := w.personWith(t, api.Grants{{Role: access.Technician, Scope: w.siteScope(t, organisation, site)}})
	for i, d := range []*running{mine, other} {
		dir := t.TempDir()
		if err := os.CopyFS(dir, os.DirFS(d.dir)); err != nil {
			t.Fatal(err)
		}
		w.back(t, &running{dir: dir, id: d.id}, body("copy", uint64(90+i)))
	}
	w.await(t, "somebody is asked about copies of both", func() bool {
		return len(must(client.Result(w.owner.ListIdentityQuestionsWithResponse(t.Context(),
			&api.ListIdentityQuestionsParams{})))(t).Items) == 2
	})
	for _, path := range []string{"/identity-questions", "/devices", "/devices?where=true", "/organisations", "/groups", "/words",
		"/alerts", "/attention", "/changes", "/software", "/policies", "/maintenance-windows",
		"/consent-rules", "/enrolment-tokens", "/sessions", "/audit", "/audit/export?format=jsonl", "/software?format=csv"} {
		whole, part := w.read(t, path, w.token), w.read(t, path, token)
		for _, secret := range []string{"bog-desk-01", other.id.String(), otherSite, otherOrganisation} {
			if strings.Contains(part, secret) {
				t.Errorf("%s tells a technician of another site of %s: %.2000s", path, secret, part)
			}
		}
		told := strings.Contains(whole, "bog-desk-01") || strings.Contains(whole, other.id.String()) || strings.Contains(whole, otherSite)
		if !told && !strings.Contains("/changes /groups /software /maintenance-windows /consent-rules /software?format=csv", path) {
			t.Errorf("%s does not tell the owner of the other device, and shows nothing here", path)
		}
		if strings.HasPrefix(path, "/devices") && !strings.Contains(part, "hay-desk-01") {
			t.Errorf("%s hides their own device: %s", path, part)
		}
	}
	c := w.client(t, token)
	groups := must(client.Result(c.ListGroupsWithResponse(t.Context(), &api.ListGroupsParams{})))(t).Items
	if len(groups) != 1 || groups[0].Devices != 1 {
		t.Errorf("the group has %+v", groups)
	}
	_, err := c.Find(t.Context(), "bog-desk-01")
	refused(t, err, http.StatusNotFound, "No device is named")
	var asked []string
	if err := c.DoOnMany(t.Context(), api.ManyAction{Command: new(command("hostname"))}, func(e api.SweepEvent) error {
		if e.Device != nil {
			asked = append(asked, *e.Device)
		}
		return nil
	}); err != nil || !slices.Equal(asked, []string{"hay-desk-01"}) {
		t.Errorf("a command on all went to %v: %v", asked, err)
	}
	scope := health.Scope{Kind: health.Device, ID: other.id.String()}
	_, err = client.Made(c.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "mine", Scope: scope, Settings: []health.Setting{{Check: "disk", Off: true}}}))
	refused(t, err, http.StatusForbidden, "policy.manage")
	_, err = client.Made(c.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "mine", Scope: everywhere, Settings: []health.Setting{{Check: "disk", Off: true}}}))
	refused(t, err, http.StatusForbidden, "policy.manage")
	for _, a := range must(client.Result(w.owner.ListAlertsWithResponse(t.Context(), &api.ListAlertsParams{Device: &other.id})))(t).Items {
		_, err = client.Result(c.GetAlertWithResponse(t.Context(), a.ID))
		refused(t, err, http.StatusNotFound, "no such alert")
		_, err = client.Result(c.HandleAlertWithResponse(t.Context(), a.ID, api.AlertAction{Action: "resolve"}))
		refused(t, err, http.StatusNotFound, "no such alert")
	}
}

// read is the body of an answer.
func (w *world) read(t *testing.T, path, token string) string {
	t.Helper()
	r := must(http.NewRequestWithContext(t.Context(), http.MethodGet, w.Service.URL+"/api/v1"+path, nil))(t)
	r.Header.Set("Authorization", "Bearer "+token)
	answer := must(http.DefaultClient.Do(r))(t)
	defer answer.Body.Close()
	body := string(must(io.ReadAll(answer.Body))(t))
	if answer.StatusCode != http.StatusOK {
		t.Errorf("%s: %d %s", path, answer.StatusCode, body)
	}
	return body
}

func fill(path string, id uuid.UUID) string {
	if id == uuid.Nil || !strings.HasPrefix(path, "/devices/{id}") {
		id = uuid.MustParse("00000000-0000-4000-8000-000000000001")
	}
	return strings.NewReplacer("{id}", id.String(), "{name}", "nosuch", "{upload}", "nosuch").Replace(path)
}

// call makes a request with an empty body, and returns its status at the first byte.
func call(t *testing.T, w *world, method, path, token string) int {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), soon)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, w.Service.URL+"/api/v1"+path, strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 400 && answer.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("%s %s fails with %s", method, path, answer.Header.Get("Content-Type"))
	}
	return answer.StatusCode
}

func TestAuditLog(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	if _, err := w.owner.Run(t.Context(), d.id, command("hostname"), io.Discard, io.Discard); err != nil {
		t.Fatal(err)
	}
	var entries []api.AuditEntry
	w.await(t, "the command's end is on record", func() bool {
		entries = must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{Device: &d.id})))(t).Items
		return len(entries) == 4
	})
	for i, want := range []struct{ action, result string }{{"command.end", "exit status 0"}, {"command.start", "started"},
		{"session.begin", "not asked for"}, {"device.enrol", "done"}} {
		e := entries[i]
		if e.Action != want.action || e.Result != want.result || *e.DeviceName != "hay-desk-01" || e.Address != "127.0.0.1" {
			t.Errorf("entry %d: %+v", i, e)
		}
	}
	if e := entries[1]; e.Actor != "robin@curlew-sedge.example" || e.Via != "test" || *e.Detail != "hostname" {
		t.Errorf("the command's start: %+v", e)
	}
	db := must(pgx.Connect(t.Context(), w.config.Database))(t)
	defer db.Close(context.Background())
	owner := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer owner.Close(context.Background())
	for _, query := range []string{"UPDATE audit SET actor = 'nobody'", "DELETE FROM audit WHERE seq = 1", "TRUNCATE audit",
		"DROP TABLE audit", "ALTER TABLE audit DISABLE TRIGGER ALL"} {
		if _, err := db.Exec(t.Context(), query); err == nil || !strings.Contains(err.Error(), "permission denied") &&
			!strings.Contains(err.Error(), "must be owner") {
			t.Errorf("%s by the service's role: %v", query, err)
		}
		if strings.Contains(query, "TABLE") {
			continue
		}
		if _, err := owner.Exec(t.Context(), query); err == nil || !strings.Contains(err.Error(), "append-only") {
			t.Errorf("%s by the owner of the schema: %v", query, err)
		}
	}
	rows := must(db.Query(t.Context(), "SELECT seq, at, actor, via, action, device, device_name, detail, address, result, actor_id, "+
		"via_id, hash, signature, key_id FROM audit ORDER BY seq"))(t)
	var seq int64
	var hash []byte
	for _, e := range must(pgx.CollectRows(rows, pgx.RowToStructByPos[access.Entry]))(t) {
		if err := access.Verify(seq, hash, e); err != nil {
			t.Fatal(err)
		}
		seq, hash = e.Seq, e.Hash
	}
	if seq < 5 {
		t.Errorf("the chain has %d entries", seq)
	}
	text := "HOSTNAME"
	if found := must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Text: &text})))(t).Items; len(found) != 2 {
		t.Errorf("%d entries hold %q", len(found), text)
	}
	for format, want := range map[string]string{"csv": "seq,at,actor", "jsonl": `"action":"command.start"`,
		"syslog": `[audit@32473 seq="1" actor="service"`} {
		answer := must(w.owner.ExportAudit(t.Context(), &api.ExportAuditParams{Format: api.ExportAuditParamsFormat(format)}))(t)
		body := must(io.ReadAll(answer.Body))(t)
		answer.Body.Close()
		if lines := strings.Count(string(body), "\n"); lines < int(seq) || !strings.Contains(string(body), want) {
			t.Errorf("%s holds %d lines: %.300s", format, lines, body)
		}
	}
}
