package session

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/recording"
	"moorwatch.example/core/secret"
	"moorwatch.example/core/session"
	"moorwatch.example/service/db"
	"moorwatch.example/test/database"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// ground is the store over a database with some devices and two people.
type ground struct {
	*testing.T
	store
	devices    []uuid.UUID
	robin, ida uuid.UUID
	seeds      map[uint32][]byte
	signing    ed25519.PrivateKey
}

func begin(t *testing.T, names ...string) *ground {
	t.Helper()
	g := &ground{T: t, seeds: map[uint32][]byte{1: bytes.Repeat([]byte{1}, secret.KeyBytes)}}
	g.pool = database.New(t)
	g.devices, _ = database.Devices(t, g.pool, names...)
	for email, to := range map[string]*uuid.UUID{"robin@moor.example": &g.robin, "ida@moor.example": &g.ida} {
		g.must(g.pool.QueryRow(t.Context(), "INSERT INTO people (id, email, name, created_at) VALUES (gen_random_uuid(), $1, 'x', now()) "+
			"RETURNING id", email).Scan(to))
	}
	var err error
	g.keys, err = secret.NewRing("test", g.seeds)
	g.must(err)
	_, g.signing, err = ed25519.GenerateKey(nil)
	g.must(err)
	return g
}

func (g *ground) must(err error) {
	g.Helper()
	if err != nil {
		g.Fatal(err)
	}
}

func (g *ground) session(device int, tool string, at time.Time) api.ToolSession {
	g.Helper()
	s := api.ToolSession{ID: uuid.New(), Actor: "robin@moor.example", Via: "browser", Address: "192.0.2.1", DeviceID: g.devices[device],
		Device: fmt.Sprint("device ", device), Tool: tool, Reason: new(""), Consent: "silent", BeganAt: at, LastAt: at}
	g.must(g.addSession(g.Context(), g.robin, s, ""))
	return s
}

var ever = moment{time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), uuid.Max}

func TestSessionsAddUp(t *testing.T) {
	g := begin(t, "heron", "knot")
	now := time.Now().UTC().Truncate(time.Millisecond)
	shell, files := g.session(0, "shell", now.Add(-time.Hour)), g.session(1, "files", now)
	g.must(g.keep(t.Context(), []tally{{id: shell.ID, last: now, received: 10, sent: 20, actions: 1, interrupted: 1.5},
		{id: files.ID, last: now, received: 1}}))
	g.must(g.keep(t.Context(), []tally{{id: shell.ID, last: now.Add(time.Second), received: 5, actions: 2, ending: "they closed it"}}))
	list := func(view []uuid.UUID, device *uuid.UUID, open bool) string {
		t.Helper()
		var tools []string
		for before := ever; ; { // in pages of one
			page, err := g.sessions(t.Context(), view, device, open, before, 1)
			g.must(err)
			if len(page) == 0 {
				return strings.Join(tools, " ")
			}
			tools, before = append(tools, page[0].Tool), moment{page[0].BeganAt, page[0].ID}
		}
	}
	for want, got := range map[string]string{
		"files shell": list(nil, nil, false), "shell": list(nil, &g.devices[0], false), "files": list(nil, nil, true),
		"": list([]uuid.UUID{}, nil, false),
	} {
		if got != want {
			t.Errorf("listed %q, want %q", got, want)
		}
	}
	if got := list(g.devices[:1], nil, false); got != "shell" {
		t.Errorf("who sees heron is told of %q", got)
	}
	all, err := g.sessions(t.Context(), nil, &g.devices[0], false, ever, 1)
	g.must(err)
	s := all[0]
	if s.ReceivedBytes != 15 || s.SentBytes != 20 || s.Actions != 3 || s.InterruptedSeconds != 1.5 || s.End == nil ||
		*s.End != "they closed it" || !s.EndedAt.Equal(now.Add(time.Second)) {
		t.Errorf("it came together as %+v", s)
	}
	// What a node that stopped left open ends; what is kept does not.
	_, err = g.pool.Exec(t.Context(), "UPDATE tool_sessions SET last_at = now() - interval '10 minutes' WHERE id = $1", files.ID)
	g.must(err)
	g.must(g.endForgotten(t.Context(), time.Hour))
	if got := list(nil, nil, true); got != "files" {
		t.Errorf("open are %q", got)
	}
	g.must(g.endForgotten(t.Context(), time.Minute))
	if got := list(nil, nil, true); got != "" {
		t.Errorf("open still are %q", got)
	}
	// A note is written by whose session it was.
	if _, _, err := g.setNote(t.Context(), shell.ID, g.ida, "not mine"); !db.Missing(err) {
		t.Errorf("a note at another's session: %v", err)
	}
	if device, name, err := g.setNote(t.Context(), shell.ID, g.robin, "mine"); err != nil || device != g.devices[0] || name != "device 0" {
		t.Errorf("a note: %s, %s, %v", device, name, err)
	}
}

