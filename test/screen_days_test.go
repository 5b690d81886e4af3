package test

import (
	"net"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/randr"
	"github.com/jezek/xgb/xproto"

	"moorwatch.example/agent/host/native"
	"moorwatch.example/client"
	"moorwatch.example/contract/link"
)

// connectX connects to a display.
func connectX(t *testing.T, display string) *xgb.Conn {
	t.Helper()
	x := must(xgb.NewConnDisplay(display))(t)
	t.Cleanup(x.Close)
	return x
}

// heldKeys counts the keys and buttons that are down on a desktop.
func heldKeys(t *testing.T, x *xgb.Conn) (n int) {
	t.Helper()
	m := must(xproto.QueryKeymap(x).Reply())(t)
	for _, b := range m.Keys {
		for ; b != 0; b &= b - 1 {
			n++
		}
	}
	at := must(xproto.QueryPointer(x, xproto.Setup(x).DefaultScreen(x).Root).Reply())(t)
	for _, b := range []uint16{xproto.ButtonMask1, xproto.ButtonMask2, xproto.ButtonMask3} {
		if at.Mask&b != 0 {
			n++
		}
	}
	return n
}

// Monitors come and go, the desktop changes its size, its server is killed and another takes its
// place: the viewer follows, and shows exactly what is there.
func TestDesktopChanges(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("import"); err != nil {
		t.Skip("import is missing")
	}
	display, kill := startDesktop(t)
	w := begin(t, false)
	w.unasked(t)
	d := w.machine(t, "hay-desk-03")
	x := connectX(t, display)
	must(0, randr.Init(x))(t)
	root := xproto.Setup(x).DefaultScreen(x).Root
	monitor := func(name string, at, width uint16) {
		t.Helper()
		atom := must(xproto.InternAtom(x, false, uint16(len(name)), name).Reply())(t).Atom
		info := randr.MonitorInfo{Name: atom, X: int16(at), Width: width, Height: 600, WidthInMillimeters: 200, HeightInMillimeters: 200}
		if err := randr.SetMonitorChecked(x, root, info).Check(); err != nil {
			t.Fatal(err)
		}
	}
	monitor("left", 0, 500)
	monitor("right", 500, 300)
	v := w.view(t, w.owner, d, client.ScreenOptions{Desktop: display})
	names := func() (out []string) {
		for _, e := range v.events {
			if e.Begin != nil {
				out = nil
				for _, m := range e.Begin.Monitors {
					out = append(out, m.Name)
				}
			}
		}
		return out
	}
	v.until(t, "both monitors are told of", func() bool { return slices.Contains(names(), "left") && slices.Contains(names(), "right") })
	if err := v.Send(t.Context(), link.ScreenInput{Options: &link.ScreenOptions{Monitors: []string{"right"}}}); err != nil {
		t.Fatal(err)
	}
	v.until(t, "one of them is seen", func() bool { return v.Picture() != nil && v.Picture().W == 300 })
	right := must(xproto.InternAtom(x, true, 5, "right").Reply())(t).Atom
	if err := randr.DeleteMonitorChecked(x, root, right).Check(); err != nil {
		t.Fatal(err)
	}
	x.Sync()
	v.until(t, "it is unplugged, and all is seen again", func() bool { return v.Picture().W == 800 && !slices.Contains(names(), "right") })

	res := must(randr.GetScreenResources(x, root).Reply())(t)
	for _, crtc := range res.Crtcs { // what is larger than the new size is turned off before
		must(randr.SetCrtcConfig(x, crtc, 0, res.ConfigTimestamp, 0, 0, 0, randr.RotationRotate0, nil).Reply())(t)
	}
	if err := randr.SetScreenSizeChecked(x, root, 640, 480, 170, 127).Check(); err != nil {
		t.Fatalf("the server does not change its size: %v", err)
	}
	v.until(t, "the new size is seen", func() bool { return v.Picture().W == 640 && v.Picture().H == 480 })
	program(t, display, "xmessage", "-geometry", "+20+30", "smaller")
	v.until(t, "it is exact", func() bool { return shows(v.Picture(), xPicture(t, display)) })

	// Nobody looks for a while: nothing is sent, and then all of it is there.
	if err := v.Send(t.Context(), link.ScreenInput{Options: &link.ScreenOptions{Pause: true}}); err != nil {
		t.Fatal(err)
	}
	heard := func(note string) { // by the device: then it has heard of what was sent before, too
		t.Helper()
		if err := v.Send(t.Context(), link.ScreenInput{Note: note}); err != nil {
			t.Fatal(err)
		}
		v.until(t, "the device has heard of it", func() bool {
			return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return e.Note != nil && e.Note.Text == note })
		})
	}
	heard("about to sleep")
	before := v.Updates
	program(t, display, "xmessage", "-geometry", "+200+300", "while nobody looked")
	w.await(t, "something changed meanwhile",
		func() bool { return window(display, "xmessage") != "" && !shows(v.Picture(), xPicture(t, display)) })
	heard("asleep")
	if v.Updates > before+1 { // one may have been under way
		t.Errorf("%d updates came while nobody looked", v.Updates-before)
	}
	if err := v.Send(t.Context(), link.ScreenInput{Options: &link.ScreenOptions{}}); err != nil {
		t.Fatal(err)
	}
	v.until(t, "it is exact again", func() bool { return shows(v.Picture(), xPicture(t, display)) })

	next, _ := startDesktop(t) // a log-in screen, say
	if err := v.Send(t.Context(), link.ScreenInput{Key: &link.ScreenKey{Key: "Shift", Code: "ShiftLeft", Down: true}}); err != nil {
		t.Fatal(err)
	}
	kill()
	v.until(t, "that it ended is told", func() bool {
		return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return strings.Contains(e.Problem, "has ended") })
	})
	v.until(t, "what follows it is seen", func() bool {
		return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return e.Begin != nil && e.Begin.Desktop.ID != display }) &&
			v.Picture().W == 800
	})
	other := ""
	for _, e := range v.events {
		if e.Begin != nil {
			other = e.Begin.Desktop.ID
		}
	}
	if other == next { // other tests have desktops on this machine, too
		if n := heldKeys(t, connectX(t, next)); n != 0 {
			t.Errorf("%d keys are down on the desktop that follows", n)
		}
	}
}

