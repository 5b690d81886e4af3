package doors

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/test/wait"
)

// served is a service behind doors.
func served(t *testing.T) (d *Doors, dial func(protocols ...string) error) {
	t.Helper()
	d = New(nil)
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "here") }))
	t.Cleanup(s.Close) // it has a certificate
	roots := s.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs
	inner := d.Listen(must(net.Listen("tcp", "127.0.0.1:0"))(t))
	own := &http.Server{Handler: s.Config.Handler, ConnContext: d.ConnContext,
		TLSConfig: d.TLS(&tls.Config{Certificates: s.TLS.Certificates})}
	over := make(chan struct{})
	go func() { defer close(over); own.ServeTLS(inner, "", "") }()
	t.Cleanup(func() { own.Close(); <-over })
	return d, func(protocols ...string) error {
		dialer := tls.Dialer{Config: &tls.Config{RootCAs: roots, ServerName: "example.com", NextProtos: protocols}}
		c, err := dialer.DialContext(t.Context(), "tcp", inner.Addr().String())
		if err == nil {
			c.Close()
		}
		return err
	}
}

func must[T any](v T, err error) func(*testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

func (t *turns) waiters() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.waiting
}

// Agents that come while others have their turn wait, uncounted among strangers, and come to their end one after another;
// people do not wait for them.
func TestAgentsHaveTheirTurns(t *testing.T) {
	d, dial := served(t)
	for range cap(d.turns.free) { // all turns are taken
		d.turns.free <- struct{}{}
	}
	const agents = 40
	came := make(chan error, agents)
	for range agents {
		go func() { came <- dial(link.Protocol, "http/1.1") }()
	}
	wait.Until(t, 20*time.Second, "all agents wait", func() bool { return d.turns.waiters() == agents })
	if n := d.Unproven(); n != 0 {
		t.Errorf("%d that wait are counted as strangers", n)
	}
	for range 5 {
		if err := dial("h2", "http/1.1"); err != nil {
			t.Errorf("a person waits for agents: %v", err)
		}
	}
	select {
	case err := <-came:
		t.Errorf("an agent did not wait: %v", err)
	default:
	}
	for range cap(d.turns.free) {
		<-d.turns.free
	}
	for range agents {
		if err := <-came; err != nil {
			t.Error(err)
		}
	}
	wait.Until(t, 20*time.Second, "every turn is over", func() bool { return d.turns.waiters() == 0 && len(d.turns.free) == 0 })
}

// An agent that has no turn in time, or comes when too many wait, is refused, and leaves nothing behind.
func TestAgentsThatHaveNoTurn(t *testing.T) {
	d, dial := served(t)
	for range cap(d.turns.free) {
		d.turns.free <- struct{}{}
	}
	began := time.Now()
	if err := dial(link.Protocol); err == nil || time.Since(began) < turnWithin {
		t.Errorf("after %s: %v", time.Since(began), err)
	}
	a, b := network(addressOf(&net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})), network(addressOf(&net.TCPAddr{IP: net.IPv4(192, 0, 2, 7)}))
	for range mostWaitingOfOne {
		if !d.turns.enter(a) {
			t.Fatal("too few may wait")
		}
	}
	if err := dial(link.Protocol); err == nil {
		t.Error("one more of this address may wait")
	}
	for i := range 2 * mostWaiting {
		if d.turns.enter(b) != (i < min(mostWaitingOfOne, mostWaiting-mostWaitingOfOne)) {
			t.Fatalf("of another address, %d may wait or may not", i)
		}
	}
	for range mostWaitingOfOne {
		d.turns.leave(a)
		d.turns.leave(b)
	}
	if d.turns.waiters() != 0 || len(d.turns.of) != 0 {
		t.Errorf("%d wait still, of %d addresses", d.turns.waiters(), len(d.turns.of))
	}
}
