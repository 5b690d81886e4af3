//go:build linux

package x11

import (
	"context"
	"fmt"
	"image"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"
	"github.com/jezek/xgb/xtest"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/keys"
)

// keyboard presses keys. A key is found by what it means on the keyboard as the desktop has it; a
// meaning that no key has is given to one without any, for a while.
type keyboard struct {
	x    *xgb.Conn
	root xproto.Window

	mu    sync.Mutex
	stale bool // the desktop's keyboard has changed
	first xproto.Keycode
	per   int
	syms  []xproto.Keysym
	down  map[string]xproto.Keycode // by the viewer's key
	lent  []xproto.Keycode          // keys without a meaning that were given one, the latest last
	mask  map[xproto.Keysym]uint16  // of modifiers
}

// Modifiers that choose among the meanings of a key, and their keysyms (X11/keysymdef.h).
const (
	symShift  = 0xffe1
	symLevel3 = 0xfe03
	symCaps   = 0xffe5
)

func (k *keyboard) begin(x *xgb.Conn, root xproto.Window) error {
	k.x, k.root, k.down = x, root, map[string]xproto.Keycode{}
	return k.read()
}

func (k *keyboard) read() error {
	setup := xproto.Setup(k.x)
	k.first = setup.MinKeycode
	m, err := xproto.GetKeyboardMapping(k.x, k.first, byte(setup.MaxKeycode-setup.MinKeycode+1)).Reply()
	if err != nil {
		return err
	}
	k.per, k.syms = int(m.KeysymsPerKeycode), m.Keysyms
	mods, err := xproto.GetModifierMapping(k.x).Reply()
	if err != nil {
		return err
	}
	k.mask = map[xproto.Keysym]uint16{}
	for i, code := range mods.Keycodes {
		if code < k.first {
			continue
		}
		for level := range k.per {
			if sym := k.sym(code, level); sym != 0 {
				k.mask[sym] |= 1 << (i / int(mods.KeycodesPerModifier))
			}
		}
	}
	k.stale = false
	return nil
}

func (k *keyboard) changed() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.stale = true
}

func (k *keyboard) sym(code xproto.Keycode, level int) xproto.Keysym {
	if i := int(code-k.first)*k.per + level; level < k.per && i < len(k.syms) {
		return k.syms[i]
	}
	return 0
}

// columns are where the meanings of the first layout stand in the list of a key's keysyms, by level.
var columns = [4]int{0, 1, 4, 5}

// find finds the key of a meaning, and the level at which it has it.
func (k *keyboard) find(sym xproto.Keysym) (code xproto.Keycode, level int) {
	for level, column := range columns {
		for c := int(k.first); c <= 255; c++ {
			if code := xproto.Keycode(c); k.sym(code, column) == sym {
				return code, level
			}
		}
	}
	return 0, 0
}

// lend gives a meaning to a key that has none.
func (k *keyboard) lend(sym xproto.Keysym) (xproto.Keycode, error) {
	var code xproto.Keycode
	for c := 255; c >= int(k.first); c-- {
		free := true
		for level := range k.per {
			free = free && k.sym(xproto.Keycode(c), level) == 0
		}
		if free {
			code = xproto.Keycode(c)
			break
		}
	}
	if code == 0 && len(k.lent) > 0 {
		code, k.lent = k.lent[0], k.lent[1:]
	}
	if code == 0 {
		return 0, fmt.Errorf("no key is free")
	}
	k.give(code, sym)
	k.lent = append(k.lent, code)
	return code, nil
}

func (k *keyboard) give(code xproto.Keycode, sym xproto.Keysym) {
	list := make([]xproto.Keysym, k.per)
	for i := range list[:min(2, k.per)] {
		list[i] = sym
	}
	copy(k.syms[int(code-k.first)*k.per:], list)
	xproto.ChangeKeyboardMapping(k.x, 1, code, byte(k.per), list)
	k.x.Sync()
}

// end takes back what was lent.
func (k *keyboard) end() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, code := range k.lent {
		k.give(code, 0)
	}
	k.lent = nil
}

func (k *keyboard) fake(code xproto.Keycode, down bool) {
	kind := byte(xproto.KeyPress)
	if !down {
		kind = xproto.KeyRelease
	}
	xtest.FakeInput(k.x, kind, byte(code), 0, k.root, 0, 0, 0)
}

// press presses or lets go of a key that a viewer knows by a name of its own.
func (k *keyboard) press(name string, sym xproto.Keysym, place xproto.Keycode, down bool) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if !down {
		code, ok := k.down[name]
		if ok {
			delete(k.down, name)
			k.fake(code, false)
		}
		return nil
	}
	if k.stale {
		if err := k.read(); err != nil {
			return err
		}
	}
	if place != 0 {
		k.fake(place, true)
		k.down[name] = place
		return nil
	}
	code, level := k.find(sym)
	if code == 0 {
		var err error
		if code, err = k.lend(sym); err != nil {
			return err
		}
	}
	put := k.bring(sym, level)
	k.fake(code, true)
	for _, change := range slices.Backward(put) {
		k.fake(change.code, !change.down)
	}
	k.down[name] = code
	return nil
}

type shift struct {
	code xproto.Keycode
	down bool
}

