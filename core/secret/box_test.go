package secret

import (
	"bytes"
	"errors"
	"testing"
)

func TestBoxOfBytes(t *testing.T) {
	seed := bytes.Repeat([]byte{7}, 32)
	if _, err := New(seed[:15], "tests"); err == nil {
		t.Error("a short seed makes a key")
	}
	box, err := New(seed, "tests")
	if err != nil {
		t.Fatal(err)
	}
	other, err := New(seed, "something else")
	if err != nil {
		t.Fatal(err)
	}
	for _, plain := range [][]byte{nil, {}, {0}, bytes.Repeat([]byte("moss"), 1000)} {
		sealed := box.SealBytes(plain, "a purpose")
		if len(sealed) == 0 || len(plain) > 4 && bytes.Contains(sealed, plain[:4]) {
			t.Fatalf("%d bytes are sealed as %d", len(plain), len(sealed))
		}
		if bytes.Equal(sealed, box.SealBytes(plain, "a purpose")) {
			t.Error("the same is sealed the same twice")
		}
		got, err := box.OpenBytes(sealed, "a purpose")
		if err != nil || !bytes.Equal(got, plain) {
			t.Errorf("%v, %v", got, err)
		}
		changed := bytes.Clone(sealed)
		changed[len(changed)-1] ^= 1
		for name, try := range map[string]func() ([]byte, error){
			"another purpose": func() ([]byte, error) { return box.OpenBytes(sealed, "another") },
			"another use":     func() ([]byte, error) { return other.OpenBytes(sealed, "a purpose") },
			"changed":         func() ([]byte, error) { return box.OpenBytes(changed, "a purpose") },
			"cut":             func() ([]byte, error) { return box.OpenBytes(sealed[:len(sealed)-1], "a purpose") },
			"nothing":         func() ([]byte, error) { return box.OpenBytes(nil, "a purpose") },
		} {
			if got, err := try(); !errors.Is(err, ErrKey) {
				t.Errorf("%s: %q, %v", name, got, err)
			}
		}
	}
	if box.Seal("", "a purpose") != nil {
		t.Error("an empty secret is kept as something")
	}
	if text, err := box.Open(nil, "a purpose"); err != nil || text != "" {
		t.Errorf("%q, %v", text, err)
	}
}
