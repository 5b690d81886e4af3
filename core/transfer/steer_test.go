package transfer

import (
	"testing"
	"time"
)

// What travels as text, to the byte: at the bounds of the plane that stands for bytes, and beside them.
func TestTextAtItsBounds(t *testing.T) {
	for name, text := range map[string]string{
		"plain":           "plain",
		"\U0010FEFF":      "\U0010FEFF", // the last below
		"\U0010FF00":      "\U0010FFF4\U0010FF8F\U0010FFBC\U0010FF80",
		"\U0010FFFF":      "\U0010FFF4\U0010FF8F\U0010FFBF\U0010FFBF",
		"a\x80":           "a\U0010FF80",
		"\xff\xfe":        "\U0010FFFF\U0010FFFE",
		"\uFFFD":          "\uFFFD", // the sign for what is no text is itself some
		"\uFFFD and \xc3": "\uFFFD and \U0010FFC3",
		"é\x00\xed\xa0":   "é\x00\U0010FFED\U0010FFA0",
	} {
		if got := Text(name); got != text {
			t.Errorf("%q travels as %+q, want %+q", name, got, text)
		}
		if got := Name(text); got != name {
			t.Errorf("%+q is %q, want %q", text, got, name)
		}
	}
	for _, port := range []string{"COM1", "com9", "LPT³", "lpt¹.txt", "PRN", "AUX", "con.tar.gz"} {
		if CheckName(port, true) == nil {
			t.Errorf("%s is taken for a file's name on Windows", port)
		}
	}
	for _, fine := range []string{"COM10", "COM0", "LPT", "com1x", "acon", "\x20a", "a\x7f"} {
		if err := CheckName(fine, true); err != nil {
			t.Errorf("%q: %v", fine, err)
		}
	}
	for _, wrong := range []string{"a\x1f", "a\x01", "a*", "a|b", "<", ">", `"`} {
		if CheckName(wrong, true) == nil || CheckName(wrong, false) != nil {
			t.Errorf("%q is refused wrongly, or not", wrong)
		}
	}
}

// probed is a pacer that has measured a link of such a round trip, with nothing under way.
func probed(t *testing.T, trip time.Duration) (*Pacer, time.Time) {
	t.Helper()
	p, now := &Pacer{}, time.Unix(1000, 0)
	if n := p.Piece(); n != leastPiece {
		t.Errorf("before the way is known a piece has %d bytes", n)
	}
	if ok, _ := p.Allow(leastPiece, now); !ok || !p.probe {
		t.Fatal("the first piece does not leave, or does not measure")
	}
	if ok, wait := p.Allow(leastPiece, now); ok || wait != 0 {
		t.Errorf("beside the piece that measures another may leave, or is to ask again after %s", wait)
	}
	now = now.Add(trip)
	p.Done(leastPiece, trip, now)
	if p.base != trip || p.flight != 0 || p.probe {
		t.Fatalf("measured %+v", p)
	}
	return p, now
}

// allow lets pieces leave as long as they may, waiting for the pace.
func allow(p *Pacer, n int, now time.Time) (pieces int, at time.Time) {
	for pieces < 10_000 {
		ok, wait := p.Allow(n, now)
		if ok {
			pieces++
		} else if wait == 0 {
			break
		} else {
			now = now.Add(wait)
		}
	}
	return pieces, now
}

func TestPieceIsAnEighthOfTheWindow(t *testing.T) {
	p, _ := probed(t, 20*time.Millisecond)
	for window, want := range map[float64]int{leastWindow: leastPiece, 64 << 10: 8 << 10, 1 << 20: 128 << 10, mostWindow: mostPiece} {
		if p.window = window; p.Piece() != want {
			t.Errorf("of a window of %.0f a piece has %d bytes, want %d", window, p.Piece(), want)
		}
	}
	if p.sound = true; p.Piece() != leastPiece {
		t.Error("while the way is measured a piece is large")
	}
}

// The window bounds what is under way, and the pace spreads it over a round trip, a little faster than it is used up.
func TestWindowAndPace(t *testing.T) {
	const trip = 100 * time.Millisecond
	p, now := probed(t, trip)
	p.window = 64 << 10
	n, at := allow(p, 8<<10, now)
	if n != 8 || p.flight != 64<<10 {
		t.Errorf("%d pieces of 8 KiB are under way, %d bytes", n, p.flight)
	}
	// The last of 8 leaves when 7 have lasted 0.8 of an eighth of the trip each.
	if took, want := at.Sub(now), 7*trip/10; took < want-time.Millisecond || took > want+time.Millisecond {
		t.Errorf("they left within %s, want %s", took, want)
	}
	if ok, _ := p.Allow(1, at.Add(time.Second)); ok {
		t.Error("a byte more than the window may leave")
	}
	p.Lost(8 << 10)
	if ok, _ := p.Allow(8<<10, at.Add(time.Second)); !ok || p.flight != 64<<10 {
		t.Errorf("in place of what is lost none may leave; %d bytes are under way", p.flight)
	}
	p.flight = 0
	for ahead, leaves := range map[time.Duration]bool{burst: true, burst + time.Microsecond: false} {
		p.next = at.Add(ahead)
		if ok, wait := p.Allow(0, at); ok != leaves || !ok && wait != ahead {
			t.Errorf("%s ahead of the pace it leaves: %t, or waits %s", ahead, ok, wait)
		}
	}
	p.flight = 64 << 10
	before := p.next
	p.Spare(4 << 10)
	if p.flight != 60<<10 || before.Sub(p.next) != p.lasts(4<<10) || p.lasts(4<<10) != trip/20 {
		t.Errorf("what is spared counts %d under way, and gives back %s", p.flight, before.Sub(p.next))
	}
}

