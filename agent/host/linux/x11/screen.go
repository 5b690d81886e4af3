//go:build linux

package x11

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"sync"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/damage"
	"github.com/jezek/xgb/randr"
	"github.com/jezek/xgb/xfixes"
	"github.com/jezek/xgb/xproto"
	"github.com/jezek/xgb/xtest"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// pointerEvery is how often it is looked whether somebody moved the pointer: X tells nobody.
const pointerEvery = 80 * time.Millisecond

// errGone is returned when the display server has ended.
var errGone = errors.New("the display server has ended")

// Screen implements host.Screen.
type Screen struct {
	desktop link.Desktop
	x       *xgb.Conn
	root    xproto.Window
	own     xproto.Window // unseen; holds selections
	damage  damage.Damage
	region  xfixes.Region
	memory  memory
	keys    keyboard
	clip    clipboard
	hold    holder

	news chan struct{} // something came; has room for one

	mu       sync.Mutex
	size     image.Point
	monitors []link.Monitor
	damaged  bool // the server has more than it told
	whole    bool // all must be grabbed anew
	layout   bool
	cursor   bool // its shape is to be read
	clipped  *link.ScreenClip
	gone     bool
	pointer  image.Point // where it was last seen, or put
	buttons  int
}

var _ host.Screen = (*Screen)(nil)

// Open opens the display of a desktop, such as :0, of the person with an id, whose authority file
// is at a path.
func Open(desktop link.Desktop, display, authority string, uid uint32) (*Screen, error) {
	x, err := connect(display, authority, uid)
	if err != nil {
		return nil, &link.Problem{Status: http.StatusConflict,
			Reason: fmt.Sprintf("The display %s does not let itself be looked at: %v.", display, err)}
	}
	s := &Screen{desktop: desktop, x: x, news: make(chan struct{}, 1), whole: true, layout: true, cursor: true, pointer: image.Pt(-1, -1)}
	if err := s.begin(uid); err != nil {
		x.Close()
		return nil, err
	}
	go s.listen()
	return s, nil
}

func (s *Screen) begin(uid uint32) error {
	for _, extension := range []struct {
		name  string
		begin func() error
	}{
		{"DAMAGE", func() error {
			if err := damage.Init(s.x); err != nil {
				return err
			}
			_, err := damage.QueryVersion(s.x, 1, 1).Reply()
			return err
		}},
		{"XFIXES", func() error {
			if err := xfixes.Init(s.x); err != nil {
				return err
			}
			_, err := xfixes.QueryVersion(s.x, 5, 0).Reply()
			return err
		}},
		{"RANDR", func() error {
			if err := randr.Init(s.x); err != nil {
				return err
			}
			_, err := randr.QueryVersion(s.x, 1, 5).Reply()
			return err
		}},
		{"XTEST", func() error {
			if err := xtest.Init(s.x); err != nil {
				return err
			}
			_, err := xtest.GetVersion(s.x, 2, 2).Reply()
			return err
		}},
	} {
		if err := extension.begin(); err != nil {
			return &link.Problem{Status: http.StatusNotImplemented,
				Reason: fmt.Sprintf("The display server lacks %s, without which its screen cannot be shared.", extension.name)}
		}
	}
	setup := xproto.Setup(s.x)
	root := setup.DefaultScreen(s.x)
	s.root = root.Root
	if root.RootDepth != 24 && root.RootDepth != 32 || setup.ImageByteOrder != xproto.ImageOrderLSBFirst {
		return &link.Problem{Status: http.StatusNotImplemented,
			Reason: fmt.Sprintf("The display has %d bits of colour; 24 are needed.", root.RootDepth)}
	}
	var err error
	if s.own, err = xproto.NewWindowId(s.x); err != nil {
		return err
	}
	xproto.CreateWindow(s.x, 0, s.own, s.root, -10, -10, 1, 1, 0, xproto.WindowClassInputOnly, root.RootVisual,
		xproto.CwOverrideRedirect|xproto.CwEventMask, []uint32{1, xproto.EventMaskPropertyChange})
	if s.damage, err = damage.NewDamageId(s.x); err != nil {
		return err
	}
	if s.region, err = xfixes.NewRegionId(s.x); err != nil {
		return err
	}
	xfixes.CreateRegion(s.x, s.region, nil)
	xfixes.SelectCursorInput(s.x, s.root, xfixes.CursorNotifyMaskDisplayCursor)
	// Of monitors that are told to the server by hand it tells by the root window alone.
	xproto.ChangeWindowAttributes(s.x, s.root, xproto.CwEventMask, []uint32{xproto.EventMaskStructureNotify})
	randr.SelectInput(s.x, s.root, randr.NotifyMaskScreenChange|randr.NotifyMaskCrtcChange|randr.NotifyMaskOutputChange)
	if err := damage.CreateChecked(s.x, s.damage, xproto.Drawable(s.root), damage.ReportLevelNonEmpty).Check(); err != nil {
		return err
	}
	if err := s.measure(); err != nil {
		return err
	}
	if err := s.keys.begin(s.x, s.root); err != nil {
		return err
	}
	s.clip.begin(s.x, s.own)
	s.memory.open(s.x, s.size, uid)
	s.moved() // from where it stands now on
	return nil
}

