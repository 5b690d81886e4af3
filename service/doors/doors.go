// Package doors bounds what strangers may take of the service: connections on which nobody has proved who
// they are, and requests of such people that are worked on at once, in all and of one address. It knows
// neither routes nor people.
package doors

import (
	"container/list"
	"context"
	"crypto/tls"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
)

// Limits of what may be had of the service without having proved who one is.
const (
	// mostUnproven is how many connections may be open on which nobody has proved who they are, in all and
	// of one address; beyond, the one that has been open longest is closed.
	mostUnproven, mostUnprovenOfOne = 2048, 512
	// mostPublic is how many requests of those who have not proved who they are may be worked on at once, in
	// all and of one address. Others wait.
	mostStrangers, mostStrangersOfOne = 256, 64
)

// Doors keeps the connections on which nobody has proved who they are within limits, so that strangers
// take neither memory nor file descriptors from those who have.
type Doors struct {
	proxies []netip.Prefix // whose connections are many people's

	mu        sync.Mutex
	unproven  int
	of        map[netip.Addr]*list.List // of each address, the one that was opened first in front
	strangers *slots
	turns     *turns
}

// New makes doors. Addresses of proxies are not limited one by one.
func New(proxies []netip.Prefix) *Doors {
	return &Doors{proxies: proxies, of: map[netip.Addr]*list.List{}, strangers: newSlots(mostStrangers, mostStrangersOfOne),
		turns: newTurns()}
}

// door is a connection.
type door struct {
	net.Conn
	doors *Doors
	from  netip.Addr
	place *list.Element // among those of its address; nil once it is proven or closed, and while it waits for its turn
	over  bool          // closed, or proven: it is counted no more
	turn  atomic.Bool   // it has its turn
}

// Proxies are those that are trusted.
func (d *Doors) Proxies() []netip.Prefix { return d.proxies }

// Listen limits what a listener accepts.
func (d *Doors) Listen(l net.Listener) net.Listener { return &doorListener{l, d} }

type doorListener struct {
	net.Listener
	doors *Doors
}

func (l *doorListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return l.doors.open(c), nil
}

// network is an address as its owner has it: whoever has one of IPv6 has the 2^64 beside it.
func network(a netip.Addr) netip.Addr {
	if a = a.Unmap(); a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return a
}

func addressOf(remote net.Addr) netip.Addr {
	if at, err := netip.ParseAddrPort(remote.String()); err == nil {
		return at.Addr().Unmap()
	}
	return netip.Addr{}
}

// Proxied tells whether an address is that of a trusted proxy.
func (d *Doors) Proxied(a netip.Addr) bool {
	for _, p := range d.proxies {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

func (d *Doors) open(c net.Conn) net.Conn {
	from := addressOf(c.RemoteAddr())
	if d.Proxied(from) {
		return c
	}
	made := &door{Conn: c, doors: d, from: network(from)}
	d.count(made)
	return made
}

// count counts a connection among those on which nobody has proved who they are, and closes one where there are too many.
func (d *Doors) count(c *door) {
	d.mu.Lock()
	if c.over {
		d.mu.Unlock()
		return
	}
	all := d.of[c.from]
	if all == nil {
		all = list.New()
		d.of[c.from] = all
	}
	c.place = all.PushBack(c)
	d.unproven++
	var over *door
	switch {
	case all.Len() > mostUnprovenOfOne:
		over = all.Front().Value.(*door)
	case d.unproven > mostUnproven:
		over = d.longest()
	}
	if over != nil {
		d.forget(over)
	}
	d.mu.Unlock()
	if over != nil {
		over.Conn.Close()
	}
}

// longest is the first connection of the address that has most. The lock is held.
func (d *Doors) longest() *door {
	var most *list.List
	for _, all := range d.of {
		if most == nil || all.Len() > most.Len() {
			most = all
		}
	}
	return most.Front().Value.(*door)
}

// forget no longer counts a connection. The lock is held.
func (d *Doors) forget(c *door) {
	if c.place == nil {
		return
	}
	all := d.of[c.from]
	all.Remove(c.place)
	c.place = nil
	if d.unproven--; all.Len() == 0 {
		delete(d.of, c.from)
	}
}

// Close implements net.Conn.
func (c *door) Close() error {
	c.done()
	c.answered()
	return c.Conn.Close()
}

type doorKey struct{}

// ConnContext has requests know their connection, as http.Server's.
func (d *Doors) ConnContext(ctx context.Context, c net.Conn) context.Context {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	if made, ok := c.(*door); ok {
		return context.WithValue(ctx, doorKey{}, made)
	}
	return ctx
}

// Proven says that on the connection of a request somebody has proved who they are.
func Proven(ctx context.Context) {
	if c, ok := ctx.Value(doorKey{}).(*door); ok {
		c.done()
	}
}

// done no longer counts a connection, for good.
func (c *door) done() {
	c.doors.mu.Lock()
	defer c.doors.mu.Unlock()
	c.doors.forget(c)
	c.over = true
}

// Unproven is how many connections are open on which nobody has proved who they are.
func (d *Doors) Unproven() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.unproven
}

// Take waits until a request of an address may be worked on; false where it may not before ctx ends. give is
// called when it is over.
func (d *Doors) Take(ctx context.Context, from netip.Addr) (give func(), ok bool) {
	return d.strangers.take(ctx, network(from))
}

// slots bound how much is done at once, in all and for one address.
type slots struct {
	all   chan struct{}
	ofOne int
	mu    sync.Mutex
	of    map[netip.Addr]*share
}

type share struct {
	free  chan struct{}
	users int // that hold or wait for one
}

func newSlots(all, ofOne int) *slots {
	return &slots{all: make(chan struct{}, all), ofOne: ofOne, of: map[netip.Addr]*share{}}
}

// take waits for a slot; false where none came before ctx ended.
func (s *slots) take(ctx context.Context, from netip.Addr) (give func(), ok bool) {
	s.mu.Lock()
	own := s.of[from]
	if own == nil {
		own = &share{free: make(chan struct{}, s.ofOne)}
		s.of[from] = own
	}
	own.users++
	s.mu.Unlock()
	leave := func() {
		s.mu.Lock()
		if own.users--; own.users == 0 {
			delete(s.of, from)
		}
		s.mu.Unlock()
	}
	select {
	case own.free <- struct{}{}:
	case <-ctx.Done():
		leave()
		return nil, false
	}
	select {
	case s.all <- struct{}{}:
	case <-ctx.Done():
		<-own.free
		leave()
		return nil, false
	}
	return func() { <-s.all; <-own.free; leave() }, true
}
