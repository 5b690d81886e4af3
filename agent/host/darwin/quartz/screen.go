//go:build darwin

package quartz

import (
	"context"
	"errors"
	"fmt"
	"image"
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/ebitengine/purego/objc"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/polling"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// Desk works on the desktop of this session. Its zero value is ready.
type Desk struct{}

func problem(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// Desktops implements host.Screens.
func (Desk) Desktops(context.Context) (link.DesktopList, error) {
	return link.DesktopList{Items: []link.Desktop{{ID: "desktop", Title: "Desktop", Active: true}}}, nil
}

// LetGo implements host.Screens: macOS lets go of the keys of a process that has ended.
func (Desk) LetGo() {}

// Open implements host.Screens. Without the person's permission it is refused with 412, and the system
// asks them.
func (Desk) Open(context.Context, string) (host.Screen, error) {
	if err := load(); err != nil {
		return nil, problem(http.StatusNotImplemented, "The screen cannot be looked at: %v.", err)
	}
	if !api.PreflightScreenCaptureAccess() && !api.RequestScreenCaptureAccess() {
		return nil, problem(http.StatusPreconditionFailed,
			"macOS shows the screen to a program once the person at it has allowed that: under System Settings, Privacy & Security, "+
				"Screen Recording, for moor-agent. They are asked now.")
	}
	s := &Screen{first: true, pointer: image.Pt(-1, -1), down: map[string]stroke{}, clips: objc.Send[int](pasteboard, changeCount)}
	if err := s.lay(); err != nil {
		return nil, problem(http.StatusConflict, "The desktop cannot be looked at: %v.", err)
	}
	return s, nil
}

// Screen implements host.Screen. A desktop is as large as its points, which are two pixels each way on
// displays of a high density: so the places of the picture and of the pointer are the same.
type Screen struct {
	mu       sync.Mutex
	area     image.Rectangle // of all displays, in points
	displays []display
	context  uintptr // a bitmap that pixels stand in
	pixels   []uint32
	shown    []uint32
	first    bool
	pace     polling.Pace
	closed   bool
	pointer  image.Point
	buttons  int
	down     map[string]stroke
	held     uint64 // flags of the keys that are down
	clips    int    // the clipboard's count of changes that is known
	clip     string // what was put there from here
}

type display struct {
	id   uint32
	area image.Rectangle
}

var _ host.Screen = (*Screen)(nil)

// mostDisplays is how many displays are asked for.
const mostDisplays = 16

func displays() ([]display, image.Rectangle, error) {
	var ids [mostDisplays]uint32
	var n uint32
	if e := api.GetActiveDisplayList(mostDisplays, &ids[0], &n); e != 0 {
		return nil, image.Rectangle{}, fmt.Errorf("CoreGraphics gives error %d", e)
	}
	var all []display
	var area image.Rectangle
	for _, id := range ids[:n] {
		b := api.DisplayBounds(id)
		d := display{id, image.Rect(int(b.At.X), int(b.At.Y), int(b.At.X+b.Size.W), int(b.At.Y+b.Size.H))}
		all, area = append(all, d), area.Union(d.area)
	}
	if area.Empty() {
		return nil, area, errors.New("no display is on")
	}
	return all, area, nil
}

// lay finds how the desktop is laid out. s.mu is held, but by Open.
func (s *Screen) lay() error {
	all, area, err := displays()
	if err != nil {
		return err
	}
	s.drop()
	w, h := area.Dx(), area.Dy()
	s.pixels, s.shown = make([]uint32, w*h), make([]uint32, w*h)
	const skipFirst32Little = 6 | 2<<12 // kCGImageAlphaNoneSkipFirst, kCGBitmapByteOrder32Little
	space := api.ColorSpaceCreateDeviceRGB()
	defer api.release(space)
	if s.context = api.BitmapContextCreate(&s.pixels[0], uintptr(w), uintptr(h), 8, uintptr(4*w), space,
		skipFirst32Little); s.context == 0 {
		return errors.New("there is no memory for it")
	}
	const low = 2 // kCGInterpolationLow
	api.ContextSetInterpolationQuality(s.context, low)
	s.area, s.displays, s.first = area, all, true
	return nil
}

func (s *Screen) drop() {
	if s.context != 0 {
		api.release(s.context)
		s.context = 0
	}
}

// Desktop implements host.Screen.
func (s *Screen) Desktop() link.Desktop {
	return link.Desktop{ID: "desktop", Title: "Desktop", Active: true}
}

// Layout implements host.Screen.
func (s *Screen) Layout() (image.Point, []link.Monitor) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []link.Monitor
	for i, d := range s.displays {
		at := d.area.Sub(s.area.Min)
		list = append(list, link.Monitor{Name: fmt.Sprintf("Display %d", i+1), X: at.Min.X, Y: at.Min.Y, Width: at.Dx(), Height: at.Dy(),
			Primary: d.id == api.MainDisplayID()})
	}
	return s.area.Size(), list
}

// Wait implements host.Screen. The desktop is copied and compared.
func (s *Screen) Wait(ctx context.Context) (host.ScreenChange, error) {
	for {
		began := time.Now()
		c, pause, err := s.poll(began)
		if err != nil || c.Damage != nil || c.Layout || c.Pointer != nil || c.Clip != nil {
			return c, err
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-time.After(pause):
		}
	}
}

func (s *Screen) poll(began time.Time) (c host.ScreenChange, pause time.Duration, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return c, 0, context.Canceled
	}
	all, area, err := displays()
	if err != nil {
		return c, 0, err
	}
	if area != s.area || !slices.Equal(all, s.displays) {
		if err := s.lay(); err != nil {
			return c, 0, err
		}
	}
	for _, d := range s.displays {
		picture := api.DisplayCreateImage(d.id)
		if picture == 0 {
			continue // while displays change there is none for a moment
		}
		at := d.area.Sub(s.area.Min)
		// The bitmap's rows are counted from its foot.
		api.ContextDrawImage(s.context, rect{point{float64(at.Min.X), float64(s.area.Dy() - at.Max.Y)},
			extent{float64(at.Dx()), float64(at.Dy())}}, picture)
		api.release(picture)
	}
	c.Damage = polling.Differences(s.shown, s.pixels, s.area.Dx(), s.area.Dy(), s.first)
	c.Layout, s.first = s.first, false
	event := api.EventCreate(0)
	where := api.EventGetLocation(event)
	api.release(event)
	if at := image.Pt(int(where.X), int(where.Y)).Sub(s.area.Min); at != s.pointer {
		if s.pointer.X >= 0 {
			c.Pointer = &at
		}
		s.pointer = at
	}
	c.Clip = s.copied()
	return c, s.pace.Pause(began, len(c.Damage) > 0 || c.Pointer != nil), nil
}