// measure reads the desktop's size and its monitors.
func (s *Screen) measure() error {
	g, err := xproto.GetGeometry(s.x, xproto.Drawable(s.root)).Reply()
	if err != nil {
		return err
	}
	size := image.Pt(int(g.Width), int(g.Height))
	var all []link.Monitor
	if list, err := randr.GetMonitors(s.x, s.root, true).Reply(); err == nil {
		for i, m := range list.Monitors {
			one := link.Monitor{Name: fmt.Sprintf("Monitor %d", i+1), X: int(m.X), Y: int(m.Y), Width: int(m.Width), Height: int(m.Height),
				Primary: m.Primary}
			if name, err := xproto.GetAtomName(s.x, m.Name).Reply(); err == nil {
				one.Name = name.Name
			}
			all = append(all, one)
		}
	}
	if len(all) == 0 {
		all = []link.Monitor{{Name: "Screen", Width: size.X, Height: size.Y, Primary: true}}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.size, s.monitors, s.whole, s.layout = size, all, true, true
	return nil
}

// listen takes what the server tells, until it ends.
func (s *Screen) listen() {
	for {
		e, err := s.x.WaitForEvent()
		if e == nil && err == nil {
			s.note(func() { s.gone = true })
			return
		}
		switch e := e.(type) {
		case damage.NotifyEvent:
			s.note(func() { s.damaged = true })
		case xfixes.CursorNotifyEvent:
			s.note(func() { s.cursor = true })
		case randr.ScreenChangeNotifyEvent, randr.NotifyEvent, xproto.ConfigureNotifyEvent:
			if s.measure() == nil {
				s.note(func() {})
			}
		case xproto.MappingNotifyEvent:
			s.keys.changed()
		default:
			if clip := s.clip.event(e); clip != nil {
				s.note(func() { s.clipped = clip })
			}
		}
	}
}

func (s *Screen) note(change func()) {
	s.mu.Lock()
	change()
	s.mu.Unlock()
	select {
	case s.news <- struct{}{}:
	default:
	}
}

// Desktop and Layout implement host.Screen.
func (s *Screen) Desktop() link.Desktop { return s.desktop }
func (s *Screen) Layout() (image.Point, []link.Monitor) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.size, s.monitors
}

// Wait implements host.Screen.
func (s *Screen) Wait(ctx context.Context) (c host.ScreenChange, err error) {
	tick := time.NewTicker(pointerEvery)
	defer tick.Stop()
	for {
		s.mu.Lock()
		gone, damaged, whole, cursor := s.gone, s.damaged, s.whole, s.cursor
		c.Layout, c.Clip = s.layout, s.clipped
		size := s.size
		s.damaged, s.whole, s.cursor, s.layout, s.clipped = false, false, false, false, nil
		s.mu.Unlock()
		if gone {
			return c, errGone
		}
		switch {
		case whole:
			damage.Subtract(s.x, s.damage, 0, 0)
			c.Damage = []image.Rectangle{{Max: size}}
		case damaged:
			damage.Subtract(s.x, s.damage, 0, s.region)
			if parts, err := xfixes.FetchRegion(s.x, s.region).Reply(); err == nil {
				for _, r := range parts.Rectangles {
					r := image.Rect(int(r.X), int(r.Y), int(r.X)+int(r.Width), int(r.Y)+int(r.Height)).Intersect(image.Rectangle{Max: size})
					if !r.Empty() {
						c.Damage = append(c.Damage, r)
					}
				}
			}
		}
		if cursor {
			c.Cursor = s.shape()
		}
		c.Pointer = s.moved()
		if c.Damage != nil || c.Layout || c.Cursor != nil || c.Pointer != nil || c.Clip != nil {
			return c, nil
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-s.news:
		case <-tick.C:
		}
	}
}

// moved tells where the pointer stands when another hand moved it.
func (s *Screen) moved() *image.Point {
	at, err := xproto.QueryPointer(s.x, s.root).Reply()
	if err != nil {
		return nil
	}
	p := image.Pt(int(at.RootX), int(at.RootY))
	s.mu.Lock()
	defer s.mu.Unlock()
	if p == s.pointer {
		return nil
	}
	s.pointer = p
	return &p
}

// shape reads how the pointer looks.
func (s *Screen) shape() *link.ScreenCursor {
	c, err := xfixes.GetCursorImage(s.x).Reply()
	if err != nil || int(c.Width)*int(c.Height) > len(c.CursorImage) {
		return nil
	}
	m := image.NewNRGBA(image.Rect(0, 0, max(int(c.Width), 1), max(int(c.Height), 1)))
	for i, v := range c.CursorImage[:int(c.Width)*int(c.Height)] {
		m.Set(i%int(c.Width), i/int(c.Width), color.RGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), uint8(v >> 24)})
	}
	var b bytes.Buffer
	if png.Encode(&b, m) != nil {
		return nil
	}
	return &link.ScreenCursor{PNG: b.Bytes(), X: int(c.Xhot), Y: int(c.Yhot)}
}

// Grab implements host.Screen. What cannot be had because the desktop changes its size just now is
// left as it is; its new layout is told.
func (s *Screen) Grab(into *screen.Picture, r image.Rectangle) error {
	err := s.memory.grab(s.x, s.root, into, r)
	if err == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gone {
		return errGone
	}
	s.whole = true
	return nil
}

// Close implements host.Screen.
func (s *Screen) Close() error {
	s.hold.release()
	s.Release()
	s.keys.end()
	s.x.Sync()
	s.memory.close(s.x)
	s.x.Close()
	return nil
}
