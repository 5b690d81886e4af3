//go:build linux

package wayland

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/keys"
)

// input types and points by a keyboard and a pointer of its own. The keyboard's map is made as it is needed: each
// key has one meaning, so that every character can be typed whatever layout the person has.
type input struct {
	wire              *wire
	pointer, keyboard uint32 // 0 where the compositor lets nobody type

	mu      sync.Mutex
	meaning []uint32          // keysyms, in the order of the keycodes from firstKey on
	down    map[string]uint32 // keycodes that are pressed, by the key's name
	buttons int
	at      image.Point
}

// Keycodes of XKB; the kernel's are 8 less.
const (
	firstKey = 9
	mostKeys = 240
	kernel   = 8
)

// modifiers are the keysyms of keys that change others, and what they add (X Window System Protocol, Shift, Control, Mod1,
// Mod4, Mod5).
var modifiers = map[uint32]uint32{0xffe1: 1, 0xffe2: 1, 0xffe3: 4, 0xffe4: 4, 0xffe9: 8, 0xffea: 8, 0xffeb: 64, 0xffec: 64, 0xfe03: 128}

// begin makes the devices.
func (i *input) begin(pointers, keyboards, seat uint32) error {
	i.pointer, i.keyboard = i.wire.object(nil), i.wire.object(nil)
	err := errors.Join(i.wire.send(pointers, 0, seat, i.pointer), i.wire.send(keyboards, 0, seat, i.keyboard))
	for sym := range modifiers {
		i.meaning = append(i.meaning, sym)
	}
	slices.Sort(i.meaning)
	return errors.Join(err, i.tell())
}

// keymap is a map of keys in XKB's text format, each with one meaning.
func keymap(meaning []uint32) string {
	var codes, symbols strings.Builder
	for n, sym := range meaning {
		fmt.Fprintf(&codes, "<K%d> = %d;\n", n, firstKey+n)
		fmt.Fprintf(&symbols, "key <K%d> { type = \"ONE_LEVEL\", [ %#x ] };\n", n, sym)
	}
	return "xkb_keymap {\nxkb_keycodes \"moorwatch\" {\nminimum = 8;\nmaximum = 255;\n" + codes.String() +
		"};\nxkb_types \"moorwatch\" { include \"complete\" };\nxkb_compatibility \"moorwatch\" { include \"complete\" };\nxkb_symbols " +
		"\"moorwatch\" {\n" + symbols.String() + "};\n};\n"
}

// tell tells the compositor the map. i.mu is held, but at the beginning.
func (i *input) tell() error {
	text := keymap(i.meaning)
	fd, err := unix.MemfdCreate("moorwatch-keys", unix.MFD_CLOEXEC)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if n, err := unix.Write(fd, append([]byte(text), 0)); err != nil || n != len(text)+1 {
		return errors.Join(errors.New("the map of keys cannot be written"), err)
	}
	const xkb = uint32(1)
	return i.wire.send(i.keyboard, 0, xkb, fd, uint32(len(text)+1))
}

// codes finds the keycodes of keysyms, and gives those one that have none. i.mu is held.
func (i *input) codes(all ...uint32) ([]uint32, error) {
	fresh := false
	out := make([]uint32, len(all))
	for n, sym := range all {
		at := slices.Index(i.meaning, sym)
		if at < 0 {
			if len(i.meaning) == mostKeys { // begin again behind the modifiers
				i.meaning = i.meaning[:len(modifiers)]
			}
			at, fresh = len(i.meaning), true
			i.meaning = append(i.meaning, sym)
		}
		out[n] = uint32(firstKey + at)
	}
	if fresh {
		return out, i.tell()
	}
	return out, nil
}

func now() uint32 { return uint32(time.Now().UnixMilli()) }

// key presses or lets go of a key, and tells what others are changed by then. i.mu is held.
func (i *input) key(code uint32, down bool) error {
	state := uint32(0)
	if down {
		state = 1
	}
	if err := i.wire.send(i.keyboard, 1, now(), code-kernel, state); err != nil {
		return err
	}
	held := uint32(0)
	for _, c := range i.down {
		if at := int(c - firstKey); at < len(i.meaning) {
			held |= modifiers[i.meaning[at]]
		}
	}
	return i.wire.send(i.keyboard, 2, held, uint32(0), uint32(0), uint32(0))
}

