package main

import (
	"net"
	"sync"
	"time"
)

// slow is a network between an agent and the service: so many bytes a second each way, a round
// trip, and a queue at its narrow place as routers have one. All connections share it.
type slow struct {
	net.Listener
	to   string
	rate float64 // bytes a second
	trip time.Duration
	ways [2]way
}

// way is one direction.
type way struct {
	mu   sync.Mutex
	free time.Time // when the narrow place has sent what came before
}

// slowQueue is how much waits at the narrow place at most, in time; who sends more is held back.
const slowQueue = 400 * time.Millisecond

func newSlow(to string, rate float64, trip time.Duration) (*slow, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &slow{Listener: l, to: to, rate: rate, trip: trip}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go s.join(c)
		}
	}()
	return s, nil
}

func (s *slow) join(near net.Conn) {
	defer near.Close()
	far, err := net.Dial("tcp", s.to)
	if err != nil {
		return
	}
	defer far.Close()
	var both sync.WaitGroup
	both.Go(func() { s.pass(&s.ways[0], near, far) })
	both.Go(func() { s.pass(&s.ways[1], far, near) })
	both.Wait()
}

type packet struct {
	b  []byte
	at time.Time
}

func (s *slow) pass(w *way, from, to net.Conn) {
	packets := make(chan packet, 1<<16)
	go func() {
		defer to.(*net.TCPConn).CloseWrite()
		for p := range packets {
			time.Sleep(time.Until(p.at))
			if _, err := to.Write(p.b); err != nil {
				from.Close()
			}
		}
	}()
	defer close(packets)
	for {
		b := make([]byte, 1400)
		n, err := from.Read(b)
		if n > 0 {
			w.mu.Lock()
			now := time.Now()
			if w.free.Before(now) {
				w.free = now
			}
			w.free = w.free.Add(time.Duration(float64(n) / s.rate * float64(time.Second)))
			free := w.free
			w.mu.Unlock()
			packets <- packet{b[:n], free.Add(s.trip / 2)}
			time.Sleep(time.Until(free.Add(-slowQueue)))
		}
		if err != nil {
			return
		}
	}
}
