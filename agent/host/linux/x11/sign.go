//go:build linux

package x11

import (
	"image"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/shape"
	"github.com/jezek/xgb/xproto"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// Sizes of the sign, in pixels.
const (
	signWidth  = 320
	signMargin = 16 // from the edges of the desktop
	headHeight = 32
	saidLines  = 8
	fieldRows  = 28
	buttonRows = 30
	inset      = 12
)

// The words on the sign.
const (
	wordsHeld = "Your keyboard and mouse rest. Press Esc three times to take them back."
	wordsSay  = "Write here to answer, then Enter"
	wordsEnd  = "End the session"
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
	acts   host.SignActs
	orders chan func()
	done   chan struct{}

	// What follows is run's alone.
	marks marks
	lines []string
	held  bool
	said  []link.ScreenNote
	typed []rune
	small bool // its head alone is shown
	at    image.Point
	high  int
	field image.Rectangle
	end   image.Rectangle
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
	s := &Sign{x: x, root: screen.Root, depth: screen.RootDepth, acts: acts, orders: make(chan func(), 64), done: make(chan struct{}),
		size: image.Pt(int(screen.WidthInPixels), int(screen.HeightInPixels))}
	s.at = image.Pt(max(s.size.X-signWidth-signMargin, 0), signMargin)
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
	if s.marks.window, err = xproto.NewWindowId(s.x); err != nil {
		return err
	}
	if s.gc, err = xproto.NewGcontextId(s.x); err != nil {
		return err
	}
	const values = xproto.CwBackPixel | xproto.CwOverrideRedirect | xproto.CwEventMask
	back := uint32(paper.R)<<16 | uint32(paper.G)<<8 | uint32(paper.B)
	xproto.CreateWindow(s.x, s.depth, s.window, s.root, int16(s.at.X), int16(s.at.Y), signWidth, headHeight, 0, xproto.WindowClassInputOutput, screen.RootVisual, values,
		[]uint32{back, 1, xproto.EventMaskExposure | xproto.EventMaskButtonPress | xproto.EventMaskButtonRelease | xproto.EventMaskPointerMotion | xproto.EventMaskKeyPress | xproto.EventMaskVisibilityChange})
	mark := uint32(bright.R)<<16 | uint32(bright.G)<<8 | uint32(bright.B)
	xproto.CreateWindow(s.x, s.depth, s.marks.window, s.root, 0, 0, uint16(s.size.X), uint16(s.size.Y), 0, xproto.WindowClassInputOutput, screen.RootVisual, values,
		[]uint32{mark, 1, xproto.EventMaskExposure})
	shape.Rectangles(s.x, shape.SoSet, shape.SkInput, 0, s.marks.window, 0, 0, nil) // the pointer passes through
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
		s.lines, s.held = lines, held
		s.draw()
	})
}

// Say implements host.Sign.
func (s *Sign) Say(n link.ScreenNote) {
	s.order(func() {
		s.said = append(s.said, n)
		if len(s.said) > saidLines {
			s.said = s.said[1:]
		}
		s.small = false
		s.draw()
	})
}

