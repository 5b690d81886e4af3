// Package running carries out the runs of jobs at a device: each is in the journal before it begins, and how it ended
// is kept until the service has it.
package running

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/journal"
	"moorwatch.example/agent/steps"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
	"moorwatch.example/uplink"
)

// mostRuns is how many runs go on at a device at once; others wait for their turn, in the order in
// which they came.
const mostRuns = 2

// Config is what runs need of the agent.
type Config struct {
	Dir     string
	Host    host.Host
	Log     *slog.Logger
	Seed    []byte         // of the device's key, under which secrets are kept
	Service *calls.Current // from which files are fetched
	// Settings are what the service asks of this agent now.
	Settings func() health.Agent
	// Patched and Installed are told that a run ended that may have changed which updates the device misses, or what
	// is installed.
	Patched, Installed func()
}

// Runs are the runs of one device.
type Runs struct {
	config   Config
	life     context.Context // in which runs go on
	journal  *journal.Journal
	contents *steps.Contents
	turn     chan struct{}
	ended    chan struct{} // a result waits; has room for one

	working sync.WaitGroup // runs, and orders that are taken

	mu     sync.Mutex
	going  map[string]context.CancelCauseFunc
	closed bool
}

// errCancelled is the cause by which a run ends that is cancelled.
var errCancelled = errors.New("it was cancelled")

// Open opens the journal, and begins again what may be repeated. Runs go on until ctx ends.
func Open(ctx context.Context, config Config) (*Runs, error) {
	j, err := journal.Open(filepath.Join(config.Dir, "runs"), config.Seed)
	if err != nil {
		return nil, fmt.Errorf("opening the journal of runs: %w", err)
	}
	r := &Runs{config: config, life: ctx, journal: j, turn: make(chan struct{}, mostRuns), ended: make(chan struct{}, 1),
		going: map[string]context.CancelCauseFunc{}}
	r.contents = &steps.Contents{Dir: filepath.Join(config.Dir, "contents"), Fetch: r.fetch}
	r.contents.Tidy(time.Now())
	again, err := j.Recover(time.Now(), func(l *journal.Left) error { return l.Progress.Recover(ctx, config.Host, l.Order) })
	if err != nil {
		config.Log.Error("what was left under way cannot be written", "error", err)
	}
	for _, left := range again {
		r.start(ctx, left)
	}
	return r, nil
}

// Serve takes an order: POST /runs. It answers once the journal holds it; the run goes on by itself.
func (r *Runs) Serve(w http.ResponseWriter, q *http.Request) {
	var o link.RunOrder
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, link.MaxRun)).Decode(&o); err != nil {
		http.Error(w, "the order cannot be read", http.StatusBadRequest)
		return
	}
	if _, err := uuid.Parse(o.ID); err != nil {
		http.Error(w, "an order has a UUID", http.StatusBadRequest)
		return
	}
	if err := sound(o); err != nil {
		http.Error(w, "this agent does not carry out such an order: "+err.Error(), http.StatusBadRequest)
		return
	}
	if o.Shut = (time.Time{}); o.Window > 0 {
		o.Shut = time.Now().Add(time.Duration(o.Window) * time.Second)
	}
	if !r.enter() {
		http.Error(w, "the agent is ending", http.StatusServiceUnavailable)
		return
	}
	defer r.working.Done()
	status, known := r.journal.Status(o.ID)
	if !known && o.Journal == r.journal.ID() {
		switch err := r.journal.Begin(o, time.Now()); {
		case errors.Is(err, journal.ErrKnown): // the same order came twice at once
		case err != nil:
			http.Error(w, "the journal takes nothing: "+err.Error(), http.StatusInsufficientStorage)
			return
		default:
			left := journal.Left{Order: o}
			if steps.Single(o) { // the journal's note that it began is the step's too
				left.Progress.Steps.Begin()
			}
			r.start(r.life, left)
		}
		status, _ = r.journal.Status(o.ID)
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(status)
}

// sound refuses an order that the service must not have let pass.
func sound(o link.RunOrder) error {
	if o.Seconds < 1 || len(o.Parts) == 0 || o.Window < 0 {
		return errors.New("it has no parts, or no time")
	}
	for _, p := range o.Parts {
		names := make([]string, len(p.Files))
		for i, f := range p.Files {
			if names[i] = f.Name; !pack.Digest(f.SHA256) || f.Size < 0 || f.Size > pack.MaxFile {
				return fmt.Errorf("the file %s has no digest or size", f.Name)
			}
		}
		if err := work.Validate(p.Steps, names); err != nil {
			return err
		}
	}
	return nil
}

// Cancel ends a run: POST /runs/cancel.
func (r *Runs) Cancel(_ context.Context, in link.RunCancel) (link.RunStatus, error) {
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
func (r *Runs) start(ctx context.Context, left journal.Left) {
	o := left.Order
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
		result := r.run(ctx, left)
		r.mu.Lock()
		delete(r.going, o.ID)
		r.mu.Unlock()
		if r.life.Err() != nil && !errors.Is(context.Cause(ctx), errCancelled) {
			return // the agent stops: the next one says that it was interrupted, or runs it again
		}
		if err := r.journal.End(result); err != nil {
			r.config.Log.Error("how a run ended cannot be written", "run", o.ID, "error", err)
		}
		patched := slices.ContainsFunc(o.Parts, func(p link.RunPart) bool {
			return slices.ContainsFunc(p.Steps, func(s work.Step) bool {
				return s.Do == work.Update || s.Do == work.Back ||
					s.Do == work.CheckUpdates
			})
		})
		if patched {
			r.config.Patched()
		}
		if patched || slices.ContainsFunc(o.Parts, func(p link.RunPart) bool { return p.There != nil }) {
			r.config.Installed()
		}
		select {
		case r.ended <- struct{}{}:
		default:
		}
	})
}

