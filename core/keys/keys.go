// Package keys tells what the keys of a browser's keyboard are for desktops: their keysyms, by which
// the X Window System and RFB (RFC 6143, section 7.5.4) know them.
package keys

import "unicode/utf8"

// OfRune is the keysym of a character, 0 of one that is none: those of Latin-1 are their own, others are offset (X
// Window System Protocol, appendix A).
func OfRune(r rune) uint32 {
	switch {
	case r < 0x20 || r >= 0x7f && r < 0xa0:
		return 0
	case r <= 0xff:
		return uint32(r)
	}
	return 0x01000000 | uint32(r)
}

// Of is the keysym of a key, by its meaning and its place as UI Events tell them (KeyboardEvent key and
// code): 0 where there is none.
func Of(key, code string) uint32 {
	if r, n := utf8.DecodeRuneInString(key); n == len(key) && n > 0 {
		if pad := keypad[code]; pad != 0 {
			return pad
		}
		return OfRune(r)
	}
	if sided := sides[code]; sided != 0 && key != "AltGraph" {
		return sided
	}
	if code == "NumpadEnter" {
		return 0xff8d
	}
	return named[key]
}

// Typed is the keysym of a character that is typed: as OfRune, but that the ends of lines and tabs are
// keys. What is not typed, such as the other half of a line's end, is 0.
func Typed(r rune) uint32 {
	switch r {
	case '\n':
		return named["Enter"]
	case '\t':
		return named["Tab"]
	}
	return OfRune(r)
}

// Attention are the keysyms of Ctrl+Alt+Del, in the order in which they go down.
var Attention = [3]uint32{0xffe3, 0xffe9, 0xffff}

// named are the keysyms (X11/keysymdef.h) of the keys that UI Events names by a word.
var named = map[string]uint32{
	"Backspace": 0xff08, "Tab": 0xff09, "Enter": 0xff0d, "Pause": 0xff13, "ScrollLock": 0xff14, "Escape": 0xff1b, "Delete": 0xffff,
	"Home": 0xff50, "ArrowLeft": 0xff51, "ArrowUp": 0xff52, "ArrowRight": 0xff53, "ArrowDown": 0xff54, "PageUp": 0xff55, "PageDown": 0xff56,
	"End":         0xff57,
	"PrintScreen": 0xff61, "Insert": 0xff63, "ContextMenu": 0xff67, "NumLock": 0xff7f, "CapsLock": 0xffe5,
	"Shift": 0xffe1, "Control": 0xffe3, "Alt": 0xffe9, "AltGraph": 0xfe03, "Meta": 0xffeb,
	"F1": 0xffbe, "F2": 0xffbf, "F3": 0xffc0, "F4": 0xffc1, "F5": 0xffc2, "F6": 0xffc3, "F7": 0xffc4, "F8": 0xffc5, "F9": 0xffc6,
	"F10": 0xffc7, "F11": 0xffc8, "F12": 0xffc9,
	"Dead": 0, "Help": 0xff6a, "Undo": 0xff65, "Redo": 0xff66, "Find": 0xff68, "Cancel": 0xff69,
	"AudioVolumeDown": 0x1008ff11, "AudioVolumeMute": 0x1008ff12, "AudioVolumeUp": 0x1008ff13, "BrowserBack": 0x1008ff26,
	"BrowserForward": 0x1008ff27, "BrowserRefresh": 0x1008ff29,
}

// sides are keys that stand on both sides.
var sides = map[string]uint32{
	"ShiftRight": 0xffe2, "ControlRight": 0xffe4, "AltRight": 0xffea, "MetaRight": 0xffec,
}

// keypad are the keys of the number block.
var keypad = map[string]uint32{
	"Numpad0": 0xffb0, "Numpad1": 0xffb1, "Numpad2": 0xffb2, "Numpad3": 0xffb3, "Numpad4": 0xffb4, "Numpad5": 0xffb5, "Numpad6": 0xffb6,
	"Numpad7": 0xffb7, "Numpad8": 0xffb8, "Numpad9": 0xffb9,
	"NumpadMultiply": 0xffaa, "NumpadAdd": 0xffab, "NumpadSubtract": 0xffad, "NumpadDivide": 0xffaf,
}