// Mark implements host.Sign.
func (s *Sign) Mark(m host.Mark) {
	s.order(func() {
		s.marks.add(m, time.Now(), s.size)
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
		if changed, next := s.marks.age(time.Now()); next > 0 || changed {
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
	if len(s.lines) == 0 {
		xproto.UnmapWindow(s.x, s.window)
		return
	}
	pen.Lock()
	p := s.paint()
	pen.Unlock()
	s.at.X, s.at.Y = max(min(s.at.X, s.size.X-60), 60-signWidth), max(min(s.at.Y, s.size.Y-headHeight), 0)
	if s.high != p.Rect.Dy() {
		s.high = p.Rect.Dy()
		xproto.ConfigureWindow(s.x, s.window, xproto.ConfigWindowHeight, []uint32{uint32(s.high)})
	}
	xproto.MapWindow(s.x, s.window)
	p.put(s.x, s.window, s.gc, image.Point{}, s.depth)
}

// paint makes the picture of the sign, and notes where what can be pressed is.
func (s *Sign) paint() painting {
	const width = signWidth - 2*inset
	var about, said, held []string
	for _, l := range s.lines {
		about = append(about, folded(l, width)...)
	}
	if s.held {
		held = folded(wordsHeld, width)
	}
	for _, n := range s.said {
		said = append(said, folded(n.Name+": "+n.Text, width)...)
	}
	said = said[max(len(said)-saidLines, 0):]
	high := headHeight
	if !s.small {
		high += inset/2 + (len(about)+len(said))*lineHeight + inset/2 + fieldRows + inset/2 + buttonRows + inset
		if len(held) > 0 {
			high += len(held)*lineHeight + inset
		}
		if len(said) > 0 {
			high += inset
		}
	}
	p := painting{image.NewRGBA(image.Rect(0, 0, signWidth, high))}
	p.fill(p.Rect, heather) // its edge
	p.fill(p.Rect.Inset(1), paper)
	p.fill(image.Rect(0, 0, signWidth, headHeight), heather)
	p.write(image.Pt(inset, 6), "Somebody helps on this computer", white)
	p.fill(image.Rect(signWidth-inset-12, headHeight/2-1, signWidth-inset, headHeight/2+1), white)
	if s.small {
		p.fill(image.Rect(signWidth-inset-7, headHeight/2-6, signWidth-inset-5, headHeight/2+6), white)
		s.field, s.end = image.Rectangle{}, image.Rectangle{}
		return p
	}
	y := headHeight + inset/2
	for _, l := range about {
		p.write(image.Pt(inset, y), l, ink)
		y += lineHeight
	}
	if len(held) > 0 {
		y += inset / 2
		p.fill(image.Rect(1, y, signWidth-1, y+len(held)*lineHeight+inset/2), gorse)
		for i, l := range held {
			p.write(image.Pt(inset, y+inset/4+i*lineHeight), l, ink)
		}
		y += len(held)*lineHeight + inset/2
	}
	if len(said) > 0 {
		y += inset / 2
		p.fill(image.Rect(inset, y, signWidth-inset, y+1), line)
		y += inset / 2
		for _, l := range said {
			p.write(image.Pt(inset, y), l, ink)
			y += lineHeight
		}
	}
	y += inset / 2
	s.field = image.Rect(inset, y, signWidth-inset, y+fieldRows)
	p.fill(s.field, line)
	p.fill(s.field.Inset(1), white)
	if len(s.typed) == 0 {
		p.write(image.Pt(s.field.Min.X+7, y+4), wordsSay, faint)
	} else {
		shown := s.typed
		for len(shown) > 1 && widthOf(string(shown)) > width-18 { // its end is what is looked at
			shown = shown[1:]
		}
		p.write(image.Pt(s.field.Min.X+7, y+4), string(shown), ink)
		caret := s.field.Min.X + 8 + widthOf(string(shown))
		p.fill(image.Rect(caret, y+5, caret+1, y+fieldRows-5), ink)
	}
	y += fieldRows + inset/2
	s.end = image.Rect(signWidth-inset-widthOf(wordsEnd)-24, y, signWidth-inset, y+buttonRows)
	p.fill(s.end, heather)
	p.write(image.Pt(s.end.Min.X+12, y+5), wordsEnd, white)
	return p
}

// event takes what the person does.
func (s *Sign) event(e xgb.Event) {
	switch e := e.(type) {
	case xproto.ExposeEvent:
		if e.Window == s.marks.window {
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
			xproto.ConfigureWindow(s.x, s.window, xproto.ConfigWindowX|xproto.ConfigWindowY, []uint32{uint32(int32(s.at.X)), uint32(int32(s.at.Y))})
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
	switch {
	case at.Y < headHeight && at.X > signWidth-inset-20:
		s.small = !s.small
		s.draw()
	case at.Y < headHeight:
		s.grip = &at
	case at.In(s.end):
		go s.acts.End()
	default:
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
		s.typed = s.typed[:max(len(s.typed)-1, 0)]
	case sym == symEnter, sym == symPadEnter:
		text := strings.TrimSpace(string(s.typed))
		s.typed = nil
		if text != "" {
			go s.acts.Say(text)
		}
	case sym == symEscape:
		xproto.SetInputFocus(s.x, xproto.InputFocusPointerRoot, xproto.InputFocusPointerRoot, xproto.TimeCurrentTime)
	case e.State&(xproto.ModMaskControl|xproto.ModMask1) != 0:
	default:
		r := rune(0)
		if sym >= symCharacters {
			r = rune(sym - symCharacters)
		} else if sym <= 0xff {
			r = rune(sym)
		}
		if unicode.IsPrint(r) && len(string(s.typed)) < link.MaxScreenNote-4 {
			s.typed = append(s.typed, r)
		}
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
