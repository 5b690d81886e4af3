package polling

import (
	"image"
	"math/rand/v2"
	"testing"
)

// What is told of differences covers all of them, and bringing up to date leaves none.
func TestDifferences(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for range 200 {
		w, h := 1+r.IntN(300), 1+r.IntN(300)
		shown, pixels := make([]uint32, w*h), make([]uint32, w*h)
		for range r.IntN(6) {
			pixels[r.IntN(w*h)] = r.Uint32()
		}
		old := append([]uint32(nil), shown...)
		found := Differences(shown, pixels, w, h, false)
		for i, p := range pixels {
			at := image.Pt(i%w, i/w)
			in := false
			for _, one := range found {
				in = in || at.In(one)
			}
			if old[i] != p&Mask && !in {
				t.Fatalf("%v of %dx%d is not told in %v", at, w, h, found)
			}
			if shown[i] != p&Mask {
				t.Fatalf("%v is shown as %x, not %x", at, shown[i], p)
			}
		}
		if again := Differences(shown, pixels, w, h, false); len(again) != 0 {
			t.Fatalf("told again: %v", again)
		}
	}
	if all := Differences(make([]uint32, 200*70), make([]uint32, 200*70), 200, 70, true); len(all) != 2 ||
		all[0] != image.Rect(0, 0, 200, 64) {
		t.Errorf("all of it is %v", all)
	}
}
