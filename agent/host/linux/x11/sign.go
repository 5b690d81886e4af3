//go:build linux

package x11

import (
	"image"
	"sync"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/shape"
	"github.com/jezek/xgb/xproto"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sign"
	"moorwatch.example/contract/link"
)

// Sign implements host.Sign: a small window that stays above the others, says who works on the
// desktop, takes what the person says, and lets them end it; and the marks of those who help.
type Sign struct {
	x      *xgb.Conn
	root   xproto.Window
	size   image.Point
	depth  byte
	window xproto.Window
	gc     xproto.Gcontext
	keys   keyboard
	orders chan func()
	done   chan struct{}

	// What follows is run's alone.
	board sign.Board
	marks sign.Marks
	over  xproto.Window // of the marks: of the shape of what is shown (Nonrectangular Window Shape Extension 1.1)
	at    image.Point
	high  int
	grip  *image.Point // where in the window the pointer holds it
	once  sync.Once
}

var _ host.Sign = (*Sign)(nil)

// OpenSign opens a sign on a display, as Open does.
func OpenSign(display, authority string, uid uint32, acts host.SignActs) (*Sign, error) {
	x, err := connect(display, authority, uid)
	if err != nil {
		return nil, err
	}
	screen := xproto.Setup(x).DefaultScreen(x)
	s := &Sign{x: x, root: screen.Root, depth: screen.RootDepth, board: sign.Board{Acts: acts}, orders: make(chan func(), 64),
		done: make(chan struct{}),
		size: image.Pt(int(screen.WidthInPixels), int(screen.HeightInPixels))}
	s.at = image.Pt(max(s.size.X-sign.Width-sign.Margin, 0), sign.Margin)
	if err := s.begin(screen); err != nil {
		x.Close()
		return nil, err
	}
	go s.run()
	return s, nil
}

func (s *Sign) begin(screen *xproto.ScreenInfo) error {
	if err := shape.Init(s.x); err != nil {
		return err
	}
	if err := s.keys.begin(s.x, s.root); err != nil {
		return err
	}
	var err error
	if s.window, err = xproto.NewWindowId(s.x); err != nil {
		return err
	}
	if s.over, err = xproto.NewWindowId(s.x); err != nil {
		return err
	}
	if s.gc, err = xproto.NewGcontextId(s.x); err != nil {
		return err
	}
	const values = xproto.CwBackPixel | xproto.CwOverrideRedirect | xproto.CwEventMask
	back := uint32(sign.Paper.R)<<16 | uint32(sign.Paper.G)<<8 | uint32(sign.Paper.B)
	xproto.CreateWindow(s.x, s.depth, s.window, s.root, int16(s.at.X), int16(s.at.Y), sign.Width, sign.HeadHeight, 0,
		xproto.WindowClassInputOutput, screen.RootVisual, values,
		[]uint32{back, 1,
			xproto.EventMaskExposure | xproto.EventMaskButtonPress | xproto.EventMaskButtonRelease |
				xproto.EventMaskPointerMotion | xproto.EventMaskKeyPress | xproto.EventMaskVisibilityChange})
	mark := uint32(sign.Bright.R)<<16 | uint32(sign.Bright.G)<<8 | uint32(sign.Bright.B)
	xproto.CreateWindow(s.x, s.depth, s.over, s.root, 0, 0, uint16(s.size.X), uint16(s.size.Y), 0, xproto.WindowClassInputOutput,
		screen.RootVisual, values,
		[]uint32{mark, 1, xproto.EventMaskExposure})
	shape.Rectangles(s.x, shape.SoSet, shape.SkInput, 0, s.over, 0, 0, nil) // the pointer passes through
	name := "Moorwatch"
	xproto.ChangeProperty(s.x, xproto.PropModeReplace, s.window, xproto.AtomWmName, xproto.AtomString, 8, uint32(len(name)), []byte(name))
	return xproto.CreateGCChecked(s.x, s.gc, xproto.Drawable(s.window), 0, nil).Check()
}

