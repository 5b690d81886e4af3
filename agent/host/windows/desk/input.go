//go:build windows

package desk

import (
	"cmp"
	"context"
	"fmt"
	"image"
	"net/http"
	"time"
	"unicode/utf16"
	"unicode/utf8"
	"unsafe"

	"moorwatch.example/contract/link"
)

var (
	sendInput                = user32.NewProc("SendInput")
	vkKeyScanEx              = user32.NewProc("VkKeyScanExW")
	getKeyboardLayout        = user32.NewProc("GetKeyboardLayout")
	getForegroundWindow      = user32.NewProc("GetForegroundWindow")
	getWindowThreadProcessID = user32.NewProc("GetWindowThreadProcessId")
	mapVirtualKeyEx          = user32.NewProc("MapVirtualKeyExW")
	getAsyncKeyState         = user32.NewProc("GetAsyncKeyState")
)

// input is INPUT, with a keyboard's or a mouse's part.
type input struct {
	kind uint32
	_    uint32
	data [32]byte
}

// keyInput is KEYBDINPUT, and mouseInput MOUSEINPUT.
type keyInput struct {
	key, scan   uint16
	flags, time uint32
	extra       uintptr
}

type mouseInput struct {
	x, y              int32
	data, flags, time uint32
	extra             uintptr
}

const (
	keyExtended = 0x0001
	keyUp       = 0x0002
	keyUnicode  = 0x0004
	keyScan     = 0x0008

	mouseMove     = 0x0001
	mouseWheel    = 0x0800
	mouseTilt     = 0x1000
	mouseAllAreas = 0x4000
	mouseAbsolute = 0x8000

	wheelStep = 120
)

// mark is what our own input carries, so that a hook tells it from the person's.
const mark = 0x4d6f6f72

func send(all ...input) error {
	if len(all) == 0 {
		return nil
	}
	n, _, err := sendInput.Call(uintptr(len(all)), uintptr(unsafe.Pointer(&all[0])), unsafe.Sizeof(all[0]))
	if int(n) != len(all) {
		return &link.Problem{Status: http.StatusConflict, Reason: fmt.Sprintf("Windows does not take input here now: %v.", err)}
	}
	return nil
}

func ofKey(k keyInput) input {
	k.extra = mark
	in := input{kind: 1}
	*(*keyInput)(unsafe.Pointer(&in.data)) = k
	return in
}

func ofMouse(m mouseInput) input {
	m.extra = mark
	in := input{kind: 0}
	*(*mouseInput)(unsafe.Pointer(&in.data)) = m
	return in
}

// layout is the keyboard layout of the window that is worked in.
func layout() uintptr {
	window, _, _ := getForegroundWindow.Call()
	owner, _, _ := getWindowThreadProcessID.Call(window, 0)
	l, _, _ := getKeyboardLayout.Call(owner)
	return l
}

// Press implements host.Screen.
func (s *Screen) Press(k link.ScreenKey) error {
	name := cmp.Or(k.Code, k.Key)
	var err error
	s.thread.do(func() {
		if !k.Down {
			if downs, ok := s.down[name]; ok {
				err = send(released(downs)...)
				delete(s.down, name)
			}
			return
		}
		var downs []keyInput
		if downs, err = s.keysOf(k); err == nil {
			s.down[name] = downs
			inputs := make([]input, len(downs))
			for i, d := range downs {
				inputs[i] = ofKey(d)
			}
			err = send(inputs...)
		}
	})
	return err
}

func released(downs []keyInput) []input {
	out := make([]input, len(downs))
	for i, d := range downs {
		d.flags |= keyUp
		out[len(downs)-1-i] = ofKey(d)
	}
	return out
}

// keysOf finds what is pressed for a key: the one at its place, the one with its meaning, or a
// character without a key.
func (s *Screen) keysOf(k link.ScreenKey) ([]keyInput, error) {
	if scan, ok := places[k.Code]; ok && k.ByPlace {
		return []keyInput{ofScan(scan)}, nil
	}
	if key, ok := sided[k.Code]; ok && (len(k.Key) != 1 || k.Code[:min(6, len(k.Code))] == "Numpad") && k.Key != "AltGraph" {
		return []keyInput{ofVirtual(key)}, nil
	}
	if key, ok := named[k.Key]; ok {
		return []keyInput{ofVirtual(key)}, nil
	}
	r, n := utf8.DecodeRuneInString(k.Key)
	if n == 0 || n != len(k.Key) {
		return nil, &link.Problem{Status: http.StatusUnprocessableEntity, Reason: fmt.Sprintf("The device has no key %q.", k.Key)}
	}
	found, _, _ := vkKeyScanEx.Call(uintptr(r), layout())
	key, shift := uint16(found&0xff), found>>8&0xff
	held := s.modifiers()
	if r <= 0xffff && uint16(found) != 0xffff && (shift == held || held&^1 != 0) { // a shortcut goes by its key
		return []keyInput{ofVirtual(key)}, nil
	}
	return characters(r), nil
}

