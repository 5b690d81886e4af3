package uplink

import (
	"context"
	"sync"
	"time"

	"moorwatch.example/core/transfer"
)

// Gate lets the pieces of bulk transfers onto a link, in one direction, as a transfer.Pacer
// decides. All transfers of a link share one, so that together they leave it short. The zero Gate
// is ready.
type Gate struct {
	mu    sync.Mutex
	pacer transfer.Pacer
	freed chan struct{} // closed when something was acknowledged; nil while nobody waits
}

// enter waits until a piece may leave, and returns its size: at most most bytes.
func (g *Gate) enter(ctx context.Context, most int) (int, error) {
	for {
		g.mu.Lock()
		n := min(g.pacer.Piece(), most)
		ok, wait := g.pacer.Allow(n, time.Now())
		if ok {
			g.mu.Unlock()
			return n, nil
		}
		if g.freed == nil {
			g.freed = make(chan struct{})
		}
		freed := g.freed
		g.mu.Unlock()
		var after <-chan time.Time
		if wait > 0 {
			timer := time.NewTimer(wait)
			defer timer.Stop()
			after = timer.C
		}
		select {
		case <-ctx.Done():
			return 0, context.Cause(ctx)
		case <-freed:
		case <-after:
		}
	}
}

// done is told that n bytes came back after so long.
func (g *Gate) done(n int, took time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pacer.Done(n, took, time.Now())
	g.wake()
}

// spare is told that n of the bytes that entered did not leave.
func (g *Gate) spare(n int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pacer.Spare(n)
	g.wake()
}

// lost is told that n bytes never will.
func (g *Gate) lost(n int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pacer.Lost(n)
	g.wake()
}

func (g *Gate) wake() {
	if g.freed != nil {
		close(g.freed)
		g.freed = nil
	}
}
