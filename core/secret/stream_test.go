package secret

import (
	"bytes"
	"crypto/rand"
	"io"
	"testing"
)

// TestStream writes a file in parts and reads it from every offset.
func TestStream(t *testing.T) {
	key, plain := NewKey(), make([]byte, 5000)
	rand.Read(plain)
	var file bytes.Buffer
	for offset, n := 0, 1; offset < len(plain); n = n*2 + 1 {
		n = min(n, len(plain)-offset)
		w, err := Writer(&file, key, int64(offset))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(bytes.Clone(plain[offset : offset+n])); err != nil {
			t.Fatal(err)
		}
		offset += n
	}
	if file.Len() != len(plain) || bytes.Equal(file.Bytes(), plain) {
		t.Fatalf("%d bytes became %d, or stayed as they are", len(plain), file.Len())
	}
	for offset := range plain {
		r, err := Reader(bytes.NewReader(file.Bytes()[offset:]), key, int64(offset))
		if err != nil {
			t.Fatal(err)
		}
		got := make([]byte, min(40, len(plain)-offset))
		if _, err := io.ReadFull(r, got); err != nil || !bytes.Equal(got, plain[offset:offset+len(got)]) {
			t.Fatalf("from %d on it is read as something else: %v", offset, err)
		}
	}
	// Far into a file the counter is longer than a byte.
	a, _ := Stream(key, 1<<40)
	b, _ := Stream(key, 1<<40-5)
	x, y := make([]byte, 20), make([]byte, 25)
	a.XORKeyStream(x, x)
	b.XORKeyStream(y, y)
	if !bytes.Equal(x, y[5:]) {
		t.Error("two streams differ where they meet")
	}
	for _, bad := range [][]byte{nil, key[:16]} {
		if _, err := Stream(bad, 0); err == nil {
			t.Errorf("a key of %d bytes is taken", len(bad))
		}
	}
	if _, err := Stream(key, -1); err == nil {
		t.Error("an offset below 0 is taken")
	}
}
