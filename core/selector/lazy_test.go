package selector

import (
	"reflect"
	"testing"
	"time"

	"cel.dev/cel-go/common/types"
)

// Software and readings are maps to an expression in every way that an expression has.
func TestMapsOfExpressions(t *testing.T) {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	s := &Subject{Software: installed{"heathssl": "1.1", "moss": "2"}, Readings: read{"disk /": 91}}
	for text, want := range map[string]bool{
		`software["heathssl"] == "1.1"`: true, `"moss" in software`: true, `"none" in software`: false, `size(software) == 2`: true,
		`software.exists(n, n.startsWith("heath"))`: true, `software.all(n, software[n] != "")`: true, `readings["disk /"] > 90.0`: true,
		`software == software`: false,
	} {
		c, err := Compile(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got, err := c.Match(s, now); err != nil || got != want {
			t.Errorf("%s: %v, %v", text, got, err)
		}
	}
	missing, err := Compile(`software["none"] == "1"`)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := missing.Match(s, now); err == nil {
		t.Error("what is not installed has a version")
	}
	if ok, err := missing.Match(&Subject{}, now); err == nil || ok {
		t.Error("what is not installed on a device without software has a version")
	}
	empty := lazyMap{}
	if empty.Size() != types.Int(0) || empty.Contains(types.String("x")) != types.False || empty.Contains(types.Int(1)) != types.False ||
		empty.Value().([]string) != nil || empty.Type() != types.MapType || empty.ConvertToType(types.MapType) == nil {
		t.Error("an empty map holds something")
	}
	if !types.IsError(empty.ConvertToType(types.StringType)) || !types.IsError(empty.Get(types.String("x"))) {
		t.Error("a map became a text")
	}
	if _, err := empty.ConvertToNative(reflect.TypeFor[string]()); err == nil {
		t.Error("a map became a text")
	}
}
