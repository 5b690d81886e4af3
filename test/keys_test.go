package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/recording"
	"moorwatch.example/service/authority"
)

// Finding 10: the seeds of authenticators and the keys of webhooks stood in the database as they are, under one key
// for everything that could not be changed.
func TestSecretsAreSealedAndKeysChange(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.Stop()
	keys := must(authority.OpenKeys(t.TempDir(), time.Now()))(t)
	w.config.Keys = keys
	w.start(t)
	w.owner = w.client(t, w.token)
	const email = "ines@curlew-sedge.example"
	c, _ := w.joins(t, email, wholly(access.Technician))
	seed, _ := authenticator(t, c)
	hook := must(client.Made(w.owner.AddChannelWithResponse(t.Context(),
		api.NewChannel{Name: "Desk", Kind: "webhook", Target: "https://desk.example/hook"})))(t)
	secret := must(decode64(*hook.Secret))(t)
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(context.Background())
	sealed := func() (all [][]byte) {
		t.Helper()
		for _, query := range []string{"SELECT sealed FROM authenticators WHERE secret IS NULL",
			"SELECT sealed FROM channels WHERE secret IS NULL"} {
			var b []byte
			if err := db.QueryRow(t.Context(), query).Scan(&b); err != nil {
				t.Fatal(query, err)
			}
			if bytes.Contains(b, []byte(seed)) || bytes.Contains(b, secret) {
				t.Errorf("%s gives a secret as it is", query)
			}
			all = append(all, b)
		}
		return all
	}
	before := sealed()
	if version := must(keys.Rotate(time.Now()))(t); version != 2 {
		t.Errorf("the next key is number %d", version)
	}
	w.Stop()
	// What was there before secrets were sealed is sealed at the start.
	must(db.Exec(t.Context(), "UPDATE channels SET secret = $1, sealed = NULL", secret))(t)
	w.start(t)
	for i, b := range sealed() {
		if bytes.Equal(b, before[i]) || b[3] != 2 {
			t.Errorf("secret %d is sealed under key %d", i, b[3])
		}
	}
	w.Stop()
	if gone := must(keys.Retire())(t); gone != 1 {
		t.Errorf("%d keys were removed", gone)
	}
	w.start(t)
	code := must(totp.GenerateCode(seed, time.Now().Add(30*time.Second)))(t)
	must(w.client(t, "").SignIn(t.Context(), email, password,
		func([]api.SecondStepFactors) (api.SecondFactor, error) { return api.SecondFactor{Code: &code}, nil }))(t)
}

