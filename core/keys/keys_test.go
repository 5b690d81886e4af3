package keys

import "testing"

// What a key of a browser is called on desktops: characters by their code point, others by their name, and letters
// that are typed by what types them (X11 protocol, appendix A; UI Events key values).
func TestKeys(t *testing.T) {
	for r, want := range map[rune]uint32{'a': 'a', 'Z': 'Z', ' ': 0x20, '~': 0x7e, 'é': 0xe9, '€': 0x010020ac, '语': 0x01008bed} {
		if got := OfRune(r); got != want {
			t.Errorf("%q is %#x, and not %#x", r, got, want)
		}
	}
	for _, c := range []struct {
		key, code string
		want      uint32
	}{{"a", "KeyA", 'a'}, {"A", "KeyA", 'A'}, {"Enter", "Enter", 0xff0d}, {"Tab", "Tab", 0xff09}, {"Escape", "Escape", 0xff1b},
		{"Backspace", "Backspace", 0xff08}, {"ArrowLeft", "ArrowLeft", 0xff51}, {"F5", "F5", 0xffc2}, {"é", "KeyE", 0xe9},
		{"Enter", "NumpadEnter", 0xff8d}, {"1", "Numpad1", 0xffb1}, {"AltGraph", "AltRight", 0xfe03}, {"Unheard", "Unheard", 0},
		{"", "", 0}} {
		if got := Of(c.key, c.code); got != c.want {
			t.Errorf("%q at %q is %#x, and not %#x", c.key, c.code, got, c.want)
		}
	}
	if left, right := Of("Shift", "ShiftLeft"), Of("Shift", "ShiftRight"); left == right || left == 0 || right == 0 {
		t.Errorf("both keys of shift are %#x", left)
	}
	for _, r := range []rune{0, 0x1b, 0x7f, 0x9f} {
		if OfRune(r) != 0 {
			t.Errorf("%#x is a character", r)
		}
	}
	for r, want := range map[rune]uint32{'a': 'a', '\n': 0xff0d, '\t': 0xff09} {
		if got := Typed(r); got != want {
			t.Errorf("%q is typed by %#x, and not %#x", r, got, want)
		}
	}
}
