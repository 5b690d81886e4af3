package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/journal"
	messages "moorwatch.example/contract/link"
	"moorwatch.example/core/job"
)

// mostRuns is how many runs go on at a device at once; others wait for their turn, in the order in
// which they came.
const mostRuns = 2

// runs are the runs of this device.
type runs struct {
	agent   *Agent
	journal *journal.Journal
	turn    chan struct{}
	ended   chan struct{} // a result waits; has room for one

	working sync.WaitGroup

	mu    sync.Mutex
	going map[string]context.CancelCauseFunc
}

// errCancelled is the cause by which a run ends that is cancelled.
var errCancelled = errors.New("it was cancelled")

// openRuns opens the journal, and begins again what may be repeated.
func (a *Agent) openRuns(ctx context.Context) (*runs, error) {
	j, err := journal.Open(filepath.Join(a.Dir, "runs"))
	if err != nil {
		return nil, fmt.Errorf("opening the journal of runs: %w", err)
	}
	r := &runs{agent: a, journal: j, turn: make(chan struct{}, mostRuns), ended: make(chan struct{}, 1), going: map[string]context.CancelCauseFunc{}}
	again, err := j.Recover(time.Now())
	if err != nil {
		a.Log.Error("what was left under way cannot be written", "error", err)
	}
	for _, o := range again {
		r.start(ctx, o)
	}
	return r, nil
}

// serve takes an order: POST /runs. It answers once the journal holds it; the run goes on by itself.
func (r *runs) serve(w http.ResponseWriter, q *http.Request) {
	var o messages.RunOrder
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, messages.MaxRun)).Decode(&o); err != nil {
		http.Error(w, "the order cannot be read", http.StatusBadRequest)
		return
	}
	if _, err := uuid.Parse(o.ID); err != nil {
		http.Error(w, "an order has a UUID", http.StatusBadRequest)
		return
	}
	status, known := r.journal.Status(o.ID)
	if !known && o.Journal == r.journal.ID() {
		switch err := r.journal.Begin(o, time.Now()); {
		case errors.Is(err, journal.ErrKnown): // the same order came twice at once
		case err != nil:
			http.Error(w, "the journal takes nothing: "+err.Error(), http.StatusInsufficientStorage)
			return
		default:
			r.start(r.agent.life, o)
		}
		status, _ = r.journal.Status(o.ID)
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(status)
}

// cancel ends a run: POST /runs/cancel.
func (r *runs) cancel(_ context.Context, in messages.RunCancel) (messages.RunStatus, error) {
	r.mu.Lock()
	end := r.going[in.ID]
	r.mu.Unlock()
	if end != nil {
		end(errCancelled)
	}
	status, _ := r.journal.Status(in.ID)
	return status, nil
}

// start has a run go on by itself.
func (r *runs) start(ctx context.Context, o messages.RunOrder) {
	ctx, cancel := context.WithCancelCause(ctx)
	r.mu.Lock()
	r.going[o.ID] = cancel
	r.mu.Unlock()
	r.working.Go(func() {
		defer cancel(nil)
		select {
		case r.turn <- struct{}{}:
			defer func() { <-r.turn }()
		case <-ctx.Done():
		}
		result := r.run(ctx, o)
		r.mu.Lock()
		delete(r.going, o.ID)
		r.mu.Unlock()
		if r.agent.life.Err() != nil && !errors.Is(context.Cause(ctx), errCancelled) {
			return // the agent stops: the next one says that it was interrupted, or runs it again
		}
		if err := r.journal.End(result); err != nil {
			r.agent.Log.Error("how a run ended cannot be written", "run", o.ID, "error", err)
		}
		select {
		case r.ended <- struct{}{}:
		default:
		}
	})
}

// run runs a script and tells how it ended.
func (r *runs) run(ctx context.Context, o messages.RunOrder) (out messages.RunResult) {
	out.ID = o.ID
	defer func() { out.EndedAt = time.Now() }()
	if ctx.Err() != nil {
		out.State, out.Reason = string(job.Cancelled), "it was cancelled before it began"
		return out
	}
	argv, file, err := interpreter(o.Interpreter)
	var path string
	if err == nil {
		path, err = r.place(o, file)
	}
	if err != nil {
		out.State, out.Reason = string(job.Failed), err.Error()
		return out
	}
	defer os.Remove(path)
	limit := time.Duration(o.Seconds) * time.Second
	ctx, cancel := context.WithTimeoutCause(ctx, limit, context.DeadlineExceeded)
	defer cancel()
	kept := &ends{}
	env := make([]string, 0, len(o.Env)+len(o.Secrets))
	for _, all := range []map[string]string{o.Env, o.Secrets} {
		for name, value := range all {
			env = append(env, name+"="+value)
		}
	}
	exit, err := r.agent.Host.Runner.Run(ctx, messages.Command{Argv: append(argv, path), Env: env}, kept, kept)
	out.Head, out.Tail, out.Dropped = kept.kept(slices.Collect(maps.Values(o.Secrets)))
	switch {
	case errors.Is(err, errCancelled):
		out.State, out.Reason = string(job.Cancelled), "it was cancelled while it ran"
	case errors.Is(err, context.DeadlineExceeded):
		out.State, out.Reason = string(job.TimedOut), fmt.Sprintf("it was ended after its time limit of %s", limit)
	case err != nil:
		out.State, out.Reason = string(job.Failed), err.Error()
	default:
		out.State, out.Exit = string(job.Succeeded), &exit
		if exit != 0 {
			out.State = string(job.Failed)
		}
	}
	return out
}

