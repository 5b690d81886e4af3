package screen

import (
	"math"
	"time"
)

// How a Pace judges a link.
const (
	firstWindow = 64 << 10 // bytes, until anything is known
	leastWindow = 6 << 10
	slack       = 20 * time.Millisecond  // by which what is under way may exceed the round trip, at least
	prompt      = 100 * time.Millisecond // up to which it may, where the round trip is short
	rateMemory  = time.Second            // rates and round trips older than this, or than these, are forgotten
	tripMemory  = 10 * time.Second
	parts       = 4 // an update has at most this part of the window
)

// Pace decides how much may be under way to a viewer, from what it has drawn and when: no more than
// the link carries in one round trip and a little longer (which also finds out whether it carries more), so
// that the newest picture never stands
// behind older ones. The zero value knows nothing of the link yet.
type Pace struct {
	sent      []parcel // not drawn yet, oldest first
	flying    int      // bytes of them
	delivered int64    // bytes drawn in all
	at        time.Time
	rates     []reading // bytes a second
	rate      float64
	proved    bool      // the rate is of a link that had as much to do as it could
	trips     []reading // seconds
	trip      float64
}

// gains are those of a cycle.
var gains = [8]float64{1.6, 0.5, 1, 1, 1, 1, 1, 1}

type parcel struct {
	number    uint64
	bytes     int
	at        time.Time
	delivered int64     // when it was sent
	mark      time.Time // when that many were
	full      bool      // the link had as much to do as it could
}

type reading struct {
	at    time.Time
	value float64
}

// Sent tells of an update that went out.
func (p *Pace) Sent(number uint64, bytes int, now time.Time) {
	if p.flying == 0 || p.at.IsZero() {
		p.at = now
	}
	p.flying += bytes
	p.sent = append(p.sent, parcel{number, bytes, now, p.delivered, p.at, p.flying >= p.window()/2})
}

// Drawn tells that the viewer shows an update, and with it all before it.
func (p *Pace) Drawn(number uint64, now time.Time) {
	for len(p.sent) > 0 && p.sent[0].number <= number {
		s := p.sent[0]
		p.sent = p.sent[1:]
		p.flying -= s.bytes
		p.delivered += int64(s.bytes)
		p.at = now
		if took := now.Sub(s.mark).Seconds(); took > 0 {
			if rate := float64(p.delivered-s.delivered) / took; s.full || rate > p.rate {
				p.rates = append(p.rates, reading{now, rate})
				p.proved = p.proved || s.full
			}
		}
		p.trips = append(p.trips, reading{now, now.Sub(s.at).Seconds()})
	}
	p.rate = latest(&p.rates, now.Add(-max(rateMemory, 4*p.Trip())), math.Max)
	p.trip = latest(&p.trips, now.Add(-tripMemory), math.Min)
}

// latest folds the readings since a time, at least the last one.
func latest(all *[]reading, since time.Time, fold func(a, b float64) float64) (v float64) {
	for len(*all) > 1 && (*all)[0].at.Before(since) {
		*all = (*all)[1:]
	}
	for i, r := range *all {
		if i == 0 {
			v = r.value
		} else {
			v = fold(v, r.value)
		}
	}
	return v
}

// window is how many bytes may be under way.
func (p *Pace) window() int {
	if p.rate == 0 {
		return firstWindow
	}
	return max(int(p.rate*(p.gain()*p.trip+max(slack, prompt-p.Trip()).Seconds())), leastWindow)
}

// gain is how much of a round trip may be under way: now and then more than one, which finds out
// whether the link carries more, and then less, which finds out how long the trip is when nothing
// queues (as congestion control by rate and round trip does, IETF draft-ietf-ccwg-bbr).
func (p *Pace) gain() float64 {
	phase := max(p.Trip(), 100*time.Millisecond)
	return gains[int(p.at.UnixNano()/int64(phase))%len(gains)]
}

// Room is how many bytes the next update may have: a part of the window, so that one is drawn while
// others are under way. It is 0 until more has been drawn.
func (p *Pace) Room() int {
	w := p.window()
	if w-p.flying >= w/parts {
		return w / parts
	}
	return 0
}

// Extra is how many bytes an update of what seldom changes may have that goes out though there is no
// room: so little that it makes the way longer for none.
func (p *Pace) Extra() int {
	w := p.window()
	return max(w/parts-max(p.flying-w, 0), 0) / 2
}

// Rate is what the link carries, in bytes a second, and Trip how long an update takes to be drawn and
// told of at least; 0 while that is not known.
func (p *Pace) Rate() float64       { return p.rate }
func (p *Pace) Trip() time.Duration { return time.Duration(p.trip * float64(time.Second)) }

// Rates of a link, in bytes a second, below which a picture has fewer colours, or half its size; it has
// all of them again only from half as much more on.
const (
	fewColours = 40e3
	halfSize   = 15e3
)

// Coarse is how a picture is to be made for this link, by how it is made now: with fewer colours, and
// at a scale of 1 or 2.
func (p *Pace) Coarse(fewer bool, scale int) (bool, int) {
	if !p.proved {
		return fewer, scale
	}
	below := func(limit float64, now bool) bool {
		if now {
			limit *= 1.5
		}
		return p.rate < limit
	}
	fewer, half := below(fewColours, fewer), below(halfSize, scale > 1)
	if half {
		return fewer, 2
	}
	return fewer, 1
}

// Quality is how well photographs that change are to be sent over this link, as JPEG counts it.
func (p *Pace) Quality() int {
	if p.rate == 0 {
		return 60
	}
	return int(min(max(35+12*math.Log2(p.rate/250e3), 18), 85))
}
