package test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
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
	added := must(client.Made(w.owner.AddPersonWithResponse(t.Context(), api.NewPerson{Name: "Ines", Email: "ines@curlew-sedge.example", Role: access.Technician})))(t)
	_, link, _ := strings.Cut(added.Link, "#")
	_, err = c.SetUp(t.Context(), api.SetUp{Link: link, Password: "short"})
	refused(t, err, http.StatusUnprocessableEntity, "at least 10 characters")
	must(c.SetUp(t.Context(), api.SetUp{Link: link, Password: password}))(t) // a refused password did not spend it
	_, err = client.Made(w.owner.AddPersonWithResponse(t.Context(), api.NewPerson{Name: "Ines", Email: "INES@curlew-sedge.example", Role: access.Viewer}))
	refused(t, err, http.StatusConflict, "e-mail address already")
}

func TestSignIn(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	const email = "robin@curlew-sedge.example"
	c := w.client(t, "")
	me := must(c.SignIn(t.Context(), "ROBIN@curlew-sedge.example ", password))(t)
	if me.Role != access.Owner || me.Csrf == "" {
		t.Errorf("signed in as %+v", me)
	}
	for range 5 {
		_, err := w.client(t, "").SignIn(t.Context(), email, "wrong password")
		refused(t, err, http.StatusUnauthorized, "E-mail or password is wrong")
	}
	_, err := w.client(t, "").SignIn(t.Context(), email, password)
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
	answer, err := http.Post(w.Service.URL+"/api/v1/session", "application/json", strings.NewReader(`{"email":"robin@curlew-sedge.example","password":"`+password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	cookie := answer.Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || cookie.Path != "/" {
		t.Errorf("the session's cookie is %+v", cookie)
	}
	for token, want := range map[string]int{"": http.StatusForbidden, "forged": http.StatusForbidden, access.CSRF(cookie.Value): http.StatusCreated} {
		r, _ := http.NewRequestWithContext(t.Context(), http.MethodPost, w.Service.URL+"/api/v1/tokens", strings.NewReader(`{"name":"x","days":1}`))
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
	made := must(client.Made(w.owner.AddTokenWithResponse(t.Context(), api.NewToken{Name: "backup", Days: 7})))(t)
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
	_, err = client.Made(w.owner.AddTokenWithResponse(t.Context(), api.NewToken{Name: "", Days: 9999}))
	refused(t, err, http.StatusBadRequest, "not as it should be")
	db, err := pgx.Connect(t.Context(), w.config.Database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	var leaks int
	if err := db.QueryRow(t.Context(), "SELECT count(*) FROM api_tokens WHERE position($1::bytea in hash) > 0", []byte(made.Secret)).Scan(&leaks); err != nil || leaks > 0 {
		t.Errorf("the secret stands in the database: %d, %v", leaks, err)
	}
}

// Every operation of the contract, as nobody and as each role: who may not is told so before
// anything else, and who may is not.
func TestEveryRoute(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	spec := must(api.GetSpec())(t)
	tokens := map[access.Role]string{"": ""}
	for _, role := range []access.Role{access.Viewer, access.Technician} {
		email := string(role) + "@curlew-sedge.example"
		added := must(client.Made(w.owner.AddPersonWithResponse(t.Context(), api.NewPerson{Name: "x", Email: email, Role: role})))(t)
		c := w.client(t, "")
		_, link, _ := strings.Cut(added.Link, "#")
		must(c.SetUp(t.Context(), api.SetUp{Link: link, Password: password}))(t)
		tokens[role] = must(client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "x", Days: 1})))(t).Secret
	}
	tokens[access.Owner] = w.token
	n := 0
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			needs := access.Permission(op.Extensions["x-permission"].(string))
			for role, token := range tokens {
				n++
				got := call(t, w, method, fill(path), token)
				switch {
				case needs == access.Anyone:
					if got == http.StatusForbidden && role == "" && !strings.Contains(path, "enrol") {
						t.Errorf("%s %s needs no sign-in, and answers %d", method, path, got)
					}
				case role == "":
					if got != http.StatusUnauthorized {
						t.Errorf("%s %s as nobody: %d", method, path, got)
					}
				case !role.May(needs):
					if got != http.StatusForbidden {
						t.Errorf("%s %s as %s: %d", method, path, role, got)
					}
				case got == http.StatusUnauthorized || got == http.StatusForbidden:
					t.Errorf("%s %s as %s, who may: %d", method, path, role, got)
				}
			}
		}
	}
	if n < 4*20 {
		t.Errorf("only %d calls were made", n)
	}
}

func fill(path string) string {
	return strings.NewReplacer("{id}", "00000000-0000-4000-8000-000000000001", "{name}", "nosuch").Replace(path)
}

// call makes a request with an empty body, and returns its status at the first byte.
func call(t *testing.T, w *world, method, path, token string) int {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
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
	w.await(t, 5*time.Second, "the command's end is on record", func() bool {
		entries = must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{Device: &d.id})))(t).Items
		return len(entries) == 4
	})
	for i, want := range []struct{ action, result string }{{"command.end", "exit status 0"}, {"command.start", "started"}, {"session.begin", "not asked for"}, {"device.enrol", "done"}} {
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
	for _, query := range []string{"UPDATE audit SET actor = 'nobody'", "DELETE FROM audit WHERE seq = 1", "TRUNCATE audit"} {
		if _, err := db.Exec(t.Context(), query); err == nil || !strings.Contains(err.Error(), "append-only") {
			t.Errorf("%s: %v", query, err)
		}
	}
	rows := must(db.Query(t.Context(), "SELECT seq, at, actor, via, action, device, device_name, detail, address, result, hash FROM audit ORDER BY seq"))(t)
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
	if found := must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{Text: &text})))(t).Items; len(found) != 2 {
		t.Errorf("%d entries hold %q", len(found), text)
	}
	for format, want := range map[string]string{"csv": "seq,at,actor", "jsonl": `"action":"command.start"`, "syslog": `[audit@32473 seq="1" actor="service"`} {
		answer := must(w.owner.ExportAudit(t.Context(), &api.ExportAuditParams{Format: api.ExportAuditParamsFormat(format)}))(t)
		body := must(io.ReadAll(answer.Body))(t)
		answer.Body.Close()
		if lines := strings.Count(string(body), "\n"); lines < int(seq) || !strings.Contains(string(body), want) {
			t.Errorf("%s holds %d lines: %.300s", format, lines, body)
		}
	}
}
