package doors

import (
	"context"
	"crypto/tls"
	"errors"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"time"

	"moorwatch.example/contract/link"
)

// Limits of agents that wait for their turn.
const (
	// mostWaiting is how many may wait, in all and of one address; others are refused, and come again.
	mostWaiting, mostWaitingOfOne = 2048, 1024
	// turnWithin is how long one waits at most: it has to come to the end of its greeting before it gives up.
	turnWithin = 6 * time.Second
)

// Errors that a handshake ends with.
var (
	errManyWait = errors.New("too many agents wait for their turn")
	errNoTurn   = errors.New("the agent had no turn in time")
)

// turns lets agents have their turn in what a TLS handshake costs, in the order in which they came, as many at once as
// there are processors. A fleet that returns at once is then as fast as the service: otherwise all go on side by side,
// none comes to its end in time, and each begins anew. People do not wait.
type turns struct {
	free chan struct{}

	mu      sync.Mutex
	waiting int
	of      map[netip.Addr]int
}

func newTurns() *turns {
	return &turns{free: make(chan struct{}, runtime.GOMAXPROCS(0)), of: map[netip.Addr]int{}}
}

// TLS has agents, which say that they are in the names of protocols that they offer (link.Protocol), wait for their turn
// after their first message, before the service answers it.
func (d *Doors) TLS(config *tls.Config) *tls.Config {
	config = config.Clone()
	config.GetConfigForClient = func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		c, ok := hello.Conn.(*door)
		if !ok || !slices.Contains(hello.SupportedProtos, link.Protocol) {
			return nil, nil
		}
		return nil, c.wait(hello.Context())
	}
	return config
}

// wait waits for the turn of a connection, which is over with the first answer on it. While it waits it is not counted
// among those who have to prove who they are, of whom the one that is there longest makes room.
func (c *door) wait(ctx context.Context) error {
	d, t := c.doors, c.doors.turns
	if !t.enter(c.from) {
		return errManyWait
	}
	defer t.leave(c.from)
	d.mu.Lock()
	d.forget(c)
	d.mu.Unlock()
	late := time.NewTimer(turnWithin)
	defer late.Stop()
	select {
	case t.free <- struct{}{}:
	case <-late.C:
		return errNoTurn
	case <-ctx.Done():
		return ctx.Err()
	}
	c.turn.Store(true)
	d.count(c)
	return nil
}

func (t *turns) enter(from netip.Addr) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.waiting >= mostWaiting || t.of[from] >= mostWaitingOfOne {
		return false
	}
	t.waiting++
	t.of[from]++
	return true
}

func (t *turns) leave(from netip.Addr) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.waiting--
	if t.of[from]--; t.of[from] == 0 {
		delete(t.of, from)
	}
}

// answered ends the turn of a connection, if it has one.
func (c *door) answered() {
	if c.turn.CompareAndSwap(true, false) {
		<-c.doors.turns.free
	}
}

// Write implements net.Conn.
func (c *door) Write(b []byte) (int, error) {
	c.answered()
	return c.Conn.Write(b)
}
