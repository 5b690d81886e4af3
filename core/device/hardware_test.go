package device

import (
	"slices"
	"testing"
)

func TestCompareHardware(t *testing.T) {
	list := func(all ...string) []string { return CleanHardware(all) }
	board, serial, mac := "board:4c4c4544-0042-3510-8054-b7c04f564433", "serial:Peat 14/HK7-0042", "mac:02:42:ac:11:00:02"
	for name, c := range map[string]struct {
		a, b []string
		want Likeness
	}{
		"the same":                      {list(board, serial, mac), list(board, serial, mac), Same},
		"another adapter":               {list(board, mac), list(board, "mac:02:42:ac:11:00:09"), Same},
		"a board replaced":              {list(board, serial), list("board:99999999-0042-3510-8054-b7c04f564433", serial), Same},
		"a copy":                        {list(board, mac), list("board:99999999-0042-3510-8054-b7c04f564433", "mac:02:42:ac:11:00:09"), Different},
		"another board, one adapter":    {list(board, mac), list("board:99999999-0042-3510-8054-b7c04f564433", mac), Unclear},
		"adapters alone":                {list(mac), list(mac, "mac:02:42:ac:11:00:09"), Same},
		"adapters alone, others":        {list(mac), list("mac:02:42:ac:11:00:09"), Unclear},
		"nothing known":                 {list(), list(board), Unclear},
		"makers who gave no number":     {list("serial:Model/To Be Filled By O.E.M.", "board:00000000-0000-0000-0000-000000000000"), list("serial:Model/To Be Filled By O.E.M.", board), Unclear},
		"kinds that are not comparable": {list(board), list(serial), Unclear},
	} {
		if got := Compare(c.a, c.b); got != c.want {
			t.Errorf("%s: %v, not %v", name, got, c.want)
		}
		if got := Compare(c.b, c.a); got != c.want {
			t.Errorf("%s, the other way: %v, not %v", name, got, c.want)
		}
	}
	if got := CleanHardware([]string{"MAC:x", "colour:red", serial, "serial:peat 14/hk7-0042", "board:", "serial:Model/0000000", "serial:Model/None"}); !slices.Equal(got, []string{"serial:peat 14/hk7-0042"}) {
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