func TestConsentRules(t *testing.T) {
	g := begin(t)
	made, err := g.setRule(t.Context(), nil, session.Rule{Scope: health.Scope{Kind: health.Everywhere}, Tool: "shell", Mode: session.Ask,
		Seconds: 30, Absent: true}, "robin@moor.example")
	if err != nil || made.KeepDays != 180 || made.Tool != "shell" || made.ChangedBy != "robin@moor.example" {
		t.Fatalf("made %+v, %v", made, err)
	}
	site := health.Scope{Kind: health.Site, ID: uuid.NewString()}
	changed, err := g.setRule(t.Context(), &made.ID, session.Rule{Scope: site, Mode: session.Tell, KeepDays: 7, Unrecorded: true},
		"ida@moor.example")
	if err != nil || changed.ID != made.ID || changed.KeepDays != 7 || changed.Absent || !changed.Unrecorded {
		t.Errorf("changed to %+v, %v", changed, err)
	}
	if used, err := g.scopeInUse(t.Context(), site); err != nil || !used {
		t.Errorf("its scope is in use: %t, %v", used, err)
	}
	if scope, err := g.ruleScope(t.Context(), made.ID); err != nil || scope != site {
		t.Errorf("its scope is %+v, %v", scope, err)
	}
	all, err := g.allRules(t.Context())
	if err != nil || len(all) != 1 || all[0].Mode != session.Tell || all[0].KeepDays != 7 {
		t.Errorf("the rules are %+v, %v", all, err)
	}
	if name, err := g.removeRule(t.Context(), made.ID); err != nil || name != "tell for every tool" {
		t.Errorf("removed %q, %v", name, err)
	}
	if _, err := g.setRule(t.Context(), &made.ID, session.Rule{Scope: site}, ""); !db.Missing(err) {
		t.Errorf("what was removed is changed: %v", err)
	}
	if page, err := g.consentRules(t.Context(), uuid.Nil, 10); err != nil || len(page) != 0 {
		t.Errorf("left are %+v, %v", page, err)
	}
}

func TestSavedQueriesAreTheirOwners(t *testing.T) {
	g := begin(t)
	made, err := g.saveQuery(t.Context(), "failed", `service where state == "failed"`, g.robin, "robin@moor.example")
	g.must(err)
	if _, err := g.saveQuery(t.Context(), "failed", "user", g.robin, ""); !db.Duplicate(err) {
		t.Errorf("two of one name: %v", err)
	}
	for want, own := range map[int]*uuid.UUID{0: &g.ida, 1: &g.robin} {
		if all, err := g.queries(t.Context(), own, "", 10); err != nil || len(all) != want {
			t.Errorf("%s sees %d, %v; want %d", own, len(all), err, want)
		}
	}
	if _, err := g.removeQuery(t.Context(), made.ID, &g.ida); !db.Missing(err) {
		t.Errorf("another removes it: %v", err)
	}
	if name, err := g.removeQuery(t.Context(), made.ID, nil); err != nil || name != "failed" {
		t.Errorf("who manages all removes %q, %v", name, err)
	}
}

// record makes a recording of pieces, and ends it.
func (g *ground) record(device int, shell uuid.UUID, pieces ...string) recordingState {
	g.Helper()
	state, err := g.beginRecording(g.Context(), newRecording{device: g.devices[device], shell: shell, caller: g.robin, deviceName: "heron",
		actor: "robin@moor.example", person: "root", program: "bash", kind: "shell", keepDays: 30})
	g.must(err)
	state.seal = state.seal.with(g.signing)
	for _, text := range pieces {
		g.must(state.seal.add(g.Context(), g.store, state.id, sealed{content: []byte("events of " + text), words: []byte(text),
			bytes: int64(len(text)), printed: int64(len(text)), whole: true}))
	}
	g.must(g.endRecording(g.Context(), state.id, state.seal.end(), true))
	return state
}

