package hub

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/google/uuid"
)

// What devices may have of the service at once. A device is not trusted to be the agent that it was enrolled with: it
// may open as many streams as it likes, and leave each unfinished.
const (
	// mostCalls is how many calls of one device are served at once, and mostBodies of how many a body is read; others
	// wait, and are told to come again after callWaits.
	mostCalls, mostBodies = 16, 2
	callWaits             = 30 * time.Second
	// largeBody is a body, in bytes, of which mostLarge are read at once of all devices together. Each must come within
	// largeWithin; a device whose does not is cut off.
	largeBody   = 1 << 20
	mostLarge   = 4
	largeWithin = 30 * time.Second
)

// budgets keep devices within what they may have.
type budgets struct {
	large chan struct{}
	cut   func(device uuid.UUID)

	mu sync.Mutex
	of map[uuid.UUID]*budget
}

// budget is one device's.
type budget struct {
	calls, bodies chan struct{}
	users         int // calls that hold or wait for a part of it
}

func newBudgets(cut func(uuid.UUID)) *budgets {
	return &budgets{large: make(chan struct{}, mostLarge), cut: cut, of: map[uuid.UUID]*budget{}}
}

func (b *budgets) enter(device uuid.UUID) *budget {
	b.mu.Lock()
	defer b.mu.Unlock()
	own := b.of[device]
	if own == nil {
		own = &budget{calls: make(chan struct{}, mostCalls), bodies: make(chan struct{}, mostBodies)}
		b.of[device] = own
	}
	own.users++
	return own
}

func (b *budgets) leave(device uuid.UUID, own *budget) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if own.users--; own.users == 0 {
		delete(b.of, device)
	}
}

// serve has a handler serve devices' calls within their budgets.
func (b *budgets) serve(handler http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		device := Device(r)
		own := b.enter(device)
		defer b.leave(device, own)
		waits, cancel := context.WithTimeout(r.Context(), callWaits)
		defer cancel()
		if !take(waits, own.calls) {
			busy(w)
			return
		}
		defer func() { <-own.calls }()
		if r.ContentLength != 0 {
			if !take(waits, own.bodies) {
				busy(w)
				return
			}
			defer func() { <-own.bodies }()
			body := &metered{ReadCloser: r.Body, budgets: b, device: device, ctx: r.Context(), control: http.NewResponseController(w)}
			defer body.done()
			r.Body = body
		}
		handler.ServeHTTP(w, r)
	})
}

func take(ctx context.Context, slots chan struct{}) bool {
	select {
	case slots <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

func busy(w http.ResponseWriter) {
	http.Error(w, "too much is asked at once; keep it and send it later", http.StatusServiceUnavailable)
}

// errBudget ends the reading of a body for which there was no room.
var errBudget = errors.New("too many large bodies are being read; keep it and send it later")

// metered is the body of a device's call. What is large waits until few others are read.
type metered struct {
	io.ReadCloser
	budgets *budgets
	device  uuid.UUID
	ctx     context.Context
	control *http.ResponseController
	read    int64
	large   bool
}

func (m *metered) Read(p []byte) (int, error) {
	if !m.large && m.read >= largeBody {
		waits, cancel := context.WithTimeout(m.ctx, callWaits)
		defer cancel()
		if !take(waits, m.budgets.large) {
			return 0, errBudget
		}
		m.large = true
		m.control.SetReadDeadline(time.Now().Add(largeWithin))
	}
	n, err := m.ReadCloser.Read(p)
	m.read += int64(n)
	if m.large && errors.Is(err, os.ErrDeadlineExceeded) {
		slog.Warn("a device is cut off: it did not finish what it sent", "device", m.device, "bytes", m.read)
		go m.budgets.cut(m.device)
	}
	return n, err
}

func (m *metered) done() {
	if m.large {
		<-m.budgets.large
		m.large = false
	}
}
