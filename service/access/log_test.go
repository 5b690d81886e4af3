package access

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/access"
	"moorwatch.example/service/front"
	"moorwatch.example/test/database"
	"moorwatch.example/test/wait"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// written are all entries of the log, held against its chain and its signatures.
func written(t *testing.T, l *Log) []access.Entry {
	t.Helper()
	all, err := l.store.auditAfter(t.Context(), sought{}, 0, 10_000)
	if err != nil {
		t.Fatal(err)
	}
	public := l.key.Public().(ed25519.PublicKey)
	kept, err := l.store.auditKeys(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	keys := map[string]ed25519.PublicKey{}
	for name, key := range kept {
		if !public.Equal(ed25519.PublicKey(key)) {
			t.Errorf("the key %s is not the log's", name)
		}
		keys[name] = key
	}
	var before []byte
	for i, e := range all {
		if err := errors.Join(access.Verify(int64(i), before, e), access.VerifySignature(keys, e)); err != nil {
			t.Fatalf("entry %d: %v", i+1, err)
		}
		before = e.Hash
	}
	return all
}

func newLog(t *testing.T, pool *pgxpool.Pool) *Log {
	t.Helper()
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	l := NewLog(pool, key)
	t.Cleanup(l.Close)
	return l
}

// Whoever writes at the same time, each entry is there once, in a chain that holds, and it is there when Record returns.
func TestLogIsAChain(t *testing.T) {
	l := newLog(t, database.New(t))
	const writers, each = 20, 15
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for i := range each {
				if err := l.Record(t.Context(), front.Entry{Actor: fmt.Sprint("wren ", w), Action: "test.do", Detail: fmt.Sprint(i),
					Result: "done"}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	entries := written(t, l)
	if len(entries) != writers*each {
		t.Fatalf("%d entries, want %d", len(entries), writers*each)
	}
	last := map[string]string{}
	for _, e := range entries {
		if was := last[e.Actor]; len(was) > len(e.Detail) || len(was) == len(e.Detail) && was >= e.Detail {
			t.Errorf("%s wrote %s after %s", e.Actor, e.Detail, was)
		}
		last[e.Actor] = e.Detail
	}
}

func TestEntriesAreCutAndMasked(t *testing.T) {
	l := newLog(t, database.New(t))
	device := uuid.New()
	if err := l.Record(t.Context(), front.Entry{Actor: "wren", Action: "test.do", Device: device, DeviceName: "heron",
		Detail: "tool --password=heather " + strings.Repeat("x", 5000), Result: strings.Repeat("y", 2000)}); err != nil {
		t.Fatal(err)
	}
	e := written(t, l)[0]
	if len(e.Detail) > 4010 || len(e.Result) > 1010 || strings.Contains(e.Detail, "heather") || e.Device != device.String() {
		t.Errorf("%d and %d bytes of %.60s at %s", len(e.Detail), len(e.Result), e.Detail, e.Device)
	}
}

// What was noted is on disk when the log is closed, and nothing is taken after that.
func TestCloseWaitsForNotes(t *testing.T) {
	pool := database.New(t)
	l := newLog(t, pool)
	for i := range 200 {
		l.Note(front.Entry{Actor: "service", Action: "session.end", Detail: fmt.Sprint(i), Result: "ended"})
	}
	l.Close()
	if got := len(written(t, l)); got != 200 {
		t.Errorf("%d of 200 notes are on disk", got)
	}
	if err := l.Record(t.Context(), front.Entry{Actor: "wren", Action: "late"}); !errors.Is(err, errStopping) {
		t.Errorf("after its end: %v", err)
	}
	l.Note(front.Entry{Actor: "wren", Action: "late"})
	l.Close() // once more
	if got := len(written(t, l)); got != 200 {
		t.Errorf("%d entries, one of them after the end", got)
	}
}

// What somebody does not wait for any more is not done, and so it is not on record.
func TestWhoLeavesIsNotOnRecord(t *testing.T) {
	pool := database.New(t)
	l := newLog(t, pool)
	lock, err := pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Rollback(context.Background())
	if _, err := lock.Exec(t.Context(), "SELECT pg_advisory_xact_lock($1)", auditLock); err != nil {
		t.Fatal(err)
	}
	first := make(chan error, 1)
	go func() { first <- l.Record(t.Context(), front.Entry{Actor: "wren", Action: "first", Result: "done"}) }()
	wait.Until(t, 20*time.Second, "the first entry waits for its turn", func() bool {
		var waits bool
		err := pool.QueryRow(t.Context(), "SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted)").Scan(&waits)
		return err == nil && waits
	})
	ctx, cancel := context.WithCancelCause(t.Context())
	second := make(chan error, 1)
	left := errors.New("crake has left")
	go func() { second <- l.Record(ctx, front.Entry{Actor: "crake", Action: "second", Result: "done"}) }()
	wait.Until(t, 20*time.Second, "the second entry is in the queue", func() bool { return len(l.queue) == 1 })
	cancel(left)
	if err := <-second; !errors.Is(err, left) {
		t.Errorf("who left is told %v", err)
	}
	if err := lock.Rollback(t.Context()); err != nil && !errors.Is(err, pgx.ErrTxClosed) {
		t.Fatal(err)
	}
	if err := <-first; err != nil {
		t.Errorf("who waited is told %v", err)
	}
	l.Close()
	if got := written(t, l); len(got) != 1 || got[0].Actor != "wren" {
		t.Errorf("on record: %+v", got)
	}
}

// The role that the service has adds entries, and changes none.
func TestTheServiceCannotAlterItsLog(t *testing.T) {
	pool := database.New(t)
	l := newLog(t, pool)
	if err := l.Record(t.Context(), front.Entry{Actor: "wren", Action: "test.do", Result: "done"}); err != nil {
		t.Fatal(err)
	}
	for _, attack := range []string{"UPDATE audit SET actor = 'crake'", "DELETE FROM audit", "TRUNCATE audit", "DROP TABLE audit",
		"ALTER TABLE audit DISABLE TRIGGER ALL"} {
		if _, err := pool.Exec(t.Context(), attack); err == nil {
			t.Errorf("%s is allowed", attack)
		}
	}
	if got := written(t, l); len(got) != 1 || got[0].Actor != "wren" {
		t.Errorf("on record: %+v", got)
	}
}