// What was printed lies in the database encrypted, is found by its words, and is read with the key of today and that of
// before, as long as that is there.
func TestRecordingsAreEncryptedAndFound(t *testing.T) {
	g := begin(t, "heron", "knot")
	heron := g.record(0, uuid.New(), "uname -a\nLinux heron", "systemctl restart Larkspur")
	knot := g.record(1, uuid.New(), "nothing of note")
	var lying []byte
	g.must(g.pool.QueryRow(t.Context(), "SELECT string_agg(events || words, '') FROM recording_pieces").Scan(&lying))
	for _, word := range []string{"Linux", "Larkspur", "events of"} {
		if bytes.Contains(lying, []byte(word)) {
			t.Errorf("%q lies in the database as it is", word)
		}
	}
	if b, err := g.piece(t.Context(), heron.id, 1); err != nil || string(b) != "events of systemctl restart Larkspur" {
		t.Errorf("the second piece is %q, %v", b, err)
	}
	if _, err := g.piece(t.Context(), heron.id, 2); !db.Missing(err) {
		t.Errorf("a piece too many: %v", err)
	}
	find := func(view []uuid.UUID, text string) string {
		t.Helper()
		found, _, more, err := g.search(t.Context(), view, nil, text, ever, 10, time.Now().Add(time.Minute))
		g.must(err)
		if more {
			t.Error("it did not come to the end")
		}
		var lines []string
		for _, r := range found {
			lines = append(lines, *r.Excerpt)
		}
		return strings.Join(lines, "; ")
	}
	for text, want := range map[string]string{"LARKSPUR": "systemctl restart Larkspur", "linux": "Linux heron", "note": "nothing of note",
		"nosuch": ""} {
		if got := find(nil, text); got != want {
			t.Errorf("%s is found in %q, want %q", text, got, want)
		}
	}
	if got := find(g.devices[1:], "linux"); got != "" {
		t.Errorf("who sees knot alone finds %q", got)
	}
	// A search that has no more time says so, and goes on from where it stood.
	found, at, more, err := g.search(t.Context(), nil, nil, "Linux", ever, 10, time.Now().Add(-time.Minute))
	if err != nil || !more || len(found) != 0 || at.ID == uuid.Max {
		t.Errorf("without time it found %d at %v, more %t, %v", len(found), at, more, err)
	}
	if found, _, more, err = g.search(t.Context(), nil, nil, "Linux", at, 10, time.Now().Add(time.Minute)); err != nil || more ||
		len(found) > 1 {
		t.Errorf("going on it found %d, more %t, %v", len(found), more, err)
	}

	// Another key: what was sealed under the first is sealed again, and the first can go.
	g.seeds[2] = bytes.Repeat([]byte{2}, secret.KeyBytes)
	g.must(g.keys.Set(g.seeds))
	if n, err := g.resealRecordings(t.Context()); err != nil || n != 2 {
		t.Errorf("%d were sealed again, %v", n, err)
	}
	if n, err := g.resealRecordings(t.Context()); err != nil || n != 0 {
		t.Errorf("%d were sealed once more, %v", n, err)
	}
	delete(g.seeds, 1)
	g.must(g.keys.Set(g.seeds))
	if b, err := g.piece(t.Context(), knot.id, 0); err != nil || string(b) != "events of nothing of note" {
		t.Errorf("with the new key alone it is %q, %v", b, err)
	}
	// The key of one recording opens no other's pieces.
	_, err = g.pool.Exec(t.Context(), "UPDATE recordings SET key = (SELECT key FROM recordings WHERE id = $1) WHERE id = $2", heron.id,
		knot.id)
	g.must(err)
	if b, err := g.piece(t.Context(), knot.id, 0); err == nil {
		t.Errorf("with another's key it is read: %q", b)
	}
}

// A shell that comes back goes on with its recording where the chain stood, and one that is over is proved whole.
func TestRecordingGoesOn(t *testing.T) {
	g := begin(t, "heron")
	shell := uuid.New()
	first := g.record(0, shell, "one", "two")
	again := g.record(0, shell, "three")
	if again.id != first.id || !again.began.Equal(first.began) || again.printed != 3 {
		t.Errorf("it goes on as %+v after %+v", again, first)
	}
	if again.seal.pieces != 3 {
		t.Errorf("the chain stands at %d", again.seal.pieces)
	}
	for n, want := range []string{"events of one", "events of two", "events of three"} {
		if b, err := g.piece(t.Context(), first.id, n); err != nil || string(b) != want {
			t.Errorf("piece %d is %q, %v", n, b, err)
		}
	}
	p, err := g.proof(t.Context(), first.id)
	if err != nil || len(p.Signatures) != 3 || p.EndSignature == nil {
		t.Errorf("its proof has %d signatures, the end is signed: %t, %v", len(p.Signatures), p.EndSignature != nil, err)
	}
	verify := func(pieces ...string) error {
		t.Helper()
		v := recording.NewVerifier(publicOf(g.signing), recording.First(first.id.String(), g.devices[0].String(), "robin@moor.example",
			first.began))
		for n, piece := range pieces {
			if err := v.Piece([]byte(piece), p.Signatures[n]); err != nil {
				return err
			}
		}
		return v.End(*p.EndSignature)
	}
	if err := verify("events of one", "events of two", "events of three"); err != nil {
		t.Errorf("it is not proved whole: %v", err)
	}
	if verify("events of one", "events of 2", "events of three") == nil || verify("events of one", "events of two") == nil {
		t.Error("what was changed or cut off is proved whole")
	}
	r, err := g.recording(t.Context(), first.id)
	if err != nil || !r.Complete || r.EndedAt == nil || r.Pieces != 3 || r.Bytes != 11 {
		t.Errorf("it is %+v, %v", r, err)
	}
	// With something missing it is not whole, and another piece opens it again.
	g.must(again.seal.add(t.Context(), g.store, first.id, sealed{content: []byte("x"), whole: false}))
	if r, err = g.recording(t.Context(), first.id); err != nil || r.Complete || r.EndedAt != nil {
		t.Errorf("with something missing it is %+v, %v", r, err)
	}
}

