package device

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

func TestCompareHardware(t *testing.T) {
	list := func(all ...string) []string { return CleanHardware(all) }
	board, serial, mac := "board:4c4c4544-0042-3510-8054-b7c04f564433", "serial:Peat 14/HK7-0042", "mac:02:42:ac:11:00:02"
	for name, c := range map[string]struct {
		a, b []string
		want Likeness
	}{
		"the same":         {list(board, serial, mac), list(board, serial, mac), Same},
		"another adapter":  {list(board, mac), list(board, "mac:02:42:ac:11:00:09"), Same},
		"a board replaced": {list(board, serial), list("board:99999999-0042-3510-8054-b7c04f564433", serial), Same},
		"a copy": {list(board, mac), list("board:99999999-0042-3510-8054-b7c04f564433", "mac:02:42:ac:11:00:09"),
			Different},
		"another board, one adapter": {list(board, mac), list("board:99999999-0042-3510-8054-b7c04f564433", mac), Unclear},
		"adapters alone":             {list(mac), list(mac, "mac:02:42:ac:11:00:09"), Same},
		"adapters alone, others":     {list(mac), list("mac:02:42:ac:11:00:09"), Unclear},
		"nothing known":              {list(), list(board), Unclear},
		"makers who gave no number": {list("serial:Model/To Be Filled By O.E.M.", "board:00000000-0000-0000-0000-000000000000"),
			list("serial:Model/To Be Filled By O.E.M.", board), Unclear},
		"kinds that are not comparable": {list(board), list(serial), Unclear},
	} {
		if got := Compare(c.a, c.b); got != c.want {
			t.Errorf("%s: %v, not %v", name, got, c.want)
		}
		if got := Compare(c.b, c.a); got != c.want {
			t.Errorf("%s, the other way: %v, not %v", name, got, c.want)
		}
	}
	if got := CleanHardware([]string{"MAC:x", "colour:red", serial, "serial:peat 14/hk7-0042", "board:", "serial:Model/0000000",
		"serial:Model/None"}); !slices.Equal(got, []string{"serial:peat 14/hk7-0042"}) {
		t.Errorf("%q", got)
	}
}

func FuzzCleanHardware(f *testing.F) {
	f.Add("serial:a/b\x00")
	f.Fuzz(func(t *testing.T, s string) {
		once := CleanHardware([]string{s})
		if again := CleanHardware(once); !slices.Equal(once, again) {
			t.Fatalf("%q becomes %q and then %q", s, once, again)
		}
	})
}

// TestMarks lets a device connect in every order of marks that got lost and of connections that it gave up, which are
// served after the next: it is always let in. Beside a copy one of the two is found out by the third connection of
// whoever comes second.
func TestMarks(t *testing.T) {
	type holder struct{ mark string }
	connect := func(m *Marks, h *holder, given string, lost bool) bool {
		next, ok := m.Next(h.mark, given)
		if !ok {
			return false
		}
		*m = next
		if !lost {
			h.mark = given
		}
		return true
	}
	const served, lost, late = 0, 1, 2 // what becomes of a connection
	for order := range 3 * 3 * 3 * 3 * 3 * 3 {
		var m Marks
		var alone holder
		rest := order
		for i := range 6 {
			before := alone
			if !connect(&m, &alone, fmt.Sprint("mark ", i), rest%3 == lost) {
				t.Fatalf("order %d: the device is taken for a copy at connection %d", order, i)
			}
			if rest%3 == late {
				connect(&m, &before, fmt.Sprint("late ", i), true)
			}
			rest /= 3
		}
	}
	var m Marks
	for i := range 10 * mostGiven {
		if !connect(&m, &holder{}, fmt.Sprint("mark ", i), true) || len(m.Given) > mostGiven {
			t.Fatalf("%d marks are kept after %d connections", len(m.Given), i+1)
		}
	}
	for order := range 256 {
		var m Marks
		device := holder{}
		for i := range 3 {
			connect(&m, &device, fmt.Sprint("before ", i), false)
		}
		both := [2]*holder{&device, {device.mark}}
		found, counts := false, [2]int{}
		for i := range 8 {
			who := order >> i & 1
			counts[who]++
			found = found || !connect(&m, both[who], fmt.Sprint("mark ", i), false)
		}
		if min(counts[0], counts[1]) > 2 && !found {
			t.Errorf("order %08b: neither is found out", order)
		}
	}
}

func TestTelling(t *testing.T) {
	for text, want := range map[string]bool{"": false, "mac:00:16:3e:00:00:01": false, "board:4c4c4544": true, "serial:7": true,
		"mac:1 board:2": true} {
		if got := Telling(strings.Fields(text)); got != want {
			t.Errorf("%q: %t", text, got)
		}
	}
}
