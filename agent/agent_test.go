package agent

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/identity"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/work"
	"moorwatch.example/test/scratch"
	"moorwatch.example/test/wait"
)

func TestPause(t *testing.T) {
	for failures, most := range []int{1, 2, 4, 8, 16, 20, 20, 20} {
		for range 200 {
			if got := pause(failures, errors.New("no route")); got > time.Duration(most)*time.Second+50*time.Millisecond {
				t.Fatalf("after %d failures: %s", failures, got)
			}
		}
	}
	if got := pause(50, errors.New("no route")); got > 21*time.Second {
		t.Errorf("after many failures: %s", got)
	}
	if got := pause(0, fmt.Errorf("refused: %w", &link.Refusal{Status: http.StatusConflict})); got < 5*time.Minute {
		t.Errorf("a second computer with one identity comes back after %s", got)
	}
}

// runner runs programs as a test says.
type runner func(ctx context.Context) (int, error)

func (f runner) Run(ctx context.Context, _ link.Command, _, _ io.Writer) (int, error) { return f(ctx) }

// informer tells that it was asked, which it is once an agent's rooms are open.
type informer chan struct{}

func (i informer) Facts(context.Context) (device.Facts, error) {
	select {
	case <-i:
	default:
		close(i)
	}
	return device.Facts{HostName: "hay-desk-01"}, nil
}

// An agent's life is over when its runs are, also those that came late in it: the next life, which reads of them in the
// journal, would do at the same time what this one still does.
func TestALifeEndsWithItsRuns(t *testing.T) {
	dir := scratch.Dir(t)
	text, err := json.Marshal(identity.Identity{Service: "https://127.0.0.1:1", Device: uuid.NewString(),
		Seed: make([]byte, ed25519.SeedSize)})
	if err := errors.Join(err, os.WriteFile(filepath.Join(dir, "identity.json"), text, 0o600)); err != nil {
		t.Fatal(err)
	}
	begun, opened := make(chan struct{}), make(informer)
	leave, over := make(chan struct{}), make(chan struct{})
	var running atomic.Bool
	stubborn := func(ctx context.Context) (int, error) {
		running.Store(true)
		close(begun)
		<-leave // it does not heed its context at once
		running.Store(false)
		return 0, ctx.Err()
	}
	a := &Agent{Dir: dir, Log: slog.New(slog.DiscardHandler), Host: host.Host{Informer: opened, Runner: runner(stubborn)}}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		defer close(over)
		if err := a.Run(ctx); err != nil {
			t.Error(err)
		}
		if running.Load() {
			t.Error("the agent's life is over, and a run goes on")
		}
	}()
	<-opened
	send := func(id string) int {
		journal, err := os.ReadFile(filepath.Join(dir, "runs", "journal-id"))
		if err != nil {
			t.Fatal(err)
		}
		order, err := json.Marshal(link.RunOrder{ID: id, Journal: string(journal), Seconds: 60,
			Parts: []link.RunPart{{Steps: []work.Step{{Do: work.Run, Argv: []string{"tidy"}, Seconds: 50}}}}})
		if err != nil {
			t.Fatal(err)
		}
		w := httptest.NewRecorder()
		a.runs.Serve(w, httptest.NewRequestWithContext(t.Context(), http.MethodPost, "/runs", bytes.NewReader(order)))
		return w.Code
	}
	if code := send(uuid.NewString()); code != http.StatusOK {
		t.Fatalf("the order is answered with %d", code)
	}
	<-begun
	cancel()
	late := uuid.NewString()
	wait.Until(t, 20*time.Second, "a life that ends takes no orders", func() bool { return send(late) == http.StatusServiceUnavailable })
	close(leave)
	<-over
}