// Grab implements host.Screen: what was seen at the last Wait is copied.
func (s *Screen) Grab(into *screen.Picture, r image.Rectangle) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	polling.Grab(into, r, s.shown, s.area.Size())
	return nil
}

var changeCount = objc.RegisterName("changeCount")

// clipWithin is how long a program of the clipboard may take.
const clipWithin = 3 * time.Second

// copied tells what the person copied, if it is text. s.mu is held.
func (s *Screen) copied() *link.ScreenClip {
	count := objc.Send[int](pasteboard, changeCount)
	if count == s.clips {
		return nil
	}
	s.clips = count
	ctx, cancel := context.WithTimeout(context.Background(), clipWithin)
	defer cancel()
	text, err := exec.CommandContext(ctx, "/usr/bin/env", "LC_CTYPE=UTF-8", "/usr/bin/pbpaste", "-Prefer", "txt").Output()
	if err != nil || len(text) == 0 || len(text) > link.MaxScreenText || string(text) == s.clip {
		return nil
	}
	s.clip = string(text)
	return &link.ScreenClip{Text: s.clip}
}

// SetClip implements host.Screen.
func (s *Screen) SetClip(c link.ScreenClip) error {
	if len(c.Text) > link.MaxScreenText {
		return problem(http.StatusRequestEntityTooLarge, "That is too much for the clipboard: copy it as a file.")
	}
	if c.Text == "" {
		return problem(http.StatusNotImplemented, "The agent puts texts alone on the clipboard of a Mac.")
	}
	s.mu.Lock()
	s.clip = c.Text
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), clipWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/usr/bin/env", "LC_CTYPE=UTF-8", "/usr/bin/pbcopy")
	cmd.Stdin = strings.NewReader(c.Text)
	if err := cmd.Run(); err != nil {
		return problem(http.StatusConflict, "The clipboard does not take it: %v.", err)
	}
	return nil
}

// Attend implements host.Screen: the three keys mean nothing to a Mac.
func (s *Screen) Attend() error {
	return problem(http.StatusNotImplemented, "Ctrl+Alt+Del means nothing to a Mac: Option+Command+Escape shows what can be ended.")
}

// Hold implements host.Screen.
func (s *Screen) Hold(held bool, _ func()) error {
	if !held {
		return nil
	}
	return problem(http.StatusNotImplemented, "The agent cannot keep the person's keyboard and mouse back on a Mac: work together "+
		"with them.")
}

// Close implements host.Screen.
func (s *Screen) Close() error {
	s.Release()
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.closed {
		s.closed = true
		s.drop()
	}
	return nil
}
