package test

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/service"
	"moorwatch.example/service/db"
)

// Finding 9: whoever could write to the database wrote a history of their own: the chain has no key, and nobody
// outside kept its head.
func TestForgedAuditLog(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.Stop()
	kept := filepath.Join(t.TempDir(), "heads")
	listen := must(net.ListenPacket("udp", "127.0.0.1:0"))(t)
	defer listen.Close()
	w.config.Anchors = []string{"file://" + kept, "udp://" + listen.LocalAddr().String()}
	w.start(t)
	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: "Annexe"})))(t)
	out, errs, exit := ran(t, w.moor(t, "audit", "verify"))
	if exit != 0 || !strings.Contains(out, "Signed by the key") {
		t.Fatalf("exit %d, %s%s", exit, out, errs)
	}
	hash := must(client.Result(w.owner.GetAuditHeadWithResponse(t.Context())))(t).Hash
	w.Stop() // the head is written outside at the end too
	heads := string(must(os.ReadFile(kept))(t))
	if !strings.Contains(heads, "hash="+hash) {
		t.Errorf("the file of heads holds %q, and not %s", heads, hash)
	}
	listen.SetReadDeadline(time.Now().Add(time.Minute))
	b := make([]byte, 2000)
	if n, _, err := listen.ReadFrom(b); err != nil || !strings.Contains(string(b[:n]), "audit.head") ||
		!strings.Contains(string(b[:n]), "hash=") {
		t.Errorf("the syslog server got %q, %v", b[:n], err)
	}
	w.start(t)
	w.owner = w.client(t, w.token)
	// Somebody with the rights of the schema's owner rewrites the last entries, and the chain over them.
	owner := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer owner.Close(context.Background())
	must(owner.Exec(t.Context(), "ALTER TABLE audit DISABLE TRIGGER ALL"))(t)
	rows := must(owner.Query(t.Context(), "SELECT seq, at, actor, via, action, device, device_name, detail, address, result, actor_id, "+
		"via_id, hash, signature, key_id FROM audit ORDER BY seq"))(t)
	all := must(pgx.CollectRows(rows, pgx.RowToStructByPos[access.Entry]))(t)
	before := all[len(all)-3].Hash
	for _, e := range all[len(all)-2:] {
		e.Actor = "somebody.else@curlew-sedge.example"
		e.Hash = access.Chain(before, e)
		before = e.Hash
		must(owner.Exec(t.Context(), "UPDATE audit SET actor = $2, hash = $3 WHERE seq = $1", e.Seq, e.Actor, e.Hash))(t)
	}
	if _, errs, exit := ran(t, w.moor(t, "audit", "verify")); exit == 0 || !strings.Contains(errs, "not signed by the service") {
		t.Errorf("a forged log verifies: exit %d, %s", exit, errs)
	}
	must(owner.Exec(t.Context(), "UPDATE audit SET signature = '', key_id = '' WHERE seq > $1", all[len(all)-3].Seq))(t)
	if _, errs, exit := ran(t, w.moor(t, "audit", "verify")); exit == 0 || !strings.Contains(errs, "written by somebody else") {
		t.Errorf("a log without signatures verifies: exit %d, %s", exit, errs)
	}
}

// Finding 9: what was refused left no trace, a token could call itself a browser, and an address may come to be
// somebody else's.
func TestRefusalsAndIdentitiesAreOnRecord(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	m := w.mate(t, "alder@curlew-sedge.example", access.Viewer, everywhere)
	for _, name := range []string{"browser", " Browser", "service"} {
		_, err := client.Made(m.AddTokenWithResponse(t.Context(), api.NewToken{Name: name, Days: 1}))
		refused(t, err, http.StatusUnprocessableEntity, "this name")
	}
	made := must(client.Made(m.AddTokenWithResponse(t.Context(), api.NewToken{Name: "backup", Days: 1})))(t)
	k := w.client(t, made.Secret)
	for range 5 {
		_, err := client.Result(k.ListPeopleWithResponse(t.Context(), &api.ListPeopleParams{}))
		refused(t, err, http.StatusForbidden, "people.manage")
	}
	q := must(http.NewRequestWithContext(t.Context(), http.MethodGet, w.Service.URL+"/api/v1/people", nil))(t)
	q.Header.Set("Authorization", "Bearer "+made.Secret+"x")
	answer := must(http.DefaultClient.Do(q))(t)
	io.Copy(io.Discard, answer.Body)
	answer.Body.Close()
	var mine, unknown int
	for _, e := range must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Text: new("request.refuse")})))(t).Items {
		switch {
		case e.Actor == m.email && e.ActorID != nil && *e.ActorID == m.id.String() && e.ViaID != nil &&
			*e.ViaID == made.Token.ID.String() && strings.Contains(*e.Detail, "people.manage"):
			mine++
		case e.Actor == "nobody" && e.Address == "127.0.0.1":
			unknown++
		default:
			t.Errorf("on record is %+v", e)
		}
	}
	if mine != 1 || unknown != 1 {
		t.Errorf("%d refusals of theirs and %d of nobody are on record", mine, unknown)
	}
}

// Finding 9: the password of the schema's owner stood in the configuration of the running service.
func TestServiceNeedsNoOwner(t *testing.T) {
	t.Parallel()
	database, owner := emptyDatabase(t)
	config := service.Config{Database: database, Connections: 6, Listen: "127.0.0.1:0", Contents: t.TempDir()}
	if _, err := service.Start(t.Context(), config); err == nil || !strings.Contains(err.Error(), "moorwatch migrate") {
		t.Fatalf("without a schema: %v", err)
	}
	check(db.Prepare(t.Context(), database, owner))(t)
	s := must(service.Start(t.Context(), config))(t)
	s.Stop()
}
