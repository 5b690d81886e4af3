//go:build windows

package desk

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"net/http"
	"slices"
	"sync"
	"time"
	"unsafe"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/polling"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

var (
	getCursorInfo   = user32.NewProc("GetCursorInfo")
	getIconInfo     = user32.NewProc("GetIconInfo")
	drawIconEx      = user32.NewProc("DrawIconEx")
	lockWorkStation = user32.NewProc("LockWorkStation")
)

// Desk works on the desktop of this session. Its zero value is ready.
type Desk struct{}

// id is the one desktop of a session.
const id = "desktop"

func this() link.Desktop {
	d := link.Desktop{ID: id, Title: "Desktop", Active: true}
	if inputDesktop() == "Winlogon" {
		d.Locked, d.Title = true, "Log-in screen"
	}
	return d
}

// Desktops implements host.Screens.
func (Desk) Desktops(context.Context) (link.DesktopList, error) {
	return link.DesktopList{Items: []link.Desktop{this()}}, nil
}

// LetGo implements host.Screens.
func (Desk) LetGo() {
	t := begin(true)
	defer t.end()
	t.do(letGo)
}

// Lock implements helper.Talker.
func (Desk) Lock() error {
	if ok, _, err := lockWorkStation.Call(); ok == 0 {
		return err
	}
	return nil
}

var awareOnce sync.Once

// Open implements host.Screens.
func (Desk) Open(context.Context, string) (host.Screen, error) {
	awareOnce.Do(func() { // the desktop's own pixels are seen, not scaled ones
		if dpiAware.Find() == nil {
			const perMonitor2 = ^uintptr(3)
			dpiAware.Call(perMonitor2)
		}
	})
	s := &Screen{thread: begin(true), desktop: this(), down: map[string][]keyInput{}, first: true, pointer: image.Pt(-1, -1)}
	var err error
	s.thread.do(func() { err = s.lay() })
	if err != nil {
		s.thread.end()
		return nil, &link.Problem{Status: http.StatusConflict, Reason: "The desktop cannot be looked at: " + err.Error() + "."}
	}
	s.clips = listen()
	return s, nil
}

// Screen implements host.Screen. What is not guarded belongs to its thread.
type Screen struct {
	thread  *thread
	desktop link.Desktop
	clips   *clips
	hold    holder

	copier  *copier
	down    map[string][]keyInput
	pointer image.Point // where it was put, or seen last
	buttons int
	cursor  uintptr
	first   bool
	pace    polling.Pace

	mu       sync.Mutex
	size     image.Point
	monitors []link.Monitor
	closed   bool
}

var _ host.Screen = (*Screen)(nil)

// lay finds how the desktop is laid out.
func (s *Screen) lay() error {
	where := area()
	c, err := newCopier(where)
	if err != nil {
		return err
	}
	if s.copier != nil {
		s.copier.close()
	}
	s.copier = c
	s.mu.Lock()
	defer s.mu.Unlock()
	s.size, s.monitors = where.Size(), slices.Clone(monitors(where))
	return nil
}

// Desktop and Layout implement host.Screen.
func (s *Screen) Desktop() link.Desktop { return s.desktop }
func (s *Screen) Layout() (image.Point, []link.Monitor) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.size, s.monitors
}

// Wait implements host.Screen. GDI tells of no changes, so that the desktop is copied and compared.
func (s *Screen) Wait(ctx context.Context) (host.ScreenChange, error) {
	for {
		var c host.ScreenChange
		var err error
		var pause time.Duration
		began := time.Now()
		s.thread.do(func() {
			c, err = s.poll()
			pause = s.pace.Pause(began, len(c.Damage) > 0 || c.Pointer != nil)
		})
		s.mu.Lock()
		if s.closed && err == nil {
			err = context.Canceled
		}
		s.mu.Unlock()
		if c.Clip = s.clips.news(); err != nil || c.Damage != nil || c.Layout || c.Cursor != nil || c.Pointer != nil || c.Clip != nil {
			return c, err
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-time.After(pause):
		}
	}
}

