package desk

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"testing"
)

func TestBitmaps(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 5, 3))
	for i := range m.Pix {
		m.Pix[i] = uint8(i * 7)
	}
	for i := 3; i < len(m.Pix); i += 4 {
		m.Pix[i] = 255
	}
	back := fromDIB(toDIB(m))
	if back == nil || back.Bounds() != m.Bounds() {
		t.Fatalf("%v", back)
	}
	for y := range 3 {
		for x := range 5 {
			if back.At(x, y) != m.At(x, y) {
				t.Errorf("%d,%d is %v, not %v", x, y, back.At(x, y), m.At(x, y))
			}
		}
	}
	for n := range len(toDIB(m)) {
		if fromDIB(toDIB(m)[:n]) != nil {
			t.Errorf("%d bytes of a bitmap are one", n)
		}
	}
}

func FuzzBitmaps(f *testing.F) {
	f.Add(toDIB(image.NewNRGBA(image.Rect(0, 0, 3, 2))))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m := fromDIB(b); m != nil {
			if err := png.Encode(&bytes.Buffer{}, m); err != nil {
				t.Error(err)
			}
		}
	})
}

func TestTransparent(t *testing.T) {
	black := []uint32{0, 0xff0000, 0x800000, 0xffffff}
	white := []uint32{0xffffff, 0xff0000, 0xff7f7f, 0}
	got := transparent(black, white, 2)
	for i, want := range []color.NRGBA{{}, {255, 0, 0, 255}, {255, 0, 0, 128}, {0, 0, 0, 255}} {
		if at := got.NRGBAAt(i%2, i/2); at != want {
			t.Errorf("%d is %v, not %v", i, at, want)
		}
	}
}
