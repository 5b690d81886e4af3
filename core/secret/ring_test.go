package secret

import (
	"bytes"
	"errors"
	"testing"
)

func TestRing(t *testing.T) {
	seed := func(c string) []byte { return bytes.Repeat([]byte(c), 32) }
	r, err := NewRing("tests", map[uint32][]byte{1: seed("a")})
	if err != nil {
		t.Fatal(err)
	}
	old := r.Seal("heather", "console 1")
	if err := r.Set(map[uint32][]byte{1: seed("a"), 2: seed("b")}); err != nil || r.Version() != 2 {
		t.Fatal(r.Version(), err)
	}
	if text, err := r.Open(old, "console 1"); err != nil || text != "heather" {
		t.Errorf("under the key before: %q, %v", text, err)
	}
	fresh, changed, err := r.Again(old, "console 1")
	if err != nil || !changed || bytes.Equal(fresh, old) {
		t.Errorf("sealed anew: %t, %v", changed, err)
	}
	if _, changed, err := r.Again(fresh, "console 1"); changed || err != nil {
		t.Errorf("what is sealed under the latest: %t, %v", changed, err)
	}
	if _, _, err := r.Again(old, "console 2"); !errors.Is(err, ErrKey) {
		t.Errorf("what was moved elsewhere: %v", err)
	}
	if err := r.Set(map[uint32][]byte{2: seed("b")}); err != nil {
		t.Fatal(err)
	}
	if text, err := r.Open(fresh, "console 1"); err != nil || text != "heather" {
		t.Errorf("without the key before: %q, %v", text, err)
	}
	for _, bad := range [][]byte{old, {1}, {0, 0, 0, 2}, append([]byte{0, 0, 0, 9}, fresh[4:]...)} {
		if _, err := r.Open(bad, "console 1"); !errors.Is(err, ErrKey) {
			t.Errorf("%x: %v", bad, err)
		}
	}
	if text, err := r.Open(r.Seal("", "x"), "x"); err != nil || text != "" {
		t.Errorf("an empty secret: %q, %v", text, err)
	}
	other, err := NewRing("others", map[uint32][]byte{2: seed("b")})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Open(fresh, "console 1"); !errors.Is(err, ErrKey) {
		t.Errorf("by the key of another use, of the same seed: %v", err)
	}
	for _, seeds := range []map[uint32][]byte{{}, {1: seed("a")[:8]}} {
		if _, err := NewRing("tests", seeds); err == nil {
			t.Errorf("a ring of %v", seeds)
		}
	}
}

func FuzzRingOpen(f *testing.F) {
	r, err := NewRing("tests", map[uint32][]byte{1: bytes.Repeat([]byte("a"), 32)})
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(nil))
	f.Add(r.Seal("heather", "x"))
	f.Fuzz(func(t *testing.T, sealed []byte) {
		if text, err := r.Open(sealed, "x"); err == nil && text != "" && text != "heather" {
			t.Errorf("%x opens as %q", sealed, text)
		}
	})
}
