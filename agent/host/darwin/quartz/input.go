//go:build darwin

package quartz

import (
	"cmp"
	"context"
	"image"
	"net/http"
	"time"
	"unicode/utf16"

	"moorwatch.example/contract/link"
)

// flags are what a key that changes others adds to them (CGEventFlags).
var flags = map[uint16]uint64{0x38: 1 << 17, 0x3c: 1 << 17, 0x3b: 1 << 18, 0x3e: 1 << 18, 0x3a: 1 << 19, 0x3d: 1 << 19, 0x37: 1 << 20,
	0x36: 1 << 20}

// tap is where events are put in, before everything (kCGHIDEventTap).
const tap = 0

// allowed tells whether the person lets this program type and point for them. The system drops the events
// of others without a word.
func allowed() error {
	if api.trusted() {
		return nil
	}
	return problem(http.StatusPreconditionFailed,
		"macOS lets a program type and point once the person at it has allowed that: under System Settings, Privacy & Security, "+
			"Accessibility, for moor-agent.")
}

// post sends an event, and forgets it.
func post(event uintptr, flags uint64) {
	if event == 0 {
		return
	}
	api.EventSetFlags(event, flags)
	api.EventPost(tap, event)
	api.release(event)
}

func press(s stroke, down bool, flags uint64) {
	event := api.EventCreateKeyboardEvent(0, s.key, down)
	if event != 0 && len(s.text) > 0 {
		api.EventKeyboardSetUnicodeString(event, uintptr(len(s.text)), &s.text[0])
	}
	post(event, flags)
}

// Press implements host.Screen.
func (s *Screen) Press(k link.ScreenKey) error {
	if err := allowed(); err != nil {
		return err
	}
	name := cmp.Or(k.Code, k.Key)
	s.mu.Lock()
	defer s.mu.Unlock()
	if !k.Down {
		if one, ok := s.down[name]; ok {
			s.up(name, one)
		}
		return nil
	}
	one, ok := strokeOf(k, s.held)
	if !ok {
		return problem(http.StatusUnprocessableEntity, "The device has no key %q.", k.Key)
	}
	s.down[name] = one
	if len(one.text) == 0 {
		s.held |= flags[one.key]
	}
	press(one, true, s.held)
	return nil
}

// up lets go of a key. s.mu is held.
func (s *Screen) up(name string, one stroke) {
	delete(s.down, name)
	s.held = 0
	for _, other := range s.down {
		if len(other.text) == 0 {
			s.held |= flags[other.key]
		}
	}
	press(one, false, s.held)
}

// typePause lies between two characters that are typed: some programs lose keys that come at once.
const typePause = 4 * time.Millisecond

// Type implements host.Screen.
func (s *Screen) Type(ctx context.Context, text string) error {
	if err := allowed(); err != nil {
		return err
	}
	for _, r := range text {
		one := stroke{text: utf16.Encode([]rune{r})}
		switch {
		case r == '\n':
			one = stroke{key: places["Enter"]}
		case r == '\t':
			one = stroke{key: places["Tab"]}
		case r < ' ':
			continue
		}
		press(one, true, 0)
		press(one, false, 0)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(typePause):
		}
	}
	return nil
}

// mouse are the events of buttons, down, up and dragged (CGEventType), and their number (CGMouseButton), in the order in
// which UI Events counts them.
var mouse = [5]struct{ down, up, dragged, button uint32 }{{1, 2, 6, 0}, {3, 4, 7, 1}, {25, 26, 27, 2}, {25, 26, 27, 3}, {25, 26, 27, 4}}

const moved = 5 // kCGEventMouseMoved

// Point implements host.Screen.
func (s *Screen) Point(at image.Point, buttons int) error {
	if err := allowed(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	size := s.area.Size()
	at.X, at.Y = min(max(at.X, 0), size.X-1), min(max(at.Y, 0), size.Y-1)
	where := point{float64(at.X + s.area.Min.X), float64(at.Y + s.area.Min.Y)}
	if at != s.pointer {
		s.pointer = at
		kind, button := uint32(moved), uint32(0)
		for i, m := range mouse {
			if s.buttons>>i&1 == 1 {
				kind, button = m.dragged, m.button
				break
			}
		}
		post(api.EventCreateMouseEvent(0, kind, where, button), s.held)
	}
	for i, m := range mouse {
		if was, is := s.buttons>>i&1, buttons>>i&1; was != is {
			kind := m.down
			if is == 0 {
				kind = m.up
			}
			event := api.EventCreateMouseEvent(0, kind, where, m.button)
			const number = 3 // kCGMouseEventButtonNumber
			if event != 0 {
				api.EventSetIntegerValueField(event, number, int64(m.button))
			}
			post(event, s.held)
		}
	}
	s.buttons = buttons & (1<<len(mouse) - 1)
	return nil
}

// linesOfStep is how many lines a step of the wheel is.
const linesOfStep = 3

// Turn implements host.Screen.
func (s *Screen) Turn(right, down int) error {
	if err := allowed(); err != nil {
		return err
	}
	const lines = 1 // kCGScrollEventUnitLine
	post(api.EventCreateScrollWheelEvent2(0, lines, 2, int32(-down*linesOfStep), int32(-right*linesOfStep), 0), 0)
	return nil
}

// Release implements host.Screen.
func (s *Screen) Release() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, one := range s.down {
		s.up(name, one)
	}
	where := point{float64(s.pointer.X + s.area.Min.X), float64(s.pointer.Y + s.area.Min.Y)}
	for i, m := range mouse {
		if s.buttons>>i&1 == 1 {
			post(api.EventCreateMouseEvent(0, m.up, where, m.button), 0)
		}
	}
	s.buttons = 0
}
