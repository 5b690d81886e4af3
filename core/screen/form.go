package screen

import (
	"encoding/binary"
	"image"
)

// What steps are named by.
const (
	stepMove = iota + 1
	stepFill
	stepPalette
	stepPixels
)

// Flags of an update's steps.
const (
	flagAlone  = 1 // compressed by themselves
	flagStream = 2 // compressed as the continuation of those before that were so
	flagFresh  = 4 // and that stream begins here
	flagWhole  = 8 // nothing before it is needed: all is black first
)

// streamEnd is what ends each part of the stream (an empty stored block, RFC 1951, 3.2.4, of which
// the header is in the byte before), and is left out.
var streamEnd = []byte{0, 0, 0xFF, 0xFF}

func appendRect(b []byte, r image.Rectangle) []byte {
	for _, n := range [4]int{r.Min.X, r.Min.Y, r.Dx(), r.Dy()} {
		b = binary.AppendUvarint(b, uint64(n))
	}
	return b
}

func appendColour(b []byte, v uint32) []byte { return append(b, byte(v>>16), byte(v>>8), byte(v)) }

// foretell guesses a sample from those left of it, above it, and above its left neighbour: the
// gradient, put between both neighbours (the median edge detector of ISO/IEC 14495-1). Samples
// outside the rectangle are 0, but for the first column's, which is foretold by the one above it.
func foretell(left, above, corner uint8) uint8 {
	lo, hi := min(left, above), max(left, above)
	switch {
	case corner >= hi:
		return lo
	case corner <= lo:
		return hi
	}
	return left + above - corner
}

// appendPixels writes a rectangle exactly.
func appendPixels(b []byte, p *Picture, r image.Rectangle) []byte {
	w := r.Dx()
	above, row := make([]uint8, w), make([]uint8, w)
	for plane := range 3 {
		clear(above)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x, v := range p.row(y, r.Min.X, r.Max.X) {
				switch plane {
				case 0:
					row[x] = uint8(v >> 8)
				case 1:
					row[x] = uint8(v>>16) - uint8(v>>8)
				default:
					row[x] = uint8(v) - uint8(v>>8)
				}
			}
			left, corner := above[0], above[0]
			for x, v := range row {
				b = append(b, v-foretell(left, above[x], corner))
				left, corner = v, above[x]
			}
			above, row = row, above
		}
	}
	return b
}
