//go:build linux

package x11

import "github.com/jezek/xgb/xproto"

// places are the X keycodes of keys by where they are, which are Linux's own (linux/input-event-codes.h)
// and 8.
var places = map[string]xproto.Keycode{}

func init() {
	row := func(first xproto.Keycode, codes ...string) {
		for i, code := range codes {
			places[code] = first + xproto.Keycode(i)
		}
	}
	row(9, "Escape", "Digit1", "Digit2", "Digit3", "Digit4", "Digit5", "Digit6", "Digit7", "Digit8", "Digit9", "Digit0", "Minus", "Equal",
		"Backspace")
	row(23, "Tab", "KeyQ", "KeyW", "KeyE", "KeyR", "KeyT", "KeyY", "KeyU", "KeyI", "KeyO", "KeyP", "BracketLeft", "BracketRight", "Enter")
	row(37, "ControlLeft", "KeyA", "KeyS", "KeyD", "KeyF", "KeyG", "KeyH", "KeyJ", "KeyK", "KeyL", "Semicolon", "Quote", "Backquote")
	row(50, "ShiftLeft", "Backslash", "KeyZ", "KeyX", "KeyC", "KeyV", "KeyB", "KeyN", "KeyM", "Comma", "Period", "Slash", "ShiftRight")
	row(63, "NumpadMultiply", "AltLeft", "Space", "CapsLock", "F1", "F2", "F3", "F4", "F5", "F6", "F7", "F8", "F9", "F10", "NumLock",
		"ScrollLock")
	row(79, "Numpad7", "Numpad8", "Numpad9", "NumpadSubtract", "Numpad4", "Numpad5", "Numpad6", "NumpadAdd", "Numpad1", "Numpad2",
		"Numpad3", "Numpad0", "NumpadDecimal")
	row(94, "IntlBackslash", "F11", "F12", "IntlRo")
	row(104, "NumpadEnter", "ControlRight", "NumpadDivide", "PrintScreen", "AltRight")
	row(110, "Home", "ArrowUp", "PageUp", "ArrowLeft", "ArrowRight", "End", "ArrowDown", "PageDown", "Insert", "Delete")
	row(133, "MetaLeft", "MetaRight", "ContextMenu")
}
