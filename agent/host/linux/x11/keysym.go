//go:build linux

package x11

import (
	"unicode/utf8"

	"github.com/jezek/xgb/xproto"
)

// keysymOf is the keysym of a character: those of Latin-1 are their own, others are offset (X
// Window System Protocol, appendix A).
func keysymOf(r rune) xproto.Keysym {
	switch {
	case r < 0x20 || r >= 0x7f && r < 0xa0:
		return 0
	case r <= 0xff:
		return xproto.Keysym(r)
	}
	return 0x01000000 | xproto.Keysym(r)
}

// keysym is what a key of a browser means: 0 where X has no such key.
func keysym(key, code string) xproto.Keysym {
	if r, n := utf8.DecodeRuneInString(key); n == len(key) && n > 0 {
		if pad := keypad[code]; pad != 0 {
			return pad
		}
		return keysymOf(r)
	}
	if sided := sides[code]; sided != 0 && key != "AltGraph" {
		return sided
	}
	if code == "NumpadEnter" {
		return 0xff8d
	}
	return named[key]
}

// named are the keysyms (X11/keysymdef.h) of the keys that UI Events names by a word.
var named = map[string]xproto.Keysym{
	"Backspace": 0xff08, "Tab": 0xff09, "Enter": 0xff0d, "Pause": 0xff13, "ScrollLock": 0xff14, "Escape": 0xff1b, "Delete": 0xffff,
	"Home": 0xff50, "ArrowLeft": 0xff51, "ArrowUp": 0xff52, "ArrowRight": 0xff53, "ArrowDown": 0xff54, "PageUp": 0xff55, "PageDown": 0xff56, "End": 0xff57,
	"PrintScreen": 0xff61, "Insert": 0xff63, "ContextMenu": 0xff67, "NumLock": 0xff7f, "CapsLock": 0xffe5,
	"Shift": 0xffe1, "Control": 0xffe3, "Alt": 0xffe9, "AltGraph": 0xfe03, "Meta": 0xffeb,
	"F1": 0xffbe, "F2": 0xffbf, "F3": 0xffc0, "F4": 0xffc1, "F5": 0xffc2, "F6": 0xffc3, "F7": 0xffc4, "F8": 0xffc5, "F9": 0xffc6, "F10": 0xffc7, "F11": 0xffc8, "F12": 0xffc9,
	"Dead": 0, "Help": 0xff6a, "Undo": 0xff65, "Redo": 0xff66, "Find": 0xff68, "Cancel": 0xff69,
	"AudioVolumeDown": 0x1008ff11, "AudioVolumeMute": 0x1008ff12, "AudioVolumeUp": 0x1008ff13, "BrowserBack": 0x1008ff26, "BrowserForward": 0x1008ff27, "BrowserRefresh": 0x1008ff29,
}

// sides are keys that stand on both sides.
var sides = map[string]xproto.Keysym{
	"ShiftRight": 0xffe2, "ControlRight": 0xffe4, "AltRight": 0xffea, "MetaRight": 0xffec,
}

// keypad are the keys of the number block.
var keypad = map[string]xproto.Keysym{
	"Numpad0": 0xffb0, "Numpad1": 0xffb1, "Numpad2": 0xffb2, "Numpad3": 0xffb3, "Numpad4": 0xffb4, "Numpad5": 0xffb5, "Numpad6": 0xffb6, "Numpad7": 0xffb7, "Numpad8": 0xffb8, "Numpad9": 0xffb9,
	"NumpadMultiply": 0xffaa, "NumpadAdd": 0xffab, "NumpadSubtract": 0xffad, "NumpadDivide": 0xffaf,
}

// places are the X keycodes of keys by where they are, which are Linux's own (linux/input-event-codes.h)
// and 8.
var places = map[string]xproto.Keycode{}

func init() {
	row := func(first xproto.Keycode, codes ...string) {
		for i, code := range codes {
			places[code] = first + xproto.Keycode(i)
		}
	}
	row(9, "Escape", "Digit1", "Digit2", "Digit3", "Digit4", "Digit5", "Digit6", "Digit7", "Digit8", "Digit9", "Digit0", "Minus", "Equal", "Backspace")
	row(23, "Tab", "KeyQ", "KeyW", "KeyE", "KeyR", "KeyT", "KeyY", "KeyU", "KeyI", "KeyO", "KeyP", "BracketLeft", "BracketRight", "Enter")
	row(37, "ControlLeft", "KeyA", "KeyS", "KeyD", "KeyF", "KeyG", "KeyH", "KeyJ", "KeyK", "KeyL", "Semicolon", "Quote", "Backquote")
	row(50, "ShiftLeft", "Backslash", "KeyZ", "KeyX", "KeyC", "KeyV", "KeyB", "KeyN", "KeyM", "Comma", "Period", "Slash", "ShiftRight")
	row(63, "NumpadMultiply", "AltLeft", "Space", "CapsLock", "F1", "F2", "F3", "F4", "F5", "F6", "F7", "F8", "F9", "F10", "NumLock", "ScrollLock")
	row(79, "Numpad7", "Numpad8", "Numpad9", "NumpadSubtract", "Numpad4", "Numpad5", "Numpad6", "NumpadAdd", "Numpad1", "Numpad2", "Numpad3", "Numpad0", "NumpadDecimal")
	row(94, "IntlBackslash", "F11", "F12", "IntlRo")
	row(104, "NumpadEnter", "ControlRight", "NumpadDivide", "PrintScreen", "AltRight")
	row(110, "Home", "ArrowUp", "PageUp", "ArrowLeft", "ArrowRight", "End", "ArrowDown", "PageDown", "Insert", "Delete")
	row(133, "MetaLeft", "MetaRight", "ContextMenu")
}
