package desk

import (
	"image"
	"slices"
)

// tile is the side of the squares that are compared.
const tile = 64

// mask leaves the colours of a pixel: the system writes anything into the rest.
const mask = 0x00ffffff

// differences brings shown up to date with a desktop's pixels, and returns where they were another;
// squares beside each other come as one.
func differences(shown, pixels []uint32, w, h int, all bool) []image.Rectangle {
	var out []image.Rectangle
	for y := 0; y < h; y += tile {
		bottom, run := min(y+tile, h), image.Rectangle{}
		for x := 0; x < w; x += tile {
			right := min(x+tile, w)
			changed := all
			for row := y; row < bottom; row++ {
				a, b := shown[row*w+x:row*w+right], pixels[row*w+x:row*w+right]
				if slices.Equal(a, b) {
					continue
				}
				for i, p := range b {
					if p &= mask; a[i] != p {
						a[i], changed = p, true
					}
				}
			}
			if changed {
				run = run.Union(image.Rect(x, y, right, bottom))
			}
			if !run.Empty() && (!changed || right == w) {
				out = append(out, run)
				run = image.Rectangle{}
			}
		}
	}
	return out
}