func (s *Screen) poll() (c host.ScreenChange, err error) {
	if area() != s.copier.area {
		if err := s.lay(); err != nil {
			return c, err
		}
		s.first = true
	}
	if c.Damage, err = s.copier.poll(s.first); err != nil {
		if s.first {
			return c, err
		}
		err = nil // while the desktop is changed for the log-in screen it cannot be copied
	}
	c.Layout, s.first = s.first, false
	s.pollPointer(&c)
	return c, err
}

// cursorInfo is CURSORINFO, and iconInfo ICONINFO.
type cursorInfo struct {
	size, flags uint32
	cursor      uintptr
	x, y        int32
}

type iconInfo struct {
	icon         uint32
	x, y         uint32
	mask, colour uintptr
}

func (s *Screen) pollPointer(c *host.ScreenChange) {
	info := cursorInfo{}
	info.size = uint32(unsafe.Sizeof(info))
	if ok, _, _ := getCursorInfo.Call(uintptr(unsafe.Pointer(&info))); ok == 0 {
		return
	}
	if at := image.Pt(int(info.x), int(info.y)).Sub(s.copier.area.Min); at != s.pointer {
		if s.pointer.X >= 0 {
			c.Pointer = &at
		}
		s.pointer = at
	}
	if info.cursor != s.cursor {
		s.cursor = info.cursor
		c.Cursor = shape(info.cursor)
	}
}

// cursorSide is the side of the square that pointers are drawn in, in pixels.
const cursorSide = 64

// shape draws a pointer on black and on white, which tells how much of each pixel it covers.
func shape(cursor uintptr) *link.ScreenCursor {
	var info iconInfo
	if ok, _, _ := getIconInfo.Call(cursor, uintptr(unsafe.Pointer(&info))); ok == 0 {
		return nil
	}
	for _, bitmap := range []uintptr{info.mask, info.colour} {
		if bitmap != 0 {
			deleteObject.Call(bitmap)
		}
	}
	c, err := newCopier(image.Rect(0, 0, cursorSide, cursorSide))
	if err != nil {
		return nil
	}
	defer c.close()
	draw := func(background uint32) []uint32 {
		for i := range c.pixels {
			c.pixels[i] = background
		}
		const normal = 3 // DI_NORMAL
		drawIconEx.Call(c.dc, 0, 0, cursor, 0, 0, 0, 0, normal)
		return slices.Clone(c.pixels)
	}
	var b bytes.Buffer
	if png.Encode(&b, transparent(draw(0), draw(polling.Mask), cursorSide)) != nil {
		return nil
	}
	return &link.ScreenCursor{PNG: b.Bytes(), X: int(info.x), Y: int(info.y)}
}

// Grab implements host.Screen: what was seen at the last Wait is copied.
func (s *Screen) Grab(into *screen.Picture, r image.Rectangle) error {
	s.thread.do(func() { polling.Grab(into, r, s.copier.shown, s.copier.area.Size()) })
	return nil
}

// Attend implements host.Screen: only the service itself may press the three keys.
func (s *Screen) Attend() error {
	return &link.Problem{Status: http.StatusNotImplemented, Reason: "Ctrl+Alt+Del is pressed by the agent's service alone."}
}

// SetClip implements host.Screen.
func (s *Screen) SetClip(c link.ScreenClip) error {
	if len(c.Text) > link.MaxScreenText || len(c.PNG) > link.MaxScreenImage {
		return &link.Problem{Status: http.StatusRequestEntityTooLarge, Reason: "That is too much for the clipboard: copy it as a file."}
	}
	return s.clips.set(c)
}

// Hold implements host.Screen.
func (s *Screen) Hold(held bool, back func()) error { return s.hold.set(held, back) }

// Close implements host.Screen.
func (s *Screen) Close() error {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil
	}
	s.closed = true
	s.mu.Unlock()
	s.hold.set(false, nil)
	s.Release()
	s.thread.do(s.copier.close)
	s.thread.end()
	s.clips.close()
	return nil
}
