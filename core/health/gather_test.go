package health

import (
	"fmt"
	"testing"
)

func TestGather(t *testing.T) {
	kin := func(s string) []Kin {
		switch s[0] {
		case 's':
			return []Kin{{"strong", 2}}
		case 'w':
			return []Kin{{"pair " + s[1:2], 2}, {"weak", 3}}
		}
		return nil
	}
	for want, in := range map[string][]string{
		"[[s1 s2] [x] [x]]":   {"s1", "x", "s2", "x"},
		"[[s1] [wa]]":         {"s1", "wa"},
		"[[wa1 wa2] [wb]]":    {"wa1", "wb", "wa2"},
		"[[wa1 wa2] [wb wc]]": {"wa1", "wa2", "wb", "wc"},
		"[[wa wb wc] [x]]":    {"wa", "x", "wb", "wc"},
		"[]":                  nil,
	} {
		if got := fmt.Sprint(Gather(in, kin)); got != want {
			t.Errorf("%v gives %s, want %s", in, got, want)
		}
	}
}
