// Package console shows consoles that are reached from a device over its network, as desktops that are
// looked at and worked on like its own: those of virtual machines, management boards and other servers
// of RFB (core/rfb).
package console

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/png"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/keys"
	"moorwatch.example/core/rfb"
	"moorwatch.example/core/screen"
)

// Times of a console.
const (
	dialWithin  = 5 * time.Second
	beginWithin = 10 * time.Second // from being connected to the picture's size
	writeWithin = 10 * time.Second
	typePause   = 8 * time.Millisecond // between typed characters: firmware loses those that come at once
	mostTurns   = 20                   // steps of a wheel at once
)

// Screen implements host.Screen.
type Screen struct {
	desktop link.Desktop
	conn    net.Conn
	rfb     *rfb.Client
	news    chan struct{} // has room for one

	mu      sync.Mutex
	change  host.ScreenChange
	err     error
	at      image.Point
	buttons byte
	down    map[string]uint32 // keysyms that are down, by the viewer's key
}

var _ host.Screen = (*Screen)(nil)

// Open connects to a console.
func Open(ctx context.Context, o link.ConsoleOrder) (*Screen, error) {
	dialer := net.Dialer{Timeout: dialWithin}
	conn, err := dialer.DialContext(ctx, "tcp", o.Address)
	if err != nil {
		return nil, refuse(http.StatusConflict, "The console at "+o.Address+" does not answer: "+err.Error()+".")
	}
	conn.SetDeadline(time.Now().Add(beginWithin))
	client, err := rfb.Begin(&patient{conn}, o.Secret)
	if err != nil {
		conn.Close()
		return nil, refuse(http.StatusConflict, "The console at "+o.Address+" cannot be opened: "+device.CleanText(err.Error())+".")
	}
	conn.SetDeadline(time.Time{})
	s := &Screen{conn: conn, rfb: client, news: make(chan struct{}, 1), down: map[string]uint32{},
		desktop: link.Desktop{ID: o.ID, Title: device.CleanText(o.Title), Active: true}}
	s.change.Layout = true
	if err := client.Ask(); err != nil {
		conn.Close()
		return nil, err
	}
	s.nudge()
	go s.listen()
	return s, nil
}

// patient bounds how long a write may take.
type patient struct{ net.Conn }

func (p *patient) Write(b []byte) (int, error) {
	p.SetWriteDeadline(time.Now().Add(writeWithin))
	return p.Conn.Write(b)
}

func refuse(status int, reason string) error { return &link.Problem{Status: status, Reason: reason} }

// mostParts is how many damaged parts are kept apart while nobody waits.
const mostParts = 64

// listen takes what the server tells, until it ends.
func (s *Screen) listen() {
	for {
		c, err := s.rfb.Next()
		s.mu.Lock()
		s.err = err
		s.change.Layout = s.change.Layout || c.Sized
		if c.Sized {
			s.change.Damage = []image.Rectangle{{Max: s.rfb.Size()}}
		}
		if s.change.Damage = append(s.change.Damage, c.Damage...); len(s.change.Damage) > mostParts {
			all := image.Rectangle{}
			for _, r := range s.change.Damage {
				all = all.Union(r)
			}
			s.change.Damage = []image.Rectangle{all}
		}
		if c.Cursor != nil {
			var b bytes.Buffer
			if png.Encode(&b, c.Cursor.Image) == nil {
				s.change.Cursor = &link.ScreenCursor{PNG: b.Bytes(), X: c.Cursor.At.X, Y: c.Cursor.At.Y}
			}
		}
		if c.Text != nil {
			s.change.Clip = &link.ScreenClip{Text: *c.Text}
		}
		s.mu.Unlock()
		s.nudge()
		if err != nil {
			return
		}
	}
}

func (s *Screen) nudge() {
	select {
	case s.news <- struct{}{}:
	default:
	}
}