// run carries out an order from where its progress stands, and tells how it ended.
func (r *Runs) run(ctx context.Context, left journal.Left) (out link.RunResult) {
	o, p := left.Order, left.Progress
	out.ID = o.ID
	began := time.Now()
	defer func() { out.EndedAt = began.Add(time.Since(began)) }() // by how long it took, though the clock be set meanwhile
	if ctx.Err() != nil {
		out.State, out.Reason = link.RunCancelled, "it was cancelled before it began"
		return out
	}
	limit := time.Duration(o.Seconds) * time.Second
	ctx, cancel := context.WithTimeoutCause(ctx, limit, context.DeadlineExceeded)
	defer cancel()
	kept := &ends{head: p.Output}
	secrets := slices.Collect(maps.Values(o.Secrets))
	doer := &steps.Doer{Host: r.config.Host.Without(r.config.Settings().Withhold), Scratch: filepath.Join(r.config.Dir, "runs"),
		Content: r.contents.File}
	exit, err := doer.Do(ctx, o, &p, func() error {
		p.Output = kept.sofar(secrets)
		return r.journal.Note(o.ID, p)
	}, kept)
	out.Head, out.Tail, out.Dropped = kept.kept(secrets)
	out.Exit = exit
	out.Restarted = p.Restarted
	switch {
	case err == nil:
		out.State = link.RunSucceeded
		steps.Tidy(&p)
		for _, part := range o.Parts {
			for _, f := range part.Files {
				r.contents.Forget(f)
			}
		}
	case errors.Is(err, steps.ErrShut):
		out.State, out.Reason = link.RunMissed, reason(err, secrets)
	case errors.Is(err, errCancelled):
		out.State, out.Reason = link.RunCancelled, "it was cancelled while it ran"
	case errors.Is(err, context.DeadlineExceeded):
		out.State, out.Reason = link.RunTimedOut, fmt.Sprintf("it was ended after its time limit of %s", limit)
	case steps.Single(o) && steps.Late(err):
		out.State, out.Reason = link.RunTimedOut, reason(err, secrets)
	default:
		out.State = link.RunFailed
		if !steps.OnlyExit(err) {
			out.Reason = reason(err, secrets)
		}
	}
	return out
}

// reason is why a run failed, as it is told.
func reason(err error, secrets []string) string {
	return string(hide([]byte(strings.TrimPrefix(err.Error(), steps.ErrFailed.Error()+": ")), secrets))
}

// fetch reads a file of a package from the service, waiting for it where it is away.
func (r *Runs) fetch(ctx context.Context, digest string, offset int64, w steps.Taker) error {
	service, ctx, cancel, err := r.config.Service.During(ctx)
	if err != nil {
		return err
	}
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://service"+link.Contents+digest+"?offset="+
		strconv.FormatInt(offset, 10), nil)
	if err != nil {
		return err
	}
	stream, answer, err := uplink.AskBulk(service.Transport(), q)
	if err != nil {
		return err
	}
	if stream == nil {
		defer answer.Body.Close()
		err := calls.RefusalOf(answer)
		if answer.StatusCode >= 400 && answer.StatusCode < 500 {
			return fmt.Errorf("%w: %w", steps.ErrRefused, err)
		}
		return err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	if err := w.Expect(answer.Header.Get(link.QuickDigest)); err != nil {
		return err
	}
	_, err = uplink.ReceiveBulk(stream, w, func([]byte) error { return nil }) // the whole file's digest is looked at in the end
	return err
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
	k := min(n, link.RunHead-len(e.head))
	e.head = append(e.head, p[:k]...)
	e.tail = append(e.tail, p[k:]...)
	if more := len(e.tail) - link.RunTail; more > link.RunTail {
		e.dropped += int64(more)
		e.tail = append(e.tail[:0], e.tail[more:]...)
	}
	return n, nil
}

// sofar returns the beginning of what is kept, with secrets made unreadable in it.
func (e *ends) sofar(secrets []string) []byte {
	e.mu.Lock()
	defer e.mu.Unlock()
	return hide(slices.Clone(e.head), secrets)
}

// kept returns what is kept, with secrets made unreadable in it.
func (e *ends) kept(secrets []string) (head, tail []byte, dropped int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if more := len(e.tail) - link.RunTail; more > 0 {
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

// Tell tells the service of this device's journal and of results, until ctx ends.
func (r *Runs) Tell(ctx context.Context, service calls.Service) {
	for service.Post(ctx, "/journal", link.Journal{ID: r.journal.ID()}, nil) != nil {
		if !calls.Sleep(ctx, time.Second) {
			return
		}
	}
	for {
		for _, result := range r.journal.Waiting(resultsAtOnce) {
			if err := service.Post(ctx, "/results", result, nil); err != nil {
				if ctx.Err() == nil {
					r.config.Log.Warn("a result is kept and told later", "run", result.ID, "error", err)
				}
				if !calls.Sleep(ctx, time.Second) {
					return
				}
				break
			}
			if err := r.journal.Told(result.ID); err != nil {
				r.config.Log.Warn("that a result was told cannot be written", "run", result.ID, "error", err)
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

// enter counts one who works on the journal, unless it is closed.
func (r *Runs) enter() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.closed {
		r.working.Add(1)
	}
	return !r.closed
}

// Close takes no more orders, and waits until all runs have ended, which they do when their context ends: then the
// journal is nobody's any more.
func (r *Runs) Close() {
	r.mu.Lock()
	r.closed = true
	r.mu.Unlock()
	r.working.Wait()
}
