package nearest

import (
	"fmt"
	"testing"
)

func TestOf(t *testing.T) {
	words := []string{"devices", "device", "groups", "limit", "listen"}
	for typed, want := range map[string]string{"devcies": "devices", "devics": "devices", "limt": "limit",
		"lisetn": "listen", "xyzzy": "", "": "",
		"group": "groups", "limit": "limit", "colour": ""} {
		if got := Of(typed, words); got != want {
			t.Errorf("%q: %q, want %q", typed, got, want)
		}
	}
	if got := Of("anything", nil); got != "" {
		t.Errorf("of no words: %q", got)
	}
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"a", "", 1}, {"devcies", "devices", 2}, {"limt", "limit", 1}, {"same", "same", 0}, {"abc", "xyz", 3}} {
		if got := distance(c.a, c.b); got != c.want || distance(c.b, c.a) != c.want {
			t.Errorf("%s and %s: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}

// A misspelt word is answered with the nearest.
func Example() {
	fmt.Println(Of("devcies", []string{"alerts", "devices", "jobs"}))
	// Output:
	// devices
}