// order has run do something.
func (s *Sign) order(do func()) {
	select {
	case s.orders <- do:
	case <-s.done:
	}
}

// Show implements host.Sign.
func (s *Sign) Show(lines []string, held bool) {
	s.order(func() {
		s.board.Show(lines, held)
		s.draw()
	})
}

// Say implements host.Sign.
func (s *Sign) Say(n link.ScreenNote) {
	s.order(func() {
		s.board.Say(n)
		s.draw()
	})
}

// Mark implements host.Sign.
func (s *Sign) Mark(m host.Mark) {
	s.order(func() {
		s.marks.Add(m, time.Now(), s.size)
		s.shape()
	})
}

// Close implements host.Sign.
func (s *Sign) Close() error {
	s.once.Do(func() { close(s.done); s.x.Close() })
	return nil
}

// run takes orders and events until the sign is closed or the display ends.
func (s *Sign) run() {
	events := make(chan xgb.Event)
	go func() {
		defer close(events)
		for {
			e, err := s.x.WaitForEvent()
			if e == nil && err == nil {
				return
			}
			if e == nil {
				continue
			}
			select {
			case events <- e:
			case <-s.done:
				return
			}
		}
	}()
	age := time.NewTimer(time.Hour)
	defer age.Stop()
	for {
		if changed, next := s.marks.Age(time.Now()); next > 0 || changed {
			if changed {
				s.shape()
			}
			if next > 0 {
				age.Reset(next)
			}
		}
		select {
		case <-s.done:
			return
		case do := <-s.orders:
			do()
		case <-age.C:
		case e, ok := <-events:
			if !ok {
				s.Close()
				return
			}
			s.event(e)
		}
	}
}

// draw shows the sign as it stands.
func (s *Sign) draw() {
	if !s.board.Shown() {
		xproto.UnmapWindow(s.x, s.window)
		return
	}
	p := s.board.Paint()
	s.at.X, s.at.Y = max(min(s.at.X, s.size.X-60), 60-sign.Width), max(min(s.at.Y, s.size.Y-sign.HeadHeight), 0)
	if s.high != p.Rect.Dy() {
		s.high = p.Rect.Dy()
		xproto.ConfigureWindow(s.x, s.window, xproto.ConfigWindowHeight, []uint32{uint32(s.high)})
	}
	xproto.MapWindow(s.x, s.window)
	s.put(p, s.window, image.Point{})
}

// event takes what the person does.
func (s *Sign) event(e xgb.Event) {
	switch e := e.(type) {
	case xproto.ExposeEvent:
		if e.Window == s.over {
			s.shape()
		} else if e.Count == 0 {
			s.draw()
		}
	case xproto.VisibilityNotifyEvent:
		if e.State != xproto.VisibilityUnobscured && s.grip == nil { // another window came above
			xproto.ConfigureWindow(s.x, s.window, xproto.ConfigWindowStackMode, []uint32{xproto.StackModeAbove})
		}
	case xproto.ButtonPressEvent:
		s.press(image.Pt(int(e.EventX), int(e.EventY)))
	case xproto.MotionNotifyEvent:
		if s.grip != nil {
			s.at = image.Pt(int(e.RootX), int(e.RootY)).Sub(*s.grip)
			xproto.ConfigureWindow(s.x, s.window, xproto.ConfigWindowX|xproto.ConfigWindowY,
				[]uint32{uint32(int32(s.at.X)), uint32(int32(s.at.Y))})
		}
	case xproto.ButtonReleaseEvent:
		s.grip = nil
	case xproto.KeyPressEvent:
		s.key(e)
	case xproto.MappingNotifyEvent:
		s.keys.changed()
	}
}