// What was kept before recordings were encrypted is encrypted once it is over; what is past its time goes.
func TestOldRecordings(t *testing.T) {
	g := begin(t, "heron")
	old := g.record(0, uuid.New(), "plain words")
	_, err := g.pool.Exec(t.Context(), "UPDATE recordings SET key = NULL")
	g.must(err)
	_, err = g.pool.Exec(t.Context(), "UPDATE recording_pieces SET events = 'plain events', words = 'plain words'")
	g.must(err)
	if b, err := g.piece(t.Context(), old.id, 0); err != nil || string(b) != "plain events" {
		t.Errorf("as it was kept it is %q, %v", b, err)
	}
	if n, err := g.resealRecordings(t.Context()); err != nil || n != 1 {
		t.Errorf("%d were encrypted, %v", n, err)
	}
	var lying []byte
	g.must(g.pool.QueryRow(t.Context(), "SELECT events || words FROM recording_pieces").Scan(&lying))
	if bytes.Contains(lying, []byte("plain")) {
		t.Error("it lies in the database as it is still")
	}
	if b, err := g.piece(t.Context(), old.id, 0); err != nil || string(b) != "plain events" {
		t.Errorf("encrypted it is %q, %v", b, err)
	}
	age := func(days int) int {
		t.Helper()
		_, err := g.pool.Exec(t.Context(), "UPDATE recordings SET last_at = now() - make_interval(days => $1)", days)
		g.must(err)
		g.must(g.expireRecordings(t.Context()))
		all, err := g.recordings(t.Context(), nil, nil, ever, 10)
		g.must(err)
		return len(all)
	}
	if n := age(29); n != 1 {
		t.Errorf("%d are left after 29 days", n)
	}
	if n := age(31); n != 0 {
		t.Errorf("%d are left after 31 days", n)
	}
}

func TestConsoles(t *testing.T) {
	g := begin(t, "heron", "knot")
	o := api.Console{ID: uuid.New(), Name: "kvm", Address: "192.0.2.9:5900", AddedAt: time.Now(), AddedBy: "robin@moor.example"}
	g.must(g.addConsole(t.Context(), g.devices[0], o, g.keys.Seal("heather", consolePrefix+o.ID.String())))
	if err := g.addConsole(t.Context(), g.devices[0], api.Console{ID: uuid.New(), Name: "kvm"}, nil); !db.Duplicate(err) {
		t.Errorf("two of one name: %v", err)
	}
	all, err := g.consoles(t.Context(), g.devices[0], "", 10)
	if err != nil || len(all) != 1 || !all[0].Secret {
		t.Errorf("listed %+v, %v", all, err)
	}
	if all, err = g.consoles(t.Context(), g.devices[1], "", 10); err != nil || len(all) != 0 {
		t.Errorf("at the other device %+v, %v", all, err)
	}
	if _, _, _, err := g.console(t.Context(), g.devices[1], o.ID); !db.Missing(err) {
		t.Errorf("it is found at another device: %v", err)
	}
	g.seeds[2] = bytes.Repeat([]byte{2}, secret.KeyBytes)
	g.must(g.keys.Set(g.seeds))
	if n, err := g.resealConsoles(t.Context(), g.keys); err != nil || n != 1 {
		t.Errorf("%d were sealed again, %v", n, err)
	}
	delete(g.seeds, 1)
	g.must(g.keys.Set(g.seeds))
	name, address, kept, err := g.console(t.Context(), g.devices[0], o.ID)
	if password, open := g.keys.Open(kept, consolePrefix+o.ID.String()); err != nil || open != nil || password != "heather" ||
		name != "kvm" || address != o.Address {
		t.Errorf("it is %s at %s, %v, %v", name, address, err, open)
	}
	if _, err := g.removeConsole(t.Context(), g.devices[1], o.ID); !db.Missing(err) {
		t.Errorf("it is removed at another device: %v", err)
	}
	if name, err := g.removeConsole(t.Context(), g.devices[0], o.ID); err != nil || name != "kvm" {
		t.Errorf("removed %q, %v", name, err)
	}
}
