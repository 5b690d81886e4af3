package uplink

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/hashicorp/yamux"
)

// Waits and sizes of a link.
const (
	// PingEvery is how often the device asks whether the service is there.
	PingEvery = 20 * time.Second
	// SilentAfter is how long the service waits for any byte before it holds the device for gone:
	// two pings may be lost.
	SilentAfter = 65 * time.Second
	// GreetWithin is the time to connect and prove the device's key.
	GreetWithin = 15 * time.Second
	// writeWithin is how long a write may wait, and a ping for its answer.
	writeWithin = 20 * time.Second
	// window is how much of one stream may be under way, in bytes.
	window = 2 << 20
	// backlog is how many streams may wait to be accepted by the other end.
	backlog = 64
)

// Link is a proved connection between a device and the service. Its methods may be called by many
// goroutines at once.
type Link struct {
	Device  string // the device at the far end, or this one
	Address string // the far end's network address
	session *yamux.Session
	conn    *conn

	telling *telling // notes from here; nil where the other end knows none

	mu     sync.Mutex // of notes from there
	taking func(path string, body []byte) *noted
	taken  *taken
}

func start(c *conn, device string, dialled bool) (*Link, error) {
	config := yamux.DefaultConfig()
	config.MaxStreamWindowSize = window
	config.AcceptBacklog = backlog // its queue is made for every link, and most are idle
	config.ConnectionWriteTimeout = writeWithin
	config.EnableKeepAlive = false // see keep
	config.StreamOpenTimeout = writeWithin
	config.LogOutput = io.Discard // what ends a session is returned by it
	open := yamux.Client
	if dialled {
		open = yamux.Server
	}
	l := &Link{Device: device, Address: c.RemoteAddr().String(), conn: c}
	if c.took = l.answer; c.kinds && dialled {
		l.telling = &telling{turn: make(chan struct{}, 1)}
		c.took = l.telling.took
	}
	var err error
	if l.session, err = open(c, config); err != nil {
		return nil, fmt.Errorf("starting the streams: %w", err)
	}
	if dialled {
		go l.keep()
	}
	return l, nil
}

// keep asks whether the other end is there when nothing came of it for PingEvery, until the link ends;
// it ends the link when no answer comes.
func (l *Link) keep() {
	timer := time.NewTimer(PingEvery)
	defer timer.Stop()
	for {
		select {
		case <-l.Done():
			return
		case <-timer.C:
		}
		quiet := time.Since(time.Unix(0, l.conn.heard.Load()))
		if quiet >= PingEvery {
			if _, err := l.session.Ping(); err != nil {
				l.Close()
				return
			}
			quiet = 0
		}
		timer.Reset(PingEvery - quiet)
	}
}

// Open starts a stream to the other end. Closing it is the caller's. It does not wait for the
// network unless 64 streams await the other end's acceptance.
func (l *Link) Open(ctx context.Context) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return l.session.Open()
}

// Listener gives the streams that the other end opens. Closing it closes the link.
func (l *Link) Listener() net.Listener { return listener{l.session} }

// listener tells the end of a link as an end. A link that ended because nothing came in time would
// else hand on the time-out, which an HTTP server takes for a passing problem and waits out for ever.
type listener struct{ *yamux.Session }

func (l listener) Accept() (net.Conn, error) {
	c, err := l.Session.Accept()
	if err != nil {
		return nil, fmt.Errorf("the link ended: %v", err)
	}
	return c, nil
}

// Ping waits for an answer of the other end, and returns how long it took.
func (l *Link) Ping(ctx context.Context) (time.Duration, error) {
	type answer struct {
		took time.Duration
		err  error
	}
	c := make(chan answer, 1)
	go func() {
		took, err := l.session.Ping()
		c <- answer{took, err}
	}()
	select {
	case a := <-c:
		return a.took, a.err
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// Done is closed when the link has ended.
func (l *Link) Done() <-chan struct{} { return l.session.CloseChan() }

// Close ends the link and every stream on it.
func (l *Link) Close() error { return l.session.Close() }

// Transport returns an HTTP transport whose connections are the streams that open gives for a
// host. Idle streams are kept for a few seconds, so that one call after another costs no new
// stream and an idle device costs nothing.
func Transport(open func(ctx context.Context, host string) (net.Conn, error)) *http.Transport {
	return &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			host, _, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			return open(ctx, host)
		},
		DisableCompression:  true,
		MaxIdleConnsPerHost: 4,
		IdleConnTimeout:     10 * time.Second,
		ReadBufferSize:      32 << 10,
		WriteBufferSize:     32 << 10,
	}
}