// modifiers are which of Shift (1), Control (2) and Alt (4) are down.
func (s *Screen) modifiers() (held uintptr) {
	for i, key := range []uintptr{0x10, 0x11, 0x12} {
		if state, _, _ := getAsyncKeyState.Call(key); state&0x8000 != 0 {
			held |= 1 << i
		}
	}
	return held
}

func ofScan(scan uint16) keyInput {
	const scanToVirtual = 3 // MAPVK_VSC_TO_VK_EX
	key, _, _ := mapVirtualKeyEx.Call(uintptr(scan), scanToVirtual, layout())
	k := keyInput{key: uint16(key), scan: scan & 0xff}
	if key == 0 {
		k.flags = keyScan
	}
	if scan&extended != 0 {
		k.flags |= keyExtended
	}
	return k
}

func ofVirtual(key uint16) keyInput {
	scan, _, _ := mapVirtualKeyEx.Call(uintptr(key), 0, layout())
	k := keyInput{key: key, scan: uint16(scan)}
	if farKeys[key] {
		k.flags |= keyExtended
	}
	return k
}

// characters is a character as it is typed without a key.
func characters(r rune) []keyInput {
	var out []keyInput
	for _, unit := range utf16.Encode([]rune{r}) {
		out = append(out, keyInput{scan: unit, flags: keyUnicode})
	}
	return out
}

// typePause lies between two characters that are typed: some programs lose keys that come at once.
const typePause = 4 * time.Millisecond

// Type implements host.Screen.
func (s *Screen) Type(ctx context.Context, text string) error {
	for _, r := range text {
		var downs []keyInput
		switch {
		case r == '\n':
			downs = []keyInput{ofVirtual(named["Enter"])}
		case r == '\t':
			downs = []keyInput{ofVirtual(named["Tab"])}
		case r < ' ':
			continue
		default:
			downs = characters(r)
		}
		var err error
		s.thread.do(func() {
			for _, d := range downs {
				up := d
				up.flags |= keyUp
				if err = send(ofKey(d), ofKey(up)); err != nil {
					return
				}
			}
		})
		if err != nil {
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

// buttonFlags are how buttons go down and up, in the order in which UI Events counts them, with the
// data that tells the last ones apart.
var buttonFlags = [5]struct{ down, up, data uint32 }{{0x0002, 0x0004, 0}, {0x0008, 0x0010, 0}, {0x0020, 0x0040, 0}, {0x0080, 0x0100, 1},
	{0x0080, 0x0100, 2}}

// Point implements host.Screen.
func (s *Screen) Point(at image.Point, buttons int) error {
	var err error
	s.thread.do(func() {
		size := s.copier.area.Size()
		at.X, at.Y = min(max(at.X, 0), size.X-1), min(max(at.Y, 0), size.Y-1)
		var all []input
		if at != s.pointer {
			s.pointer = at
			// Places are told in parts of 65536 of the whole desktop, and rounded down.
			all = append(all, ofMouse(mouseInput{x: int32((at.X<<16 + size.X - 1) / size.X), y: int32((at.Y<<16 + size.Y - 1) / size.Y),
				flags: mouseMove | mouseAbsolute | mouseAllAreas}))
		}
		for i, b := range buttonFlags {
			if was, is := s.buttons>>i&1, buttons>>i&1; was != is {
				flags := b.down
				if is == 0 {
					flags = b.up
				}
				all = append(all, ofMouse(mouseInput{flags: flags, data: b.data}))
			}
		}
		s.buttons = buttons & (1<<len(buttonFlags) - 1)
		err = send(all...)
	})
	return err
}

// Turn implements host.Screen.
func (s *Screen) Turn(right, down int) error {
	var err error
	s.thread.do(func() {
		var all []input
		if down != 0 {
			all = append(all, ofMouse(mouseInput{flags: mouseWheel, data: uint32(int32(-down * wheelStep))}))
		}
		if right != 0 {
			all = append(all, ofMouse(mouseInput{flags: mouseTilt, data: uint32(int32(right * wheelStep))}))
		}
		err = send(all...)
	})
	return err
}

// Release implements host.Screen.
func (s *Screen) Release() {
	s.thread.do(func() {
		for name, downs := range s.down {
			send(released(downs)...)
			delete(s.down, name)
		}
		for i, b := range buttonFlags {
			if s.buttons>>i&1 == 1 {
				send(ofMouse(mouseInput{flags: b.up, data: b.data}))
			}
		}
		s.buttons = 0
	})
}

// letGo lets go of every key that the system has as down.
func letGo() {
	for key := range uintptr(0xff) {
		if state, _, _ := getAsyncKeyState.Call(key); key > 6 && state&0x8000 != 0 {
			up := ofVirtual(uint16(key))
			up.flags |= keyUp
			send(ofKey(up))
		}
	}
}
