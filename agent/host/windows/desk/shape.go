package desk

import (
	"image"

	"moorwatch.example/agent/host/polling"
)

// transparent makes a picture of what was drawn on black and on white.
func transparent(black, white []uint32, side int) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, side, side))
	for i := range black {
		b, w := black[i]&polling.Mask, white[i]&polling.Mask
		// On white a covered pixel is as on black; one that is not covered is white there.
		alpha := 255 - min(int(w>>8&0xff)-int(b>>8&0xff), 255)
		switch {
		case alpha > 255: // it turns what is below it round: shown as black
			alpha, b = 255, 0
		case alpha <= 0:
			continue
		}
		p := out.Pix[4*i : 4*i+4]
		for c, shift := range []int{16, 8, 0} {
			p[c] = uint8(min(int(b>>shift&0xff)*255/alpha, 255))
		}
		p[3] = uint8(alpha)
	}
	return out
}
