package calendar

import (
	"encoding/json"
	"os"
	"testing"
)

// TestWords says rules in words; the console's test reads the same file.
func TestWords(t *testing.T) {
	text, err := os.ReadFile("testdata/rules.json")
	if err != nil {
		t.Fatal(err)
	}
	var cases map[string]string
	if err := json.Unmarshal(text, &cases); err != nil || len(cases) < 10 {
		t.Fatal(len(cases), err)
	}
	for rule, want := range cases {
		if got := Words(rule); got != want {
			t.Errorf("%s: %s, want %s", rule, got, want)
		}
	}
}

func FuzzWords(f *testing.F) {
	f.Add("FREQ=MONTHLY;BYDAY=2TU")
	f.Add("FREQ=WEEKLY;BYDAY=,;INTERVAL=")
	f.Fuzz(func(t *testing.T, rule string) {
		if Words(rule) == "" {
			t.Fatalf("%q has no words", rule)
		}
	})
}
