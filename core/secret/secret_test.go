package secret

import (
	"errors"
	"strings"
	"testing"
)

// TestBox seals and opens, and refuses what was moved, changed or sealed by another.
func TestBox(t *testing.T) {
	box, err := New([]byte(strings.Repeat("k", 32)), "tests")
	if err != nil {
		t.Fatal(err)
	}
	other, _ := New([]byte(strings.Repeat("l", 32)), "tests")
	sealed := box.Seal("heather on the hill", "console 1")
	if text, err := box.Open(sealed, "console 1"); err != nil || text != "heather on the hill" {
		t.Fatalf("opened %q, %v", text, err)
	}
	if strings.Contains(string(sealed), "heather") || string(sealed) == string(box.Seal("heather on the hill", "console 1")) {
		t.Error("what is sealed tells something of the secret")
	}
	changed := append([]byte{}, sealed...)
	changed[len(changed)/2] ^= 1
	for name, open := range map[string]func() (string, error){
		"moved":   func() (string, error) { return box.Open(sealed, "console 2") },
		"changed": func() (string, error) { return box.Open(changed, "console 1") },
		"cut":     func() (string, error) { return box.Open(sealed[:5], "console 1") },
		"other":   func() (string, error) { return other.Open(sealed, "console 1") },
	} {
		if text, err := open(); !errors.Is(err, ErrKey) || text != "" {
			t.Errorf("%s: %q, %v", name, text, err)
		}
	}
	if text, err := box.Open(box.Seal("", "x"), "x"); text != "" || err != nil {
		t.Errorf("nothing became %q, %v", text, err)
	}
	if _, err := New([]byte("short"), "tests"); err == nil {
		t.Error("a short seed was taken")
	}
}
