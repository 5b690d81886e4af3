package uplink

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"runtime/debug"
	"sync"
)

// A note is a small POST and its answer without a stream: for what a device says every half minute of
// its life, a stream's and HTTP's words are most of the bytes. Where both ends know notes, which the
// greeting tells, the first byte of each WebSocket message says whether it is of the streams or a
// note. A note holds a number, the number of the note before that it is packed against or 0, and a
// packed path and body with a line's end between them; its answer the same number, HTTP's status as two
// bytes, and the packed body, packed against the answer before if the note was. Status 0 asks for
// a stream instead.

// MaxNote is the most that a note or its answer may hold, in bytes, before it is packed.
const MaxNote = 8 << 10

const (
	ofStreams = 0 // the kinds of message
	ofNotes   = 1
)

// ErrNoNote says that what was to be told by a note must go over a stream: it is too long, or the other
// end does not take it so.
var ErrNoNote = errors.New("link: this goes over a stream")

// telling is the device's end.
type telling struct {
	turn        chan struct{} // one note at a time
	number      byte
	said, heard []byte // the last note that was answered, and its answer

	mu     sync.Mutex
	answer chan []byte // awaits the answer to number
}

// Tell posts body to path at the other end, and returns the answer. The error is ErrNoNote when a
// stream is needed, and that of ctx when no answer came; whether the note arrived is not known then.
func (l *Link) Tell(ctx context.Context, path string, body []byte) (status int, answer []byte, err error) {
	t := l.telling
	if t == nil || len(path)+len(body) >= MaxNote {
		return 0, nil, ErrNoNote
	}
	select {
	case t.turn <- struct{}{}:
	case <-ctx.Done():
		return 0, nil, context.Cause(ctx)
	}
	defer func() { <-t.turn }()
	said := append(append(make([]byte, 0, len(path)+1+len(body)), path...), '\n')
	said = append(said, body...)
	base, baseSaid, baseHeard := t.number, t.said, t.heard
	if baseSaid == nil {
		base = 0
	}
	came := make(chan []byte, 1)
	t.mu.Lock()
	if t.number++; t.number == 0 {
		t.number = 1
	}
	t.answer = came
	t.mu.Unlock()
	t.said, t.heard = nil, nil // until it is known that the other end has them too
	if err := l.conn.note(append([]byte{t.number, base}, pack(baseSaid, said)...)); err != nil {
		return 0, nil, err
	}
	var b []byte
	select {
	case b = <-came:
	case <-ctx.Done():
		return 0, nil, context.Cause(ctx)
	case <-l.Done():
		return 0, nil, errors.New("link: it ended before the note was answered")
	}
	if status = int(binary.BigEndian.Uint16(b[1:])); status == 0 {
		return 0, nil, ErrNoNote
	}
	heard, err := unpack(baseHeard, b[3:])
	if err != nil {
		return 0, nil, err
	}
	t.said, t.heard = said, heard
	return status, heard, nil
}

// took hands an answer to whom it is for. One that nobody awaits any more is passed over.
func (t *telling) took(b []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(b) >= 3 && t.answer != nil && b[0] == t.number {
		t.answer <- b
		t.answer = nil
	}
}

// TakeNotes has the notes of the other end answered by handler, as requests in ctx, one at a time. A note
// that comes before is answered with the wish for a stream.
func (l *Link) TakeNotes(ctx context.Context, handler http.Handler) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.taking = func(path string, body []byte) *noted {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, path, bytes.NewReader(body))
		if err != nil {
			return &noted{status: http.StatusBadRequest}
		}
		return answered(handler, r)
	}
}

// answered has a handler answer a request. What panics is answered with 500, as an HTTP server would
// end one connection and not the whole program.
func answered(handler http.Handler, r *http.Request) (w *noted) {
	w = &noted{header: http.Header{}}
	defer func() {
		if p := recover(); p != nil {
			if p != http.ErrAbortHandler {
				slog.Error("a note could not be answered", "path", r.URL.Path, "panic", p, "stack", string(debug.Stack()))
			}
			w = &noted{status: http.StatusInternalServerError}
		}
	}()
	handler.ServeHTTP(w, r)
	return w
}