// bring brings the modifiers into the state in which a key has the meaning of its level, and returns
// what it changed.
func (k *keyboard) bring(sym xproto.Keysym, level int) (done []shift) {
	if k.mask[sym] != 0 {
		return nil // a modifier itself
	}
	at, err := xproto.QueryPointer(k.x, k.root).Reply()
	if err != nil {
		return nil
	}
	wantShift, want3 := level&1 == 1, level >= 2
	if at.Mask&xproto.KeyButMaskLock != 0 && k.mask[symCaps]&xproto.ModMaskLock != 0 && letter(sym) {
		wantShift = !wantShift
	}
	for _, m := range []struct {
		sym  xproto.Keysym
		want bool
	}{{symShift, wantShift}, {symLevel3, want3}} {
		mask := k.mask[m.sym]
		if mask == 0 || (at.Mask&mask != 0) == m.want {
			continue
		}
		if m.want {
			if code, _ := k.find(m.sym); code != 0 {
				done = append(done, shift{code, true})
			}
			continue
		}
		for _, code := range k.down { // those that this viewer holds
			for level := range k.per {
				if k.mask[k.sym(code, level)]&mask != 0 {
					done = append(done, shift{code, false})
					break
				}
			}
		}
	}
	for _, change := range done {
		k.fake(change.code, change.down)
	}
	return done
}

func letter(sym xproto.Keysym) bool {
	return sym >= 'A' && sym <= 'Z' || sym >= 'a' && sym <= 'z' || sym >= 0xc0 && sym <= 0xff
}

func (k *keyboard) release() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for name, code := range k.down {
		k.fake(code, false)
		delete(k.down, name)
	}
}

// Press implements host.Screen.
func (s *Screen) Press(key link.ScreenKey) error {
	name := key.Code
	if name == "" {
		name = key.Key
	}
	sym, place := xproto.Keysym(keys.Of(key.Key, key.Code)), xproto.Keycode(0)
	if key.ByPlace {
		place = places[key.Code]
	}
	if sym == 0 && place == 0 {
		if !key.Down {
			return nil
		}
		return &link.Problem{Status: http.StatusUnprocessableEntity, Reason: fmt.Sprintf("The device has no key %q.", name)}
	}
	return s.keys.press(name, sym, place, key.Down)
}

// typePause lies between two characters that are typed: some programs lose keys that come at once.
const typePause = 4 * time.Millisecond

// Type implements host.Screen.
func (s *Screen) Type(ctx context.Context, text string) error {
	for _, r := range text {
		sym := keys.Typed(r)
		if sym == 0 {
			continue
		}
		for _, down := range []bool{true, false} {
			if err := s.keys.press("typed", xproto.Keysym(sym), 0, down); err != nil {
				return err
			}
		}
		s.x.Sync()
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(typePause):
		}
	}
	return nil
}

// Attend implements host.Screen: no X server gives the three keys a meaning of their own.
func (s *Screen) Attend() error {
	for _, sym := range keys.Attention {
		if err := s.keys.press(fmt.Sprint("attend ", sym), xproto.Keysym(sym), 0, true); err != nil {
			return err
		}
	}
	for _, sym := range slices.Backward(keys.Attention[:]) {
		s.keys.press(fmt.Sprint("attend ", sym), xproto.Keysym(sym), 0, false)
	}
	return nil
}

// xButtons are X's numbers for the buttons that UI Events counts.
var xButtons = [5]byte{1, 3, 2, 8, 9}

// Point implements host.Screen.
func (s *Screen) Point(at image.Point, buttons int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	at.X, at.Y = min(max(at.X, 0), s.size.X-1), min(max(at.Y, 0), s.size.Y-1)
	if at != s.pointer {
		s.pointer = at
		xtest.FakeInput(s.x, xproto.MotionNotify, 0, 0, s.root, int16(at.X), int16(at.Y), 0)
	}
	for i, button := range xButtons {
		was, is := s.buttons>>i&1, buttons>>i&1
		if was != is {
			s.click(button, is == 1)
		}
	}
	s.buttons = buttons & (1<<len(xButtons) - 1)
	return nil
}

func (s *Screen) click(button byte, down bool) {
	kind := byte(xproto.ButtonPress)
	if !down {
		kind = xproto.ButtonRelease
	}
	xtest.FakeInput(s.x, kind, button, 0, s.root, 0, 0, 0)
}

// LetGo lets go of every key and button that is down on a display: those that an agent pressed stay
// down in the server when it is killed.
func LetGo(display, authority string, uid uint32) error {
	x, err := connect(display, authority, uid)
	if err != nil {
		return err
	}
	defer x.Close()
	if err := xtest.Init(x); err != nil {
		return err
	}
	root := xproto.Setup(x).DefaultScreen(x).Root
	keys, err := xproto.QueryKeymap(x).Reply()
	if err != nil {
		return err
	}
	for code := range 256 {
		if keys.Keys[code/8]>>(code%8)&1 == 1 {
			xtest.FakeInput(x, xproto.KeyRelease, byte(code), 0, root, 0, 0, 0)
		}
	}
	for _, button := range xButtons {
		xtest.FakeInput(x, xproto.ButtonRelease, button, 0, root, 0, 0, 0)
	}
	x.Sync()
	return nil
}

// mostTurns is how many steps a wheel turns at once.
const mostTurns = 20

// Turn implements host.Screen: the buttons 4 to 7 are the wheel's directions.
func (s *Screen) Turn(right, down int) error {
	for _, way := range []struct {
		n    int
		less byte
	}{{down, 4}, {right, 6}} {
		button := way.less
		if way.n > 0 {
			button++
		}
		for range min(max(way.n, -way.n), mostTurns) {
			s.click(button, true)
			s.click(button, false)
		}
	}
	return nil
}

// Release implements host.Screen.
func (s *Screen) Release() {
	s.keys.release()
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, button := range xButtons {
		if s.buttons>>i&1 == 1 {
			s.click(button, false)
		}
	}
	s.buttons = 0
}