var errNoInput = &link.Problem{Status: http.StatusNotImplemented,
	Reason: "This compositor lets nobody else type and point: look on, or work with the quiet tools."}

// Press implements host.Screen. A key is pressed by its meaning: which place has it, the keyboard that is made
// here decides.
func (s *Screen) Press(k link.ScreenKey) error {
	i := &s.input
	if i.keyboard == 0 {
		return errNoInput
	}
	name := cmp.Or(k.Code, k.Key)
	i.mu.Lock()
	defer i.mu.Unlock()
	if !k.Down {
		code, ok := i.down[name]
		if !ok {
			return nil
		}
		delete(i.down, name)
		return i.key(code, false)
	}
	sym := keys.Of(k.Key, k.Code)
	if sym == 0 {
		return problem(http.StatusUnprocessableEntity, "The device has no key %q.", k.Key)
	}
	codes, err := i.codes(sym)
	if err != nil {
		return err
	}
	i.down[name] = codes[0]
	return i.key(codes[0], true)
}

// typePause lies between two characters that are typed: some programs lose keys that come at once.
const typePause = 4 * time.Millisecond

// Type implements host.Screen.
func (s *Screen) Type(ctx context.Context, text string) error {
	i := &s.input
	if i.keyboard == 0 {
		return errNoInput
	}
	for part := range slices.Chunk([]rune(text), mostKeys/2) { // of which each has a key at once
		var syms []uint32
		for _, r := range part {
			if sym := keys.Typed(r); sym != 0 {
				syms = append(syms, sym)
			}
		}
		i.mu.Lock()
		if len(i.meaning)+len(syms) > mostKeys {
			i.meaning = i.meaning[:len(modifiers)]
		}
		codes, err := i.codes(syms...)
		i.mu.Unlock()
		if err != nil {
			return err
		}
		for _, code := range codes {
			i.mu.Lock()
			err := errors.Join(i.key(code, true), i.key(code, false))
			i.mu.Unlock()
			if err != nil {
				return err
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(typePause):
			}
		}
	}
	return nil
}

// buttonCodes are those of linux/input-event-codes.h, in the order in which UI Events counts buttons.
var buttonCodes = [5]uint32{0x110, 0x111, 0x112, 0x113, 0x114}

// Point implements host.Screen.
func (s *Screen) Point(at image.Point, buttons int) error {
	i := &s.input
	if i.pointer == 0 {
		return errNoInput
	}
	s.mu.Lock()
	size := s.area.Size()
	s.mu.Unlock()
	i.mu.Lock()
	defer i.mu.Unlock()
	at.X, at.Y = min(max(at.X, 0), size.X-1), min(max(at.Y, 0), size.Y-1)
	var err error
	if at != i.at {
		i.at = at
		err = i.wire.send(i.pointer, 1, now(), uint32(at.X), uint32(at.Y), uint32(size.X), uint32(size.Y))
	}
	for n, code := range buttonCodes {
		if was, is := i.buttons>>n&1, buttons>>n&1; was != is {
			err = errors.Join(err, i.wire.send(i.pointer, 2, now(), code, uint32(is)))
		}
	}
	i.buttons = buttons & (1<<len(buttonCodes) - 1)
	return errors.Join(err, i.wire.send(i.pointer, 4)) // frame
}

// wheelStep is how far a step of the wheel goes, in the pointer's own measure.
const wheelStep = 15.0

// Turn implements host.Screen.
func (s *Screen) Turn(right, down int) error {
	i := &s.input
	if i.pointer == 0 {
		return errNoInput
	}
	const wheel = uint32(0)
	err := i.wire.send(i.pointer, 5, wheel)
	for axis, steps := range []int{down, right} {
		if steps != 0 {
			err = errors.Join(err, i.wire.send(i.pointer, 7, now(), uint32(axis), wheelStep*float64(steps), int32(steps)))
		}
	}
	return errors.Join(err, i.wire.send(i.pointer, 4))
}

// Release implements host.Screen.
func (s *Screen) Release() {
	i := &s.input
	if i.keyboard == 0 {
		return
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	for name, code := range i.down {
		delete(i.down, name)
		i.key(code, false)
	}
	for n, code := range buttonCodes {
		if i.buttons>>n&1 == 1 {
			i.wire.send(i.pointer, 2, now(), code, uint32(0))
		}
	}
	i.buttons = 0
	i.wire.send(i.pointer, 4)
}