// passage passes connections on, until its network dies, or is left for another.
type passage struct {
	net.Listener
	mu    sync.Mutex
	dead  bool
	conns []net.Conn
}

func newPassage(t *testing.T, to string) *passage {
	t.Helper()
	p := &passage{Listener: must(net.Listen("tcp", "127.0.0.1:0"))(t)}
	t.Cleanup(func() { p.Close(); p.leave() })
	go func() {
		for {
			near, err := p.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			p.mu.Lock()
			p.conns = append(p.conns, near, far)
			p.mu.Unlock()
			go p.pass(near, far)
			go p.pass(far, near)
		}
	}()
	return p
}

func (p *passage) pass(from, to net.Conn) {
	b := make([]byte, 32<<10)
	for {
		n, err := from.Read(b)
		if err != nil {
			to.Close()
			return
		}
		p.mu.Lock()
		dead := p.dead
		p.mu.Unlock()
		if !dead { // what a dead network takes is lost without a word
			to.Write(b[:n])
		}
	}
}

func (p *passage) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.dead = true
}

// leave ends all connections; those that are made from now on pass.
func (p *passage) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.conns {
		c.Close()
	}
	p.conns, p.dead = nil, false
}

// The link is cut without a word while a key and a button are down, or the agent ends: nothing stays
// down at the device, and the screen can be opened again.
func TestNothingStaysDown(t *testing.T) {
	t.Parallel()
	display := desktop(t)
	w := begin(t, false)
	w.unasked(t)
	x := connectX(t, display)
	way := newPassage(t, strings.TrimPrefix(w.Service.URL, "http://"))
	dir, id := w.enrol(t, "hay-desk-04")
	redirect(t, dir, "http://"+way.Addr().String())
	h := native.New()
	h.Informer = named{h.Informer, "hay-desk-04"}
	d := w.runs(t, "hay-desk-04", dir, id, h, nil)
	press := func(v *viewer) {
		t.Helper()
		v.until(t, "it begins", func() bool { return v.Picture() != nil })
		for _, in := range []link.ScreenInput{{Key: &link.ScreenKey{Key: "Control", Code: "ControlLeft", Down: true}},
			{Key: &link.ScreenKey{Key: "j", Code: "KeyJ", Down: true}},
			{Pointer: &link.ScreenPointer{X: 300, Y: 200, Buttons: 1}}} {
			if err := v.Send(t.Context(), in); err != nil {
				t.Fatal(err)
			}
		}
		w.await(t, "they are down", func() bool { return heldKeys(t, x) == 3 })
	}
	press(w.view(t, w.owner, d, client.ScreenOptions{Desktop: display}))
	way.cut()
	took := w.await(t, "all is let go of after the link was cut", func() bool { return heldKeys(t, x) == 0 })
	t.Logf("let go of after %s", took.Round(10*time.Millisecond))
	way.leave()
	w.awaitFor(t, 2*time.Minute, "the device is back, and its screen is opened", func() bool {
		s, err := w.owner.Screen(t.Context(), d.id, client.ScreenOptions{Desktop: display})
		if err != nil {
			return false
		}
		v := &viewer{Screen: s}
		defer v.Close()
		press(v)
		return true
	})
	w.await(t, "all is let go of by who left", func() bool { return heldKeys(t, x) == 0 })
	press(w.view(t, w.owner, d, client.ScreenOptions{Desktop: display}))
	d.stop()
	w.await(t, "all is let go of as the agent ends", func() bool { return heldKeys(t, x) == 0 })

	cmd := agentProcess(t, dir)
	w.await(t, "the device is back", func() bool { return must(w.owner.Device(t.Context(), id))(t).Device.Online })
	press(w.view(t, w.owner, d, client.ScreenOptions{Desktop: display}))
	cmd.Process.Kill()
	cmd.Wait()
	if heldKeys(t, x) == 0 {
		t.Log("the server itself lets go of what a killed agent pressed")
	}
	agentProcess(t, dir)
	w.await(t, "all is let go of by the agent that follows one that was killed", func() bool { return heldKeys(t, x) == 0 })
}

