package access

import (
	"context"
	"crypto/ed25519"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/core/access"
	"moorwatch.example/service/front"
)

// Log is the audit log's writer. Actions that arrive together are written in one transaction, so
// that a thousand at once cost little more than one. It implements front.Recorder.
type Log struct {
	store store
	key   ed25519.PrivateKey
	queue chan record

	mu     sync.Mutex
	closed bool
	notes  sync.WaitGroup
	stop   chan struct{} // closed once nothing more is to be put on record
	over   chan struct{} // closed once all that was is on disk
}

type record struct {
	ctx   context.Context
	entry access.Entry
	done  chan error
}

const (
	logQueue = 4096
	logBatch = 1000
	// recordWithin is how long an action that must be on record before it is done waits for the database.
	recordWithin = 10 * time.Second
)

// NewLog makes the audit log, whose entries the key signs. Close ends it.
func NewLog(pool *pgxpool.Pool, key ed25519.PrivateKey) *Log {
	l := &Log{store: store{pool: pool}, key: key, queue: make(chan record, logQueue), stop: make(chan struct{}), over: make(chan struct{})}
	go l.run()
	return l
}

// errStopping is returned for what would be put on record while the service stops: it is not to be done.
var errStopping = errors.New("the service stops: its audit log takes no more")

// Note implements front.Recorder. Where the database is away it is kept in memory until it is back.
func (l *Log) Note(d front.Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		slog.Warn("the end of an action is not on record, as the service stops", "action", d.Action, "actor", d.Actor, "result", d.Result)
		return
	}
	l.notes.Go(func() { l.record(context.Background(), d) })
}

// Close ends the log: what was noted until then is on disk when it returns, where the database takes it within 10 s.
func (l *Log) Close() {
	l.mu.Lock()
	was := l.closed
	l.closed = true
	l.mu.Unlock()
	if !was {
		close(l.stop)
	}
	<-l.over
}

// Record returns once the action is on disk, or fails within 10 s; then it is not written later.
// With a context from which cancellation was removed it waits, through an absent database too.
func (l *Log) Record(ctx context.Context, d front.Entry) error {
	if ctx.Done() != nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, recordWithin)
		defer cancel()
	}
	l.mu.Lock()
	closed := l.closed
	if !closed {
		l.notes.Add(1)
	}
	l.mu.Unlock()
	if closed {
		return errStopping
	}
	defer l.notes.Done()
	return l.record(ctx, d)
}

func (l *Log) record(ctx context.Context, d front.Entry) error {
	e := access.Entry{At: time.Now().UTC().Truncate(time.Microsecond), Actor: d.Actor, Via: d.Via, Action: d.Action,
		DeviceName: d.DeviceName, Detail: cut(access.Mask(d.Detail), 4000), Address: d.Address, Result: cut(d.Result, 1000),
		ActorID: d.ActorID, ViaID: d.ViaID}
	if d.Device != uuid.Nil {
		e.Device = d.Device.String()
	}
	r := record{ctx, e, make(chan error, 1)}
	select {
	case l.queue <- r:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	select {
	case err := <-r.done:
		return err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return s[:most] + "…"
}

// run writes until Close is called, and then what is still in the queue.
func (l *Log) run() {
	defer close(l.over)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	waited := make(chan struct{})
	go func() {
		<-l.stop
		cancel() // each batch is tried once more
		l.notes.Wait()
		close(waited)
	}()
	for {
		select {
		case r := <-l.queue:
			l.write(ctx, l.gather(r))
		case <-waited: // and so nothing is in the queue
			return
		}
	}
}

func (l *Log) gather(first record) []record {
	batch := []record{first}
	for len(batch) < logBatch && len(l.queue) > 0 {
		batch = append(batch, <-l.queue)
	}
	return batch
}

// write puts a batch on disk, trying again while the database is away for as long as someone
// waits for it.
func (l *Log) write(ctx context.Context, batch []record) {
	for {
		var entries []access.Entry
		var waiting []record
		for _, r := range batch {
			if r.ctx.Err() == nil { // else nobody did what this says
				entries, waiting = append(entries, r.entry), append(waiting, r)
			}
		}
		if len(entries) == 0 {
			return
		}
		attempt, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordWithin)
		err := l.store.append(attempt, entries, l.key)
		cancel()
		if err == nil || ctx.Err() != nil {
			for _, r := range waiting {
				r.done <- err
			}
			return
		}
		slog.Warn("the audit log cannot be written; trying again", "entries", len(entries), "error", err)
		batch = waiting
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}