// The window grows by what was acknowledged until the first queue, then by how far the delay is from its aim, and
// shrinks by at most a quarter of what came back late.
func TestWindowIsSteeredByDelay(t *testing.T) {
	const trip = 40 * time.Millisecond
	const n = 8 << 10
	full := func() (*Pacer, time.Time) { // a window of 64 KiB that is used
		p, now := probed(t, trip)
		p.window = 64 << 10
		allow(p, n, now)
		return p, now
	}
	p, now := full()
	p.Done(n, trip, now)
	if p.window != 72<<10 || p.started {
		t.Errorf("before the first queue it grows to %.0f", p.window)
	}
	for p.flight > 32<<10 {
		p.Done(n, trip, now)
	}
	was := p.window
	p.Done(n, trip, now) // the sender is what limits now
	if p.window != was {
		t.Errorf("what is half empty grows from %.0f to %.0f", was, p.window)
	}

	// Late is beyond half the aim; a quarter of the window of it starts the steering.
	p, now = full()
	late := trip + queue // at the aim exactly
	p.Done(n, late, now)
	p.Done(n, late, now)
	if p.started || p.late != 2*n {
		t.Errorf("after two late pieces: %+v", p)
	}
	p.Done(n, trip+queue/2, now) // not late: they do not follow one another
	if p.late != 0 {
		t.Errorf("what came in time leaves %d late", p.late)
	}
	for range 3 {
		p.Allow(n, now.Add(time.Second))
	}
	for range 4 {
		p.Done(n, late, now)
	}
	if !p.started {
		t.Errorf("a standing queue was not seen: %+v", p)
	}

	// Steered: at the aim it stays, short of it it grows by the share, beyond it it shrinks by half of that.
	for took, want := range map[time.Duration]float64{
		trip + queue:           0,
		2 * (trip + queue):     -n / 4,
		10 * (trip + queue):    -n / 4, // at most
		(trip + queue) * 4 / 3: -n / 8,
	} {
		p, now = full()
		p.started = true
		p.Done(n, took, now)
		if got := p.window - 64<<10; got < want-2 || got > want+2 {
			t.Errorf("after %s it changes by %.0f, want %.0f", took, got, want)
		}
	}
	p, now = full()
	p.started = true
	p.Done(n, trip, now)
	if got, want := p.window-64<<10, float64(n)*(float64(trip+queue)/float64(trip)-1); got < want-2 || got > want+2 {
		t.Errorf("on an empty link it grows by %.0f, want %.0f", got, want)
	}

	// It keeps its bounds.
	p.window = leastWindow
	p.Done(n, time.Second, now)
	if p.window != leastWindow {
		t.Errorf("it shrinks to %.0f", p.window)
	}
	p.window, p.started, p.flight = mostWindow, false, mostWindow
	p.Done(n, trip, now)
	if p.window != mostWindow {
		t.Errorf("it grows to %.0f", p.window)
	}
}

// The way is measured anew once what is believed of it is old: the link runs empty first, and a lone piece goes.
func TestWayIsMeasuredAnew(t *testing.T) {
	for trip, old := range map[time.Duration]time.Duration{50 * time.Millisecond: sounding, time.Second: soundingTrips * time.Second} {
		p, now := probed(t, trip)
		if ok, _ := p.Allow(leastPiece, now.Add(old)); !ok || p.sound {
			t.Errorf("%s: it is measured anew before it is old", trip)
		}
		if ok, wait := p.Allow(leastPiece, now.Add(old+time.Millisecond)); ok || wait != 0 || !p.sound {
			t.Errorf("%s: the link does not run empty", trip)
		}
		p.Done(leastPiece, trip, now.Add(old)) // as short as ever: the belief is fresh, but the sounding goes on
		now = now.Add(old + trip)
		if ok, _ := p.Allow(leastPiece, now); !ok || !p.probe {
			t.Errorf("%s: the lone piece does not leave: %+v", trip, p)
		}
		p.Done(leastPiece, 2*trip, now.Add(2*trip)) // the way has become longer
		if p.base != 2*trip || p.sound || p.probe {
			t.Errorf("%s: measured anew it is %+v", trip, p)
		}
	}
	// One that is lost on the way measures nothing.
	p := &Pacer{}
	p.Allow(leastPiece, time.Unix(0, 0))
	p.Lost(leastPiece)
	if p.probe || p.base != 0 || p.flight != 0 {
		t.Errorf("what was lost measured: %+v", p)
	}
	// Shorter than the base, by a sixteenth of it and a millisecond at most longer, keeps the belief fresh.
	p, now := probed(t, 160*time.Millisecond)
	for _, c := range []struct {
		took, base time.Duration
		fresh      bool
	}{{170 * time.Millisecond, 160 * time.Millisecond, true}, {171 * time.Millisecond, 160 * time.Millisecond, true},
		{172 * time.Millisecond, 160 * time.Millisecond, false}, {150 * time.Millisecond, 150 * time.Millisecond, true},
		{0, time.Microsecond, true}} {
		now = now.Add(time.Second)
		p.Done(0, c.took, now)
		if p.base != c.base || p.based.Equal(now) != c.fresh {
			t.Errorf("after %s the base is %s, seen %s ago", c.took, p.base, now.Sub(p.based))
		}
	}
}