// press is told of a button that went down in the window.
func (s *Sign) press(at image.Point) {
	switch s.board.Press(at) {
	case sign.Folded:
		s.draw()
	case sign.Gripped:
		s.grip = &at
	case sign.Field:
		xproto.SetInputFocus(s.x, xproto.InputFocusPointerRoot, s.window, xproto.TimeCurrentTime)
	}
}

// Keysyms (X11/keysymdef.h) that do something in the field.
const (
	symBackspace  = 0xff08
	symEnter      = 0xff0d
	symEscape     = 0xff1b
	symPadEnter   = 0xff8d
	symCharacters = 0x01000000
)

// key takes a key that is pressed while the field has the keyboard.
func (s *Sign) key(e xproto.KeyPressEvent) {
	s.keys.mu.Lock()
	if s.keys.stale {
		s.keys.read()
	}
	sym := s.keys.meaning(e.Detail, e.State)
	s.keys.mu.Unlock()
	switch {
	case sym == symBackspace:
		s.board.Key(sign.Backspace)
	case sym == symEnter, sym == symPadEnter:
		s.board.Key(sign.Enter)
	case sym == symEscape:
		xproto.SetInputFocus(s.x, xproto.InputFocusPointerRoot, xproto.InputFocusPointerRoot, xproto.TimeCurrentTime)
	case e.State&(xproto.ModMaskControl|xproto.ModMask1) != 0:
	case sym >= symCharacters:
		s.board.Key(rune(sym - symCharacters))
	case sym <= 0xff:
		s.board.Key(rune(sym))
	}
	s.draw()
}

// meaning is what a key means with the modifiers that are down. The caller holds the lock.
func (k *keyboard) meaning(code xproto.Keycode, state uint16) xproto.Keysym {
	level := 0
	if state&xproto.ModMaskShift != 0 {
		level = 1
	}
	if state&k.mask[symLevel3] != 0 {
		level += 2
	}
	sym := k.sym(code, columns[level])
	if sym == 0 && level&1 == 1 {
		sym = k.sym(code, columns[level-1])
	}
	if state&xproto.ModMaskLock != 0 && letter(sym) && level < 2 {
		if other := k.sym(code, columns[1-level]); other != 0 {
			sym = other
		}
	}
	return sym
}

// shape gives the window the marks' shape, and shows it where there are any.
func (s *Sign) shape() {
	var bits []xproto.Rectangle
	for _, r := range s.marks.Bits() {
		bits = append(bits, xproto.Rectangle{X: int16(r.Min.X), Y: int16(r.Min.Y), Width: uint16(r.Dx()), Height: uint16(r.Dy())})
	}
	if len(bits) == 0 {
		xproto.UnmapWindow(s.x, s.over)
		return
	}
	shape.Rectangles(s.x, shape.SoSet, shape.SkBounding, 0, s.over, 0, 0, bits)
	xproto.MapWindow(s.x, s.over)
	xproto.ConfigureWindow(s.x, s.over, xproto.ConfigWindowStackMode, []uint32{xproto.StackModeAbove})
	xproto.ClearArea(s.x, false, s.over, 0, 0, 0, 0)
	s.marks.Labels(func(p sign.Painting, at image.Point) { s.put(p, s.over, at) })
}

// putRows is how many rows go with one request: the server takes 256 KiB at once.
const putRows = 32

// put shows a painting in a window.
func (s *Sign) put(p sign.Painting, window xproto.Window, at image.Point) {
	w := p.Rect.Dx()
	for y := 0; y < p.Rect.Dy(); y += putRows {
		n := min(putRows, p.Rect.Dy()-y)
		b := make([]byte, 4*w*n)
		for i := range w * n {
			from := p.Pix[(y+i/w)*p.Stride+4*(i%w):]
			b[4*i], b[4*i+1], b[4*i+2] = from[2], from[1], from[0]
		}
		xproto.PutImage(s.x, xproto.ImageFormatZPixmap, xproto.Drawable(window), s.gc, uint16(w), uint16(n), int16(at.X), int16(at.Y+y), 0,
			s.depth, b)
	}
}