// Who sends what is no input is sent away, and the screen goes on for others; input that is out of
// bounds does nothing.
func TestHostileInput(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.unasked(t)
	d := w.simulated(t, "hay-desk-05")
	good := w.view(t, w.owner, d, client.ScreenOptions{})
	good.until(t, "it begins", func() bool { return good.Picture() != nil })
	bad := w.view(t, w.owner, d, client.ScreenOptions{})
	for _, in := range []link.ScreenInput{
		{Pointer: &link.ScreenPointer{X: -1 << 40, Y: 1 << 40, Buttons: -1}},
		{Wheel: &link.ScreenPoint{X: 1 << 40, Y: -1 << 40}},
		{Key: &link.ScreenKey{Key: strings.Repeat("k", 5000), Code: "\x00", Down: true}},
		{Options: &link.ScreenOptions{Quality: -7, Scale: 1 << 30, Rate: -1, Colours: "none", Monitors: []string{"nowhere"}}},
		{Mode: "own"},
		{Mark: &link.ScreenMark{Kind: "line", Points: make([]link.ScreenPoint, link.MaxMarkPoints+1)}},
		{Note: strings.Repeat("\x1b[2J", 3000)},
		{Drawn: 1 << 60},
	} {
		if err := bad.Send(t.Context(), in); err != nil {
			t.Fatal(err)
		}
	}
	bad.until(t, "it is told what was refused", func() bool {
		return slices.ContainsFunc(bad.events, func(e link.ScreenEvent) bool { return strings.Contains(e.Problem, "no such way") }) &&
			slices.ContainsFunc(bad.events, func(e link.ScreenEvent) bool { return e.Note != nil })
	})
	for _, e := range bad.events {
		if e.Note != nil && (len(e.Note.Text) > link.MaxScreenNote || strings.Contains(e.Note.Text, "\x1b")) {
			t.Errorf("a note of %d bytes came through as it was", len(e.Note.Text))
		}
	}
	good.events = nil
	if err := good.Send(t.Context(), link.ScreenInput{Note: "still here"}); err != nil {
		t.Fatal(err)
	}
	good.until(t, "the other goes on", func() bool {
		return slices.ContainsFunc(good.events, func(e link.ScreenEvent) bool { return e.Note != nil && e.Note.Text == "still here" })
	})
}