// noted is the answer to a note while it is made. What is longer than MaxNote is cut off by an error.
type noted struct {
	header http.Header
	status int
	body   []byte
}

func (n *noted) Header() http.Header { return n.header }

func (n *noted) WriteHeader(status int) {
	if n.status == 0 {
		n.status = status
	}
}

func (n *noted) Write(p []byte) (int, error) {
	n.WriteHeader(http.StatusOK)
	if len(n.body)+len(p) > MaxNote {
		return 0, errors.New("link: the answer to a note is too long")
	}
	n.body = append(n.body, p...)
	return len(p), nil
}

// taken is the service's end: the last note and its answer. It is made with the first note, for most
// links of a moment have none yet.
type taken struct {
	number      byte
	said, heard []byte
	busy        bool
}

// answer is told a note by the goroutine that reads the link, and must not wait for anything but the
// link's own writing.
func (l *Link) answer(b []byte) {
	if len(b) < 2 {
		return
	}
	number, base := b[0], b[1]
	l.mu.Lock()
	if l.taken == nil {
		l.taken = &taken{}
	}
	t, handler := l.taken, l.taking
	if handler == nil || t.busy || (base != 0 && base != t.number) {
		l.mu.Unlock()
		l.conn.note([]byte{number, 0, 0})
		return
	}
	if base == 0 {
		t.said, t.heard = nil, nil
	}
	t.busy = true
	l.mu.Unlock()
	go func() {
		said, err := unpack(t.said, b[2:])
		path, body, ok := bytes.Cut(said, []byte("\n"))
		w := &noted{status: http.StatusBadRequest}
		if err == nil && ok {
			w = handler(string(path), body)
		}
		w.WriteHeader(http.StatusOK)
		reply := append([]byte{number, byte(w.status >> 8), byte(w.status)}, pack(t.heard, w.body)...)
		l.mu.Lock()
		*t = taken{number: number, said: said, heard: bytes.Clone(w.body)}
		l.mu.Unlock()
		l.conn.note(reply) // where it cannot be written, the link is at its end
	}()
}

// packers are dear to make (600 KiB each), and kept.
var packers = sync.Pool{New: func() any {
	w, err := flate.NewWriter(io.Discard, flate.BestCompression)
	if err != nil {
		panic(err)
	}
	return w
}}

// deflate's end of a part (RFC 1951, 3.2.4), which every packed text would end with, and its last
// block.
const (
	partEnd = "\x00\x00\xff\xff"
	lastEnd = "\x01\x00\x00\xff\xff"
)

// pack deflates b as what follows base.
func pack(base, b []byte) []byte {
	w := packers.Get().(*flate.Writer)
	defer packers.Put(w)
	var out bytes.Buffer
	w.Reset(&out) // it writes to memory, and does not fail
	if len(base) > 0 {
		w.Write(base)
		w.Flush()
		out.Reset()
	}
	w.Write(b)
	w.Flush()
	return bytes.TrimSuffix(out.Bytes(), []byte(partEnd))
}

var unpackers = sync.Pool{New: func() any { return flate.NewReader(bytes.NewReader(nil)) }}

// unpack is the inverse of pack. It fails for what pack did not make, and for more than MaxNote bytes.
func unpack(base, p []byte) ([]byte, error) {
	r := unpackers.Get().(io.ReadCloser)
	defer unpackers.Put(r)
	ends := bytes.NewReader([]byte(partEnd + lastEnd))
	if err := r.(flate.Resetter).Reset(io.MultiReader(bytes.NewReader(p), ends), base); err != nil {
		return nil, err
	}
	b, err := io.ReadAll(io.LimitReader(r, MaxNote+1))
	if err == nil && len(b) > MaxNote {
		err = errors.New("link: a note is too long")
	}
	return bytes.Clone(b), err // without the room that reading made
}