// place writes a script where its interpreter finds it and nobody else reads it.
func (r *runs) place(o messages.RunOrder, suffix string) (string, error) {
	path := filepath.Join(r.agent.Dir, "runs", o.ID+suffix)
	if err := os.WriteFile(path, []byte(o.Body), 0o600); err != nil {
		return "", fmt.Errorf("the script cannot be written: %w", err)
	}
	return path, nil
}

// interpreter is what runs a kind of script here, and how its file is to end.
func interpreter(name string) (argv []string, suffix string, err error) {
	windows := runtime.GOOS == "windows"
	switch name {
	case "sh":
		return []string{"/bin/sh"}, ".sh", nil
	case "bash":
		return []string{"bash"}, ".sh", nil
	case "python":
		if windows {
			return []string{"py", "-3"}, ".py", nil
		}
		return []string{"python3"}, ".py", nil
	case "powershell":
		if windows {
			return []string{"powershell.exe", "-NoProfile", "-NonInteractive", "-ExecutionPolicy", "Bypass", "-File"}, ".ps1", nil
		}
		return []string{"pwsh", "-NoProfile", "-NonInteractive", "-File"}, ".ps1", nil
	case "batch":
		return []string{"cmd.exe", "/d", "/c"}, ".cmd", nil
	case "applescript":
		return []string{"osascript"}, ".applescript", nil
	}
	return nil, "", fmt.Errorf("this agent knows no interpreter %q: a newer one may", name)
}

// ends keeps the beginning and the end of an output.
type ends struct {
	mu      sync.Mutex
	head    []byte
	tail    []byte // the last of what came after, up to twice as much as is kept
	dropped int64
}

func (e *ends) Write(p []byte) (int, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	n := len(p)
	k := min(n, messages.RunHead-len(e.head))
	e.head = append(e.head, p[:k]...)
	e.tail = append(e.tail, p[k:]...)
	if more := len(e.tail) - messages.RunTail; more > messages.RunTail {
		e.dropped += int64(more)
		e.tail = append(e.tail[:0], e.tail[more:]...)
	}
	return n, nil
}

// kept returns what is kept, with secrets made unreadable in it.
func (e *ends) kept(secrets []string) (head, tail []byte, dropped int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if more := len(e.tail) - messages.RunTail; more > 0 {
		e.dropped += int64(more)
		e.tail = e.tail[more:]
	}
	if e.dropped == 0 { // they are one
		e.head, e.tail = append(e.head, e.tail...), nil
	}
	return hide(e.head, secrets), hide(e.tail, secrets), e.dropped
}

// leastSecret is how long a secret must be to be looked for: shorter ones stand in any text.
const leastSecret = 3

func hide(b []byte, secrets []string) []byte {
	for _, s := range secrets {
		if len(s) >= leastSecret {
			b = bytes.ReplaceAll(b, []byte(s), []byte(strings.Repeat("*", 6)))
		}
	}
	return b
}

// results has how often results are tried again, and how many go at once.
const resultsAtOnce = 20

// tell tells the service of this device's journal and of results, until ctx ends.
func (r *runs) tell(ctx context.Context, service caller) {
	for service.post(ctx, "/journal", messages.Journal{ID: r.journal.ID()}, nil) != nil {
		if !sleep(ctx, time.Second) {
			return
		}
	}
	for {
		for _, result := range r.journal.Waiting(resultsAtOnce) {
			if err := service.post(ctx, "/results", result, nil); err != nil {
				if ctx.Err() == nil {
					r.agent.Log.Warn("a result is kept and told later", "run", result.ID, "error", err)
				}
				if !sleep(ctx, time.Second) {
					return
				}
				break
			}
			if err := r.journal.Told(result.ID); err != nil {
				r.agent.Log.Warn("that a result was told cannot be written", "run", result.ID, "error", err)
			}
		}
		if len(r.journal.Waiting(1)) > 0 {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-r.ended:
		}
	}
}
