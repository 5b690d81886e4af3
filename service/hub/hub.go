// Package hub keeps the live links of devices: it accepts them, one for each identity, tells the
// columns when a device comes and goes, serves what devices call, and calls devices over HTTP.
package hub

import (
	"context"
	"crypto/ed25519"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/doors"
	"moorwatch.example/uplink"
)

// Registry is what the hub must be told of devices, and tells of them.
type Registry interface {
	// Key finds the key that a device enrolled with. A device that is unknown or retired is
	// answered with a *contract/uplink.Refusal.
	Key(ctx context.Context, device uuid.UUID) (ed25519.PublicKey, error)
	// Admit has the last word before a device is connected. One that is not to be, or is another computer
	// than its identity was made on, is answered with a *contract/uplink.Refusal. A mark that is not empty is
	// to be shown at the device's next connection.
	Admit(ctx context.Context, device uuid.UUID, address string, proof link.Proof) (mark string, err error)
	// Up and Down are told in order for one device; what takes long should go on in the
	// background. A device whose link is lost and back at once is told down and up.
	Up(ctx context.Context, device uuid.UUID, address string)
	Down(ctx context.Context, device uuid.UUID)
	// Conflict is told when a second computer shows the identity of one that is connected.
	Conflict(ctx context.Context, device uuid.UUID, address string)
	// Exceeded is told when a device had more than it may of what, such as calls. It does not wait.
	Exceeded(device uuid.UUID, what string)
}

// ErrOffline is returned by calls to a device that is not connected.
var ErrOffline = errors.New("the device is not connected")

// probeWithin is how long a connected device has to answer when its identity shows up twice.
const probeWithin = 3 * time.Second

// Hub is used by many goroutines at once.
type Hub struct {
	audience string
	registry Registry
	calls    *http.Transport
	server   *http.Server // of what devices call
	budgets  *budgets

	mu     sync.Mutex
	links  map[uuid.UUID]*entry
	lanes  map[laneKey]*lane
	closed bool
	served sync.WaitGroup
	gates  sync.Map // by device
}

// Gate paces all bulk that is sent to a device. A device that was sent something keeps its gate, and what
// it learnt of its link.
func (h *Hub) Gate(device uuid.UUID) *uplink.Gate {
	gate, _ := h.gates.LoadOrStore(device, new(uplink.Gate))
	return gate.(*uplink.Gate)
}

type entry struct {
	link *uplink.Link // nil while its greeting ends
}

type deviceKey struct{}

// New makes a hub. audience names this service in the proofs of devices; handler serves what
// devices call, and finds out with Device who calls.
func New(audience string, registry Registry, handler http.Handler, events *bus.Bus) *Hub {
	h := &Hub{audience: audience, registry: registry, links: map[uuid.UUID]*entry{}, lanes: map[laneKey]*lane{}}
	h.calls = uplink.Transport(func(ctx context.Context, host string) (net.Conn, error) {
		name, id, beside := strings.Cut(host, ".")
		if !beside {
			name, id = "", host
		}
		device, err := uuid.Parse(id)
		if err != nil {
			return nil, err
		}
		if beside {
			return h.openLane(ctx, laneKey{device, name})
		}
		h.mu.Lock()
		e := h.links[device]
		h.mu.Unlock()
		if e == nil || e.link == nil {
			return nil, ErrOffline
		}
		return e.link.Open(ctx)
	})
	events.IdentityRevoked.Subscribe(func(_ context.Context, device uuid.UUID) { h.Disconnect(device) })
	h.budgets = newBudgets(usual, h.Disconnect, registry.Exceeded)
	h.server = &http.Server{
		Handler:           h.budgets.serve(handler),
		ReadHeaderTimeout: 30 * time.Second,
		ReadTimeout:       2 * time.Minute,
		IdleTimeout:       10 * time.Second,
		MaxHeaderBytes:    8 << 10,
		ErrorLog:          slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
	}
	h.server.ConnContext = func(ctx context.Context, c net.Conn) context.Context {
		if d, ok := c.(deviceConn); ok {
			return context.WithValue(ctx, deviceKey{}, d.device)
		}
		return ctx
	}
	return h
}

// Device is who made a call that the hub serves.
func Device(r *http.Request) uuid.UUID {
	device, _ := r.Context().Value(deviceKey{}).(uuid.UUID)
	return device
}

// deviceListener gives a device's streams to the HTTP server, marked with whose they are.
type deviceListener struct {
	net.Listener
	device uuid.UUID
}

type deviceConn struct {
	net.Conn
	device uuid.UUID
}

func (l deviceListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return deviceConn{c, l.device}, nil
}

// ServeHTTP accepts a device's link and holds it until it ends.
func (h *Hub) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if name := r.URL.Query().Get("lane"); name != "" {
		h.serveLane(w, r, name)
		return
	}
	var id uuid.UUID
	var mine *entry
	// The connection outlives the request's context, which ends when it is taken over.
	ctx := context.WithoutCancel(r.Context())
	l, err := uplink.Accept(w, r, h.audience, func(device string) (ed25519.PublicKey, error) {
		var err error
		if id, err = uuid.Parse(device); err != nil {
			return nil, err
		}
		return h.registry.Key(ctx, id)
	}, func(_, address string, proof link.Proof) (mark string, err error) {
		if err = h.budgets.admit(id); err == nil {
			mark, err = h.registry.Admit(ctx, id, address, proof)
		}
		if err == nil {
			mine, err = h.claim(ctx, id, address)
		}
		return mark, err
	})
	if err != nil {
		if mine != nil {
			h.release(id, mine)
		}
		slog.Info("link refused", "device", id, "from", r.RemoteAddr, "error", err)
		return
	}
	doors.Proven(ctx)
	h.hold(ctx, id, mine, l)
}