// Desktop and Layout implement host.Screen.
func (s *Screen) Desktop() link.Desktop { return s.desktop }
func (s *Screen) Layout() (image.Point, []link.Monitor) {
	size := s.rfb.Size()
	return size, []link.Monitor{{Name: "Console", Width: size.X, Height: size.Y, Primary: true}}
}

// Wait implements host.Screen. The server is asked for more only when what it told was taken, so that
// it tells no more than is looked at.
func (s *Screen) Wait(ctx context.Context) (host.ScreenChange, error) {
	for {
		s.mu.Lock()
		c, err := s.change, s.err
		s.change = host.ScreenChange{}
		s.mu.Unlock()
		if err != nil {
			return c, err
		}
		if c.Damage != nil {
			if err := s.rfb.Ask(); err != nil {
				return c, err
			}
		}
		if c.Damage != nil || c.Layout || c.Cursor != nil || c.Clip != nil {
			return c, nil
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-s.news:
		}
	}
}

// Grab implements host.Screen.
func (s *Screen) Grab(into *screen.Picture, r image.Rectangle) error {
	s.rfb.Grab(into, r)
	return nil
}

// Press implements host.Screen. The protocol knows keys by their meaning alone.
func (s *Screen) Press(k link.ScreenKey) error {
	name := k.Code
	if name == "" {
		name = k.Key
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !k.Down {
		if sym, ok := s.down[name]; ok {
			delete(s.down, name)
			return s.rfb.Key(sym, false)
		}
		return nil
	}
	sym := keys.Of(k.Key, k.Code)
	if sym == 0 {
		return refuse(http.StatusUnprocessableEntity, "The console has no such key.")
	}
	s.down[name] = sym
	return s.rfb.Key(sym, true)
}

// Type implements host.Screen.
func (s *Screen) Type(ctx context.Context, text string) error {
	for _, r := range text {
		sym := keys.Typed(r)
		if sym == 0 {
			continue
		}
		if err := errors.Join(s.rfb.Key(sym, true), s.rfb.Key(sym, false)); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(typePause):
		}
	}
	return nil
}

// Attend implements host.Screen.
func (s *Screen) Attend() (err error) {
	for _, sym := range keys.Attention {
		err = errors.Join(err, s.rfb.Key(sym, true))
	}
	for _, sym := range slices.Backward(keys.Attention[:]) {
		err = errors.Join(err, s.rfb.Key(sym, false))
	}
	return err
}

// Point implements host.Screen: RFB's second button is the middle one, and its third UI Events' second.
func (s *Screen) Point(at image.Point, buttons int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at, s.buttons = at, byte(buttons&1|buttons&4>>1|buttons&2<<1)
	return s.rfb.Point(at, s.buttons)
}

// Turn implements host.Screen.
func (s *Screen) Turn(right, down int) (err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, way := range []struct {
		n    int
		less byte
	}{{down, 8}, {right, 32}} {
		button := way.less
		if way.n > 0 {
			button <<= 1
		}
		for range min(max(way.n, -way.n), mostTurns) {
			err = errors.Join(err, s.rfb.Point(s.at, s.buttons|button), s.rfb.Point(s.at, s.buttons))
		}
	}
	return err
}

// Release implements host.Screen.
func (s *Screen) Release() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, sym := range s.down {
		s.rfb.Key(sym, false)
		delete(s.down, name)
	}
	if s.buttons != 0 {
		s.buttons = 0
		s.rfb.Point(s.at, 0)
	}
}

// SetClip implements host.Screen.
func (s *Screen) SetClip(c link.ScreenClip) error {
	if c.Text == "" {
		return refuse(http.StatusUnprocessableEntity, "The console's clipboard holds text alone.")
	}
	return s.rfb.Cut(c.Text)
}

// Hold implements host.Screen.
func (s *Screen) Hold(held bool, _ func()) error {
	if !held {
		return nil
	}
	return refuse(http.StatusNotImplemented, "Who sits at a console cannot be held back from it.")
}

// Close implements host.Screen.
func (s *Screen) Close() error {
	s.Release()
	return s.conn.Close()
}
