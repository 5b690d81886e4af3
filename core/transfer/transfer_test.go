package transfer

import (
	"container/heap"
	"testing"
	"time"
	"unicode/utf8"
)

// arrivals are pieces whose acknowledgement is on its way.
type arrival struct {
	at, sent time.Time
	n        int
}
type arrivals []arrival

func (a arrivals) Len() int           { return len(a) }
func (a arrivals) Less(i, j int) bool { return a[i].at.Before(a[j].at) }
func (a arrivals) Swap(i, j int)      { a[i], a[j] = a[j], a[i] }
func (a *arrivals) Push(x any)        { *a = append(*a, x.(arrival)) }
func (a *arrivals) Pop() any {
	last := (*a)[len(*a)-1]
	*a = (*a)[:len(*a)-1]
	return last
}

// over sends for a while over a link of so many bytes a second and such a round trip, and returns
// the share of the link that was used and the longest queue once it had found the link's measure.
func over(p *Pacer, rate float64, trip, lasts time.Duration) (share float64, longest time.Duration) {
	start := time.Unix(0, 0)
	now, free := start, start
	var under arrivals
	sent := 0
	for now.Before(start.Add(lasts)) {
		n := p.Piece()
		ok, wait := p.Allow(n, now)
		if ok {
			if free.Before(now) {
				free = now
			}
			free = free.Add(time.Duration(float64(n) / rate * float64(time.Second)))
			if q := free.Sub(now); now.Sub(start) > 3*time.Second+5*trip && q > longest {
				longest = q
			}
			heap.Push(&under, arrival{free.Add(trip), now, n})
			sent += n
			continue
		}
		if wait > 0 && (len(under) == 0 || under[0].at.After(now.Add(wait))) {
			now = now.Add(wait)
			continue
		}
		a := heap.Pop(&under).(arrival)
		now = a.at
		p.Done(a.n, now.Sub(a.sent), now)
	}
	return float64(sent) / rate / lasts.Seconds(), longest
}

func TestPacerUsesTheLinkAndLeavesItShort(t *testing.T) {
	for name, link := range map[string]struct {
		rate float64 // bytes a second
		trip time.Duration
	}{
		"2 Mbit/s, 80 ms":    {250e3, 80 * time.Millisecond},
		"2 Mbit/s, 5 ms":     {250e3, 5 * time.Millisecond},
		"100 Mbit/s, 80 ms":  {12.5e6, 80 * time.Millisecond},
		"1 Gbit/s, 1 ms":     {125e6, time.Millisecond},
		"512 kbit/s, 600 ms": {64e3, 600 * time.Millisecond},
	} {
		t.Run(name, func(t *testing.T) {
			share, longest := over(&Pacer{}, link.rate, link.trip, time.Minute)
			if share < 0.87 {
				t.Errorf("%.2f of the link was used", share)
			}
			// a piece of the least size on a slow link is itself a while under way
			if least := time.Duration(leastWindow / link.rate * float64(time.Second)); longest > max(57*time.Millisecond, least+
				link.trip/3) {
				t.Errorf("the queue was up to %s long", longest)
			}
		})
	}
}

// A sender that has little to send does not earn a large window by it.
func TestPacerOfASlowSender(t *testing.T) {
	p, now := &Pacer{}, time.Unix(0, 0)
	for range 10_000 {
		if ok, _ := p.Allow(leastPiece, now); !ok {
			t.Fatal("a small piece may not leave an empty link")
		}
		now = now.Add(time.Millisecond)
		p.Done(leastPiece, time.Millisecond, now)
	}
	if p.window > 8*leastWindow {
		t.Errorf("the window is %.0f bytes", p.window)
	}
}

func FuzzName(f *testing.F) {
	for _, s := range []string{"", "plain", "a\xffb", "\U0010FF41", "naïve\n\"'", "\xed\xa0\x80"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, name string) {
		text := Text(name)
		if !utf8.ValidString(text) {
			t.Errorf("%q travels as %q, which is no text", name, text)
		}
		if back := Name(text); back != name {
			t.Errorf("%q came back as %q", name, back)
		}
	})
}

func TestContentDigest(t *testing.T) {
	sum := []byte{0, 1, 2, 255}
	for field, want := range map[string]string{ContentDigest(sum): string(sum), "sha-512=:AA==:, " + ContentDigest(sum): string(sum),
		"": "", "sha-256=AA": "", "sha-256=:?:": "", "sha-256=:AAEC": ""} {
		if got := string(ReadContentDigest(field)); got != want {
			t.Errorf("%q reads as %q, want %q", field, got, want)
		}
	}
}
