package transfer

import "time"

// Bounds of what may be under way, in bytes, and of the delay that is aimed at.
const (
	leastWindow = 8 << 10
	mostWindow  = 8 << 20
	leastPiece  = 2 << 10
	mostPiece   = 256 << 10
	// queue is how long what is under way should wait in queues along the link, or an eighth of
	// the way where that is more. A keystroke waits as long behind it.
	queue = 15 * time.Millisecond
	// A base round trip is believed for sounding, or so many round trips: after it the link is let
	// run empty for a moment and measured anew, since a standing queue looks like a longer way.
	sounding      = 10 * time.Second
	soundingTrips = 40
	// burst is how far sending may run ahead of the pace.
	burst = 2 * time.Millisecond
)

// Pacer decides how much of all bulk transfers on one link may be under way in one direction. It
// steers the window to where pieces come back a little later than on an empty link: delay is its
// only sign of a full one, as in LEDBAT (RFC 6817), and the steering is that of FAST TCP (Jin, Wei and
// Low, 2004). It is used by one goroutine at a time.
type Pacer struct {
	window  float64
	flight  int
	base    time.Duration // the shortest round trip of late
	based   time.Time     // when it was last seen, or nearly
	started bool          // the first queue was met
	late    int           // bytes that came back late, one after another
	sound   bool          // waiting for the link to run empty
	probe   bool          // a lone piece measures the way
	next    time.Time     // when the pace lets the next piece leave
}

// Piece is how large the next piece should be, in bytes: small where the link is slow.
func (p *Pacer) Piece() int {
	if p.base == 0 || p.sound {
		return leastPiece
	}
	return min(max(int(p.window)/8, leastPiece), mostPiece)
}

// Allow tells whether n more bytes may leave now; when they do, they count as under way until Done
// or Lost. When they may not, wait says after which time to ask again; 0 is after the next Done.
func (p *Pacer) Allow(n int, now time.Time) (ok bool, wait time.Duration) {
	if p.window == 0 {
		p.window = 2 * leastWindow
	}
	if p.base > 0 && now.Sub(p.based) > max(sounding, soundingTrips*p.base) {
		p.sound = true
	}
	if p.flight > 0 && (p.sound || p.base == 0 || p.flight+n > int(p.window)) {
		return false, 0
	}
	if ahead := p.next.Sub(now); ahead > burst {
		return false, ahead
	}
	if p.base > 0 {
		if p.next.Before(now) {
			p.next = now
		}
		p.next = p.next.Add(p.lasts(n))
	}
	p.probe = p.sound || p.base == 0
	p.flight += n
	return true, 0
}

// Done is told that n bytes were acknowledged, and how long after they left.
func (p *Pacer) Done(n int, took time.Duration, now time.Time) {
	full := 2*p.flight >= int(p.window) // else the sender, not the link, is what limits
	p.flight -= n
	took = max(took, time.Microsecond)
	switch {
	case p.probe:
		p.base, p.based, p.sound, p.probe = took, now, false, false
	case took <= p.base+p.base/16+time.Millisecond:
		p.base, p.based = min(p.base, took), now
	}
	aim := max(queue, p.base/8)
	if took <= p.base+aim/2 {
		p.late = 0
	} else if p.late += n; 4*p.late > int(p.window) {
		p.started = true // a single late piece may be late for another reason
	}
	off := float64(p.base+aim)/float64(took) - 1
	switch {
	case !p.started && full:
		p.window += float64(n)
	case p.started && full && off > 0:
		p.window += float64(n) * off
	case p.started && off < 0:
		p.window += float64(n) / 2 * max(off, -0.5)
	}
	p.window = min(max(p.window, leastWindow), mostWindow)
}

// Spare is told that n of the bytes that were allowed did not leave, as there were not so many.
func (p *Pacer) Spare(n int) {
	p.flight -= n
	p.next = p.next.Add(-p.lasts(n))
}

// lasts is how long n bytes take at the pace: a little faster than the window is used up.
func (p *Pacer) lasts(n int) time.Duration {
	return time.Duration(0.8 * float64(n) / p.window * float64(p.base))
}

// Lost is told that n bytes will never be acknowledged, since their transfer ended.
func (p *Pacer) Lost(n int) { p.flight, p.probe = p.flight-n, false }