// hold serves a link until it ends. It is apart from ServeHTTP so that the request, with its
// buffers, can be forgotten while a device is connected.
func (h *Hub) hold(ctx context.Context, id uuid.UUID, mine *entry, l *uplink.Link) {
	h.mu.Lock()
	mine.link = l
	closed := h.closed
	if !closed {
		h.served.Add(1)
	}
	h.mu.Unlock()
	if closed {
		l.Close()
		return
	}
	l.TakeNotes(context.WithValue(ctx, deviceKey{}, id), h.server.Handler)
	go func() {
		defer h.served.Done()
		h.registry.Up(ctx, id, l.Address)
		h.server.Serve(deviceListener{l.Listener(), id}) // returns when the link ends
		l.Close()
		h.registry.Down(ctx, id)
		h.release(id, mine)
	}()
}

// claim makes this link the one of its device, or refuses it while another is alive.
func (h *Hub) claim(ctx context.Context, device uuid.UUID, address string) (*entry, error) {
	for {
		h.mu.Lock()
		if h.closed {
			h.mu.Unlock()
			return nil, &link.Refusal{Status: http.StatusServiceUnavailable, Reason: "the service is stopping"}
		}
		old := h.links[device]
		if old == nil {
			mine := &entry{}
			h.links[device] = mine
			h.mu.Unlock()
			return mine, nil
		}
		l := old.link
		h.mu.Unlock()
		if l == nil {
			return nil, &link.Refusal{Status: http.StatusServiceUnavailable, Reason: "another connection of this device is being made"}
		}
		probe, cancel := context.WithTimeout(ctx, probeWithin)
		_, err := l.Ping(probe)
		cancel()
		if err == nil {
			h.registry.Conflict(ctx, device, address)
			return nil, &link.Refusal{Status: http.StatusConflict,
				Reason: "another computer is connected with this device's identity: if this one is a copy, enrol it anew"}
		}
		l.Close() // half open: its network went away without a word
		if err := h.awaitRelease(ctx, device, old); err != nil {
			return nil, err
		}
	}
}

func (h *Hub) awaitRelease(ctx context.Context, device uuid.UUID, old *entry) error {
	ctx, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		h.mu.Lock()
		gone := h.links[device] != old
		h.mu.Unlock()
		if gone {
			return nil
		}
		select {
		case <-ctx.Done():
			return &link.Refusal{Status: http.StatusServiceUnavailable, Reason: "the connection before this one is still being closed"}
		case <-tick.C:
		}
	}
}

func (h *Hub) release(device uuid.UUID, mine *entry) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.links[device] == mine {
		delete(h.links, device)
	}
}

// Online tells whether a device is connected to this hub.
func (h *Hub) Online(device uuid.UUID) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	e := h.links[device]
	return e != nil && e.link != nil
}

// Count is how many devices are connected.
func (h *Hub) Count() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.links)
}

// Disconnect ends a device's link, where it has one.
func (h *Hub) Disconnect(device uuid.UUID) {
	h.mu.Lock()
	e := h.links[device]
	h.mu.Unlock()
	if e != nil && e.link != nil {
		e.link.Close()
	}
	h.closeLanes(func(key laneKey) bool { return key.device == device })
}

// Client calls devices: a request to URL(device, path) goes over the device's link. Calls to one
// that is not connected fail with ErrOffline.
func (h *Hub) Client() *http.Client { return &http.Client{Transport: h.calls} }

// URL addresses a path at a device.
func URL(device uuid.UUID, path string, query url.Values) string {
	return (&url.URL{Scheme: "http", Host: device.String() + ":80", Path: path, RawQuery: query.Encode()}).String()
}

// Call makes a request of a device. Closing the answer's body, or ending ctx, ends the work at the
// device.
func (h *Hub) Call(ctx context.Context, method string, device uuid.UUID, path string, query url.Values, body io.Reader) (*http.Response,
	error) {
	r, err := http.NewRequestWithContext(ctx, method, URL(device, path, query), body)
	if err != nil {
		return nil, err
	}
	return h.calls.RoundTrip(r)
}

// Close ends every link, waits until the columns were told, and accepts no more.
func (h *Hub) Close() {
	h.mu.Lock()
	h.closed = true
	var all []*uplink.Link
	for _, e := range h.links {
		if e.link != nil {
			all = append(all, e.link)
		}
	}
	h.mu.Unlock()
	for _, l := range all {
		l.Close()
	}
	h.closeLanes(func(laneKey) bool { return true })
	h.served.Wait()
	h.calls.CloseIdleConnections()
}

// Refuse answers an agent whose message cannot be read: 413 when it is too large, 400 otherwise.
func Refuse(w http.ResponseWriter, err error) {
	status := http.StatusBadRequest
	switch large := (*http.MaxBytesError)(nil); {
	case errors.As(err, &large):
		status = http.StatusRequestEntityTooLarge
	case errors.Is(err, errBudget), errors.Is(err, errTooMuch):
		status = http.StatusServiceUnavailable
	case errors.Is(err, os.ErrDeadlineExceeded):
		status = http.StatusRequestTimeout
	}
	http.Error(w, err.Error(), status)
}
