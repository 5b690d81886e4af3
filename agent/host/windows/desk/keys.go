//go:build windows

package desk

// The keys of a keyboard by where they are (UI Events KeyboardEvent code): their scan codes of set 1,
// with extended where a prefix belongs to them (USB HID to PS/2 Scan Code Translation Table).
var places = map[string]uint16{}

const extended = 0xe000

// named are the virtual keys (Virtual-Key Codes) of the keys that UI Events names by a word.
var named = map[string]uint16{
	"Backspace": 0x08, "Tab": 0x09, "Enter": 0x0d, "Shift": 0x10, "Control": 0x11, "Alt": 0x12, "AltGraph": 0xa5, "Pause": 0x13,
	"CapsLock": 0x14,
	"Escape":   0x1b, " ": 0x20, "PageUp": 0x21, "PageDown": 0x22, "End": 0x23, "Home": 0x24, "ArrowLeft": 0x25, "ArrowUp": 0x26,
	"ArrowRight": 0x27,
	"ArrowDown":  0x28, "PrintScreen": 0x2c, "Insert": 0x2d, "Delete": 0x2e, "Help": 0x2f, "Meta": 0x5b, "ContextMenu": 0x5d,
	"F1": 0x70, "F2": 0x71, "F3": 0x72, "F4": 0x73, "F5": 0x74, "F6": 0x75, "F7": 0x76, "F8": 0x77, "F9": 0x78, "F10": 0x79, "F11": 0x7a,
	"F12":     0x7b,
	"NumLock": 0x90, "ScrollLock": 0x91, "BrowserBack": 0xa6, "BrowserForward": 0xa7, "BrowserRefresh": 0xa8,
	"AudioVolumeMute": 0xad, "AudioVolumeDown": 0xae, "AudioVolumeUp": 0xaf,
}

// sided are the virtual keys of keys that stand on both sides, and of the number block.
var sided = map[string]uint16{
	"ShiftLeft": 0xa0, "ShiftRight": 0xa1, "ControlLeft": 0xa2, "ControlRight": 0xa3, "AltLeft": 0xa4, "AltRight": 0xa5, "MetaLeft": 0x5b,
	"MetaRight": 0x5c,
	"Numpad0":   0x60, "Numpad1": 0x61, "Numpad2": 0x62, "Numpad3": 0x63, "Numpad4": 0x64, "Numpad5": 0x65, "Numpad6": 0x66,
	"Numpad7": 0x67,
	"Numpad8": 0x68, "Numpad9": 0x69,
	"NumpadMultiply": 0x6a, "NumpadAdd": 0x6b, "NumpadSubtract": 0x6d, "NumpadDecimal": 0x6e, "NumpadDivide": 0x6f,
}

// farKeys are the virtual keys whose scan codes have a prefix.
var farKeys = map[uint16]bool{0x21: true, 0x22: true, 0x23: true, 0x24: true, 0x25: true, 0x26: true, 0x27: true, 0x28: true, 0x2c: true,
	0x2d: true, 0x2e: true,
	0x5b: true, 0x5c: true, 0x5d: true, 0x6f: true, 0x90: true, 0xa3: true, 0xa5: true, 0xa6: true, 0xa7: true, 0xa8: true, 0xad: true,
	0xae: true, 0xaf: true}

func init() {
	row := func(first uint16, codes ...string) {
		for i, code := range codes {
			places[code] = first + uint16(i)
		}
	}
	row(0x01, "Escape", "Digit1", "Digit2", "Digit3", "Digit4", "Digit5", "Digit6", "Digit7", "Digit8", "Digit9", "Digit0", "Minus",
		"Equal", "Backspace")
	row(0x0f, "Tab", "KeyQ", "KeyW", "KeyE", "KeyR", "KeyT", "KeyY", "KeyU", "KeyI", "KeyO", "KeyP", "BracketLeft", "BracketRight", "Enter")
	row(0x1d, "ControlLeft", "KeyA", "KeyS", "KeyD", "KeyF", "KeyG", "KeyH", "KeyJ", "KeyK", "KeyL", "Semicolon", "Quote", "Backquote")
	row(0x2a, "ShiftLeft", "Backslash", "KeyZ", "KeyX", "KeyC", "KeyV", "KeyB", "KeyN", "KeyM", "Comma", "Period", "Slash", "ShiftRight")
	row(0x37, "NumpadMultiply", "AltLeft", "Space", "CapsLock", "F1", "F2", "F3", "F4", "F5", "F6", "F7", "F8", "F9", "F10")
	row(0x46, "ScrollLock", "Numpad7", "Numpad8", "Numpad9", "NumpadSubtract", "Numpad4", "Numpad5", "Numpad6", "NumpadAdd", "Numpad1",
		"Numpad2", "Numpad3", "Numpad0", "NumpadDecimal")
	row(0x56, "IntlBackslash", "F11", "F12")
	row(0x73, "IntlRo")
	for code, scan := range map[string]uint16{"NumpadEnter": 0x1c, "ControlRight": 0x1d, "NumpadDivide": 0x35, "PrintScreen": 0x37,
		"AltRight": 0x38, "NumLock": 0x45, "Home": 0x47, "ArrowUp": 0x48,
		"PageUp": 0x49, "ArrowLeft": 0x4b, "ArrowRight": 0x4d, "End": 0x4f, "ArrowDown": 0x50, "PageDown": 0x51, "Insert": 0x52,
		"Delete": 0x53, "MetaLeft": 0x5b, "MetaRight": 0x5c, "ContextMenu": 0x5d} {
		places[code] = extended | scan
	}
}
