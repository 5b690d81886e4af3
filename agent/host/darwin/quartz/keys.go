// Package quartz works on the desktop of a person at a Mac, from a process in their session: CoreGraphics
// and the pasteboard, loaded without cgo. It is a Desk of package helper. What it needs the person's
// permission for says so, and has the system ask them.
package quartz

import (
	"unicode/utf16"
	"unicode/utf8"

	"moorwatch.example/contract/link"
)

// places are the virtual keys of a keyboard by where they are (UI Events KeyboardEvent code). A virtual key
// of macOS names a place on the keyboard, whatever it means there (HIToolbox, Events.h).
var places = map[string]uint16{
	"KeyA": 0x00, "KeyS": 0x01, "KeyD": 0x02, "KeyF": 0x03, "KeyH": 0x04, "KeyG": 0x05, "KeyZ": 0x06, "KeyX": 0x07, "KeyC": 0x08,
	"KeyV": 0x09, "IntlBackslash": 0x0a,
	"KeyB": 0x0b, "KeyQ": 0x0c, "KeyW": 0x0d, "KeyE": 0x0e, "KeyR": 0x0f, "KeyY": 0x10, "KeyT": 0x11, "Digit1": 0x12, "Digit2": 0x13,
	"Digit3": 0x14, "Digit4": 0x15,
	"Digit6": 0x16, "Digit5": 0x17, "Equal": 0x18, "Digit9": 0x19, "Digit7": 0x1a, "Minus": 0x1b, "Digit8": 0x1c, "Digit0": 0x1d,
	"BracketRight": 0x1e, "KeyO": 0x1f,
	"KeyU": 0x20, "BracketLeft": 0x21, "KeyI": 0x22, "KeyP": 0x23, "Enter": 0x24, "KeyL": 0x25, "KeyJ": 0x26, "Quote": 0x27, "KeyK": 0x28,
	"Semicolon": 0x29,
	"Backslash": 0x2a, "Comma": 0x2b, "Slash": 0x2c, "KeyN": 0x2d, "KeyM": 0x2e, "Period": 0x2f, "Tab": 0x30, "Space": 0x31,
	"Backquote": 0x32, "Backspace": 0x33,
	"Escape": 0x35, "MetaRight": 0x36, "MetaLeft": 0x37, "ShiftLeft": 0x38, "CapsLock": 0x39, "AltLeft": 0x3a, "ControlLeft": 0x3b,
	"ShiftRight": 0x3c, "AltRight": 0x3d, "ControlRight": 0x3e,
	"F17": 0x40, "NumpadDecimal": 0x41, "NumpadMultiply": 0x43, "NumpadAdd": 0x45, "NumLock": 0x47, "AudioVolumeUp": 0x48,
	"AudioVolumeDown": 0x49, "AudioVolumeMute": 0x4a,
	"NumpadDivide": 0x4b, "NumpadEnter": 0x4c, "NumpadSubtract": 0x4e, "F18": 0x4f, "F19": 0x50, "NumpadEqual": 0x51, "Numpad0": 0x52,
	"Numpad1": 0x53, "Numpad2": 0x54, "Numpad3": 0x55,
	"Numpad4": 0x56, "Numpad5": 0x57, "Numpad6": 0x58, "Numpad7": 0x59, "F20": 0x5a, "Numpad8": 0x5b, "Numpad9": 0x5c, "F5": 0x60,
	"F6": 0x61, "F7": 0x62, "F3": 0x63, "F8": 0x64,
	"F9": 0x65, "F11": 0x67, "F13": 0x69, "F16": 0x6a, "F14": 0x6b, "F10": 0x6d, "F12": 0x6f, "F15": 0x71, "Help": 0x72, "Insert": 0x72,
	"Home": 0x73, "PageUp": 0x74, "Delete": 0x75,
	"F4": 0x76, "End": 0x77, "F2": 0x78, "PageDown": 0x79, "F1": 0x7a, "ArrowLeft": 0x7b, "ArrowRight": 0x7c, "ArrowDown": 0x7d,
	"ArrowUp": 0x7e,
}

// named are the places of keys that UI Events names by a word other than that of a place.
var named = map[string]string{"Shift": "ShiftLeft", "Control": "ControlLeft", "Alt": "AltLeft", "AltGraph": "AltRight", "Meta": "MetaLeft",
	" ": "Space"}

// us are the places of characters on a keyboard for the United States, which shortcuts go by.
var us = map[rune]string{'-': "Minus", '=': "Equal", '[': "BracketLeft", ']': "BracketRight", '\\': "Backslash", ';': "Semicolon",
	'\'': "Quote", '`': "Backquote", ',': "Comma", '.': "Period", '/': "Slash"}

func init() {
	for r := 'a'; r <= 'z'; r++ {
		us[r] = "Key" + string(r-'a'+'A')
	}
	for r := '0'; r <= '9'; r++ {
		us[r] = "Digit" + string(r)
	}
}

// Flags by which a key is a shortcut: Control and Command.
const shortcut = 1<<18 | 1<<20

// stroke is what is pressed for a key: a virtual key, or a character without one.
type stroke struct {
	key  uint16
	text []uint16 // UTF-16; empty for a key
}

// strokeOf finds what is pressed for a key while others, whose flags are held, are down. ok is false for
// what no key of a Mac means.
func strokeOf(k link.ScreenKey, held uint64) (s stroke, ok bool) {
	if key, known := places[k.Code]; known && (k.ByPlace || utf8.RuneCountInString(k.Key) != 1) && k.Key != "AltGraph" {
		return stroke{key: key}, true
	}
	name := k.Key
	if n, known := named[name]; known {
		name = n
	}
	if key, known := places[name]; known {
		return stroke{key: key}, true
	}
	r, n := utf8.DecodeRuneInString(k.Key)
	if n == 0 || n != len(k.Key) || r == utf8.RuneError {
		return s, false
	}
	if held&shortcut != 0 {
		low := r
		if r >= 'A' && r <= 'Z' {
			low += 'a' - 'A'
		}
		if place, known := us[low]; known {
			return stroke{key: places[place]}, true
		}
	}
	return stroke{text: utf16.Encode([]rune{r})}, true
}
