package doors

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// caller is a connection from an address, of which is known whether it was closed.
type caller struct {
	net.Conn
	from   string
	closed atomic.Bool
}

func (c *caller) RemoteAddr() net.Addr {
	return net.TCPAddrFromAddrPort(netip.AddrPortFrom(netip.MustParseAddr(c.from), 40000))
}

func (c *caller) Close() error { c.closed.Store(true); return nil }

// The oldest connection of whoever has too many makes room; those who proved who they are, and those of trusted
// proxies, are not counted.
func TestUnprovenConnections(t *testing.T) {
	d := New([]netip.Prefix{netip.MustParsePrefix("192.0.2.200/32")})
	var all []*caller
	var conns []net.Conn
	for range mostUnprovenOfOne {
		c := &caller{from: "192.0.2.7"}
		all, conns = append(all, c), append(conns, d.open(c))
	}
	other := &caller{from: "198.51.100.1"}
	d.open(other)
	Proven(d.ConnContext(context.Background(), conns[0]))
	d.open(&caller{from: "192.0.2.7"})
	if n := d.Unproven(); n != mostUnprovenOfOne+1 {
		t.Errorf("%d are counted after one was proven", n)
	}
	d.open(&caller{from: "192.0.2.7"})
	if all[0].closed.Load() || !all[1].closed.Load() || all[2].closed.Load() || other.closed.Load() {
		t.Error("not the oldest that is unproven made room")
	}
	for range 2 * mostUnprovenOfOne {
		d.open(&caller{from: "192.0.2.200"})
	}
	if n := d.Unproven(); n != mostUnprovenOfOne+1 {
		t.Errorf("%d are counted with those of a proxy", n)
	}
	for _, c := range conns {
		c.Close()
		c.Close() // twice is once
	}
	if n := d.Unproven(); n != 3 {
		t.Errorf("%d are counted after they were closed", n)
	}
}

// One address of IPv6 stands for the 2^64 that its owner has, and IPv4 is the same however it is written.
func TestNetworks(t *testing.T) {
	for _, same := range [][2]string{{"2001:db8:1:2::1", "2001:db8:1:2:ffff::9"}, {"::ffff:192.0.2.7", "192.0.2.7"}} {
		if a, b := network(netip.MustParseAddr(same[0])), network(netip.MustParseAddr(same[1])); a != b {
			t.Errorf("%s and %s are %s and %s", same[0], same[1], a, b)
		}
	}
	if network(netip.MustParseAddr("2001:db8:1:2::1")) == network(netip.MustParseAddr("2001:db8:1:3::1")) {
		t.Error("two networks are one")
	}
}

// When all there may be are there, whoever has most makes room, and never somebody who has one.
func TestAllTogether(t *testing.T) {
	d := New(nil)
	lone := &caller{from: "203.0.113.9"}
	d.open(lone)
	for i := range 2 * mostUnproven {
		d.open(&caller{from: netip.AddrFrom4([4]byte{10, 0, 0, byte(i % 5)}).String()})
	}
	if d.Unproven() > mostUnproven || lone.closed.Load() {
		t.Errorf("%d are open; who had one was closed: %t", d.Unproven(), lone.closed.Load())
	}
	if len(d.of) != 6 {
		t.Errorf("%d addresses are remembered", len(d.of))
	}
}

// No more is worked on at once than may be, of one address and in all, and nothing is left when all is over.
func TestTake(t *testing.T) {
	d := New(nil)
	var working, most atomic.Int64
	var all sync.WaitGroup
	for i := range 4 * mostStrangers {
		from := netip.AddrFrom4([4]byte{192, 0, 2, byte(i % 8)})
		all.Go(func() {
			give, ok := d.Take(t.Context(), from)
			if !ok {
				t.Error("one had no turn")
				return
			}
			n := working.Add(1)
			for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
			}
			working.Add(-1)
			give()
		})
	}
	all.Wait()
	if most.Load() > mostStrangers || len(d.strangers.of) != 0 || len(d.strangers.all) != 0 {
		t.Errorf("%d at once; %d addresses and %d slots are left", most.Load(), len(d.strangers.of), len(d.strangers.all))
	}
	from := netip.MustParseAddr("192.0.2.7")
	for range mostStrangersOfOne {
		if _, ok := d.Take(t.Context(), from); !ok {
			t.Fatal("too few for one address")
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, ok := d.Take(ctx, from); ok {
		t.Error("one more of the same address was let in")
	}
	if _, ok := d.Take(t.Context(), netip.MustParseAddr("192.0.2.8")); !ok {
		t.Error("another address was not let in")
	}
}