// Finding 10: whoever had a copy of the database and of the service's folder read what people had seen of screens, what
// shells had printed, and the files of packages.
func TestRecordingsAndFilesAreEncrypted(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.Stop()
	keys := must(authority.OpenKeys(t.TempDir(), time.Now()))(t)
	w.config.Keys, w.config.Contents = keys, t.TempDir()
	w.start(t)
	w.owner = w.client(t, w.token)
	d := w.machine(t, "van-board")
	const printed = "heather on the hill"
	record := func() {
		s := &shell{t: t, c: must(w.owner.ShellWith(t.Context(), d.id,
			client.ShellOptions{Size: link.TerminalSize{Columns: 80, Rows: 24}, ID: uuid.New(), Program: "/bin/sh"}))(t)}
		s.typed("printf 'hea%s on the hill\\n' ther; exit\n")
		s.await(printed)
		s.event()
	}
	found := func(text string) []api.Recording {
		return must(client.Result(w.owner.ListRecordingsWithResponse(t.Context(), &api.ListRecordingsParams{Text: &text})))(t).Items
	}
	record()
	w.await(t, "the recording is found by what was printed", func() bool {
		all := found("HEATHER ON")
		return len(all) == 1 && all[0].EndedAt != nil && strings.Contains(*all[0].Excerpt, printed)
	})
	first := found(printed)[0]
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(context.Background())
	pieces := func(id uuid.UUID) (events, words, key []byte) {
		t.Helper()
		if err := db.QueryRow(t.Context(), "SELECT p.events, p.words, r.key FROM recording_pieces p JOIN recordings r ON r.id = "+
			"p.recording_id WHERE r.id = $1 AND p.n = 0", id).Scan(&events, &words, &key); err != nil {
			t.Fatal(err)
		}
		return events, words, key
	}
	events, words, key := pieces(first.ID)
	if _, err := recording.Open(events); err == nil || bytes.Contains(words, []byte("heather")) || len(key) == 0 {
		t.Errorf("it stands in the database as it is: %v, %q", err, words)
	}
	record()
	w.await(t, "another", func() bool { return len(found(printed)) == 2 })
	second := found(printed)[0]
	must(db.Exec(t.Context(), "UPDATE recording_pieces SET events = $2, words = $3 WHERE recording_id = $1 AND n = 0", second.ID, events,
		words))(t)
	refused(t, w.owner.Replay(t.Context(), second.ID, nil), http.StatusUnprocessableEntity, "changed in the database")
	must(db.Exec(t.Context(), "DELETE FROM recordings WHERE id = $1", second.ID))(t)

	text := bytes.Repeat([]byte("sphagnum "), 10_000)
	sum := sha256.Sum256(text)
	digest := hex.EncodeToString(sum[:])
	must(client.Made(w.owner.AddContentWithResponse(t.Context(),
		api.NewContent{Sha256: digest, Name: "bog.txt", Size: int64(len(text))})))(t)
	send := func(part []byte, offset int64) {
		t.Helper()
		must(client.Result(w.owner.SendContentWithBodyWithResponse(t.Context(), digest, &api.SendContentParams{Offset: offset},
			"application/octet-stream", bytes.NewReader(part))))(t)
	}
	look := func() (kept int64) {
		t.Helper()
		if err := filepath.WalkDir(w.config.Contents, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			is := must(os.ReadFile(path))(t)
			kept += int64(len(is))
			if bytes.Contains(is, []byte("sphagnum")) {
				t.Errorf("%s stands as it is", path)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return kept
	}
	send(text[:33_333], 0)
	if n := look(); n != 33_333 {
		t.Errorf("%d bytes are kept of a part", n)
	}
	send(text[33_333:], 33_333)
	if n := look(); n != int64(len(text)) {
		t.Errorf("%d bytes are kept", n)
	}

	// The keys change: what is encrypted is as it was, and its keys are sealed under the latest. What was not encrypted is.
	must(keys.Rotate(time.Now()))(t)
	w.Stop()
	plain := uuid.New()
	must(db.Exec(t.Context(), `INSERT INTO recordings (id, device_id, shell, device_name, person_id, actor, person, program, kind,
		keep_days, began_at, last_at, ended_at, pieces)
		SELECT $1, device_id, $1, device_name, person_id, actor, person, program, 'screen', 180, now(), now(), now(), 1 FROM recordings WHERE id = $2`, plain, first.ID))(t)
	must(db.Exec(t.Context(), "INSERT INTO recording_pieces (recording_id, n, events, words) VALUES ($1, 0, 'as it was', 'of old')",
		plain))(t)
	w.start(t)
	w.owner = w.client(t, w.token)
	must(keys.Retire())(t)
	w.Stop()
	w.start(t)
	w.owner = w.client(t, w.token)
	again, _, resealed := pieces(first.ID)
	if !bytes.Equal(again, events) || bytes.Equal(resealed, key) || resealed[3] != 2 {
		t.Errorf("the pieces changed (%t), or the key is not sealed under the latest: %d", !bytes.Equal(again, events), resealed[3])
	}
	if all := found(printed); len(all) != 1 {
		t.Errorf("%d recordings are found after the keys changed", len(all))
	}
	if events, words, key := pieces(plain); string(events) == "as it was" || string(words) == "of old" || key == nil {
		t.Error("what was kept as it is stays so")
	}
	if all := found("of old"); len(all) != 1 || all[0].ID != plain {
		t.Errorf("found %+v", all)
	}
	answer := must(w.owner.GetRecordingPiece(t.Context(), plain, 0))(t)
	defer answer.Body.Close()
	if piece := must(io.ReadAll(answer.Body))(t); string(piece) != "as it was" {
		t.Errorf("it became %q", piece)
	}
	file := must(os.ReadFile(filepath.Join(w.config.Contents, digest[:2], digest)))(t)
	if bytes.Contains(file, []byte("sphagnum")) {
		t.Error("the file is not encrypted any more")
	}
}
