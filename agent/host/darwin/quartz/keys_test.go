package quartz

import (
	"reflect"
	"testing"
	"unicode/utf16"

	"moorwatch.example/contract/link"
)

func TestStrokes(t *testing.T) {
	seen := map[uint16]string{}
	for code, key := range places {
		if other, twice := seen[key]; twice && !(key == 0x72) { // Help stands where others have Insert
			t.Errorf("%s and %s are one key", code, other)
		}
		seen[key] = code
	}
	if len(seen) < 105 || len(us) != 47 {
		t.Errorf("%d keys, %d characters", len(seen), len(us))
	}
	text := func(s string) stroke { return stroke{text: utf16.Encode([]rune(s))} }
	for _, c := range []struct {
		k    link.ScreenKey
		held uint64
		want stroke
		ok   bool
	}{
		{link.ScreenKey{Key: "a", Code: "KeyQ"}, 0, text("a"), true},                        // by meaning, on whatever layout
		{link.ScreenKey{Key: "a", Code: "KeyQ", ByPlace: true}, 0, stroke{key: 0x0c}, true}, // by place
		{link.ScreenKey{Key: "c", Code: "KeyC"}, 1 << 20, stroke{key: 0x08}, true},          // a shortcut
		{link.ScreenKey{Key: "C", Code: "KeyC"}, 1 << 18, stroke{key: 0x08}, true},
		{link.ScreenKey{Key: "ß"}, 1 << 20, text("ß"), true},
		{link.ScreenKey{Key: "😀"}, 0, text("😀"), true},
		{link.ScreenKey{Key: "Enter", Code: "NumpadEnter"}, 0, stroke{key: 0x4c}, true},
		{link.ScreenKey{Key: "Enter"}, 0, stroke{key: 0x24}, true},
		{link.ScreenKey{Key: "Meta", Code: "MetaRight"}, 0, stroke{key: 0x36}, true},
		{link.ScreenKey{Key: "Control"}, 0, stroke{key: 0x3b}, true},
		{link.ScreenKey{Key: " ", Code: "Space"}, 0, stroke{key: 0x31}, true},
		{link.ScreenKey{Key: "AltGraph", Code: "AltRight"}, 0, stroke{key: 0x3d}, true},
		{link.ScreenKey{Key: "Unheard"}, 0, stroke{}, false},
		{link.ScreenKey{}, 0, stroke{}, false},
	} {
		if got, ok := strokeOf(c.k, c.held); ok != c.ok || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%+v with %x: %+v, %v", c.k, c.held, got, ok)
		}
	}
}
