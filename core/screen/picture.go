package screen

import (
	"errors"
	"image"
	"image/color"
)

// MaxSide is the most that a picture may be wide or high, in pixels.
const MaxSide = 16384

// maxPixels bounds what a picture takes of memory.
const maxPixels = 64 << 20

// Picture is a desktop, or a part of one. A pixel is 0x00RRGGBB.
type Picture struct {
	W, H int
	Pix  []uint32 // row after row
}

var errSize = errors.New("a picture of that size is refused")

// NewPicture makes a black picture.
func NewPicture(w, h int) (*Picture, error) {
	if w < 1 || h < 1 || w > MaxSide || h > MaxSide || w*h > maxPixels {
		return nil, errSize
	}
	return &Picture{W: w, H: h, Pix: make([]uint32, w*h)}, nil
}

// ColorModel, Bounds and At make it an image.Image.
func (p *Picture) ColorModel() color.Model { return color.RGBAModel }
func (p *Picture) Bounds() image.Rectangle { return image.Rect(0, 0, p.W, p.H) }
func (p *Picture) At(x, y int) color.Color {
	if !image.Pt(x, y).In(p.Bounds()) {
		return color.RGBA{}
	}
	v := p.Pix[y*p.W+x]
	return color.RGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255}
}

// row is a part of one row.
func (p *Picture) row(y, x0, x1 int) []uint32 { return p.Pix[y*p.W+x0 : y*p.W+x1 : y*p.W+x1] }

// run is how many pixels are compared at once.
const run = 16

// alike tells whether two rows of the same length are equal.
func alike(a, b []uint32) bool {
	for len(a) >= run {
		if *(*[run]uint32)(a) != *(*[run]uint32)(b) {
			return false
		}
		a, b = a[run:], b[run:]
	}
	for i, v := range a {
		if v != b[i] {
			return false
		}
	}
	return true
}

// alikeAhead counts the pixels by which two rows of the same length are equal from their beginning,
// alikeBack those from their end.
func alikeAhead(a, b []uint32) (n int) {
	for len(a)-n >= run && *(*[run]uint32)(a[n:]) == *(*[run]uint32)(b[n:]) {
		n += run
	}
	for n < len(a) && a[n] == b[n] {
		n++
	}
	return n
}

func alikeBack(a, b []uint32) (n int) {
	for len(a)-n >= run && *(*[run]uint32)(a[len(a)-n-run:]) == *(*[run]uint32)(b[len(b)-n-run:]) {
		n += run
	}
	for n < len(a) && a[len(a)-n-1] == b[len(b)-n-1] {
		n++
	}
	return n
}

// differ returns the smallest rectangle within r outside of which two pictures of one size are equal;
// an empty one where they are equal.
func differ(a, b *Picture, r image.Rectangle) image.Rectangle {
	for r.Min.Y < r.Max.Y && alike(a.row(r.Min.Y, r.Min.X, r.Max.X), b.row(r.Min.Y, r.Min.X, r.Max.X)) {
		r.Min.Y++
	}
	if r.Min.Y == r.Max.Y {
		return image.Rectangle{}
	}
	for alike(a.row(r.Max.Y-1, r.Min.X, r.Max.X), b.row(r.Max.Y-1, r.Min.X, r.Max.X)) {
		r.Max.Y--
	}
	left, right := r.Max.X, r.Min.X
	for y := r.Min.Y; y < r.Max.Y; y++ {
		p, q := a.row(y, r.Min.X, r.Max.X), b.row(y, r.Min.X, r.Max.X)
		for x := range min(left-r.Min.X, len(p)) {
			if p[x] != q[x] {
				left = r.Min.X + x
				break
			}
		}
		for x := len(p) - 1; x >= max(right-r.Min.X, 0); x-- {
			if p[x] != q[x] {
				right = r.Min.X + x + 1
				break
			}
		}
	}
	r.Min.X, r.Max.X = left, right
	return r
}

// Copy copies a rectangle that lies within both pictures, to the same place.
func (p *Picture) Copy(from *Picture, r image.Rectangle) {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		copy(p.row(y, r.Min.X, r.Max.X), from.row(y, r.Min.X, r.Max.X))
	}
}

// move copies what stands at r moved by d to r.
func (p *Picture) move(r image.Rectangle, d image.Point) {
	from := r.Add(d)
	for i := range r.Dy() {
		if d.Y < 0 { // what is read later must not be written before
			i = r.Dy() - 1 - i
		}
		copy(p.row(r.Min.Y+i, r.Min.X, r.Max.X), p.row(from.Min.Y+i, from.Min.X, from.Max.X))
	}
}

// Scaled returns the part r of a picture, n times smaller each way: each pixel is the mean of n times
// n, at the lower and right edge of those that there are. n is 1 to 256.
func (p *Picture) Scaled(r image.Rectangle, n int) *Picture {
	r = r.Intersect(p.Bounds())
	out := &Picture{W: (r.Dx() + n - 1) / n, H: (r.Dy() + n - 1) / n}
	out.Pix = make([]uint32, out.W*out.H)
	p.ScaleInto(out, r.Min, n, out.Bounds())
	return out
}

// ScaleInto writes the part r of out, a picture n times smaller than the part of p that begins at a
// point.
func (p *Picture) ScaleInto(out *Picture, at image.Point, n int, r image.Rectangle) {
	if n == 1 {
		for y := r.Min.Y; y < r.Max.Y; y++ {
			copy(out.row(y, r.Min.X, r.Max.X), p.row(y+at.Y, r.Min.X+at.X, r.Max.X+at.X))
		}
		return
	}
	// What lies beyond the picture counts for nothing.
	from, to := at.X+r.Min.X*n, min(at.X+r.Max.X*n, p.W)
	if from >= to {
		return
	}
	columns := make([]column, to-from)
	whole := (to - from) / n
	for y := r.Min.Y; y < r.Max.Y; y++ {
		top, bottom := at.Y+y*n, min(at.Y+y*n+n, p.H)
		if top >= bottom {
			return
		}
		into := out.row(y, r.Min.X, r.Max.X)
		if n == 2 && bottom-top == 2 && whole == len(into) { // as in most windows
			halve(into, p.row(top, from, to), p.row(top+1, from, to))
			continue
		}
		clear(columns)
		for yy := top; yy < bottom; yy++ {
			addUp(columns, p.row(yy, from, to))
		}
		means(into[:whole], columns, n, bottom-top)
		if rest := (to - from) % n; rest > 0 {
			means(into[whole:whole+1], columns[whole*n:], rest, bottom-top)
		}
	}
}

// column is the sum of up to 256 pixels, one above the other: as numbers, and of their red and blue.
type column struct{ all, outer uint32 }

func addUp(columns []column, row []uint32) {
	for i := 0; i < len(row) && i < len(columns); i++ {
		v := row[i]
		columns[i].all += v
		columns[i].outer += v & 0xFF00FF
	}
}

// halve writes the rounded mean of each two times two pixels.
func halve(to, above, below []uint32) {
	for i, j := 0, 0; i < len(to) && j+1 < len(above) && j+1 < len(below); i, j = i+1, j+2 {
		a, b, c, d := above[j], above[j+1], below[j], below[j+1]
		outer := a&0xFF00FF + b&0xFF00FF + c&0xFF00FF + d&0xFF00FF
		green := a&0xFF00 + b&0xFF00 + c&0xFF00 + d&0xFF00
		to[i] = (outer+0x20002)>>2&0xFF00FF | (green+0x200)>>2&0xFF00
	}
}

// means writes the rounded mean of each n columns of a height.
func means(to []uint32, columns []column, n, height int) {
	count := uint64(n * height)
	half := count / 2
	// The quotient by multiplication, which is exact for what 256 times 256 pixels add up to (Granlund
	// and Montgomery, "Division by Invariant Integers using Multiplication", 1994).
	by := uint64(1)<<40/count + 1
	for i := range to {
		var all, red, blue uint64
		of := columns[:n]
		columns = columns[n:]
		for _, c := range of {
			all += uint64(c.all)
			red += uint64(c.outer >> 16)
			blue += uint64(c.outer & 0xFFFF)
		}
		green := (all - red<<16 - blue) >> 8
		to[i] = uint32((red+half)*by>>40<<16 | (green+half)*by>>40<<8 | (blue+half)*by>>40)
	}
}

// Fewer leaves 32 shades of each colour in a part, Grey only grey, and Blank only black.
func (p *Picture) Fewer(r image.Rectangle) {
	p.each(r, func(v uint32) uint32 { v &= 0xF8F8F8; return v | v>>5&0x070707 })
}
func (p *Picture) Grey(r image.Rectangle) {
	p.each(r, func(v uint32) uint32 { return luma(v) * 0x010101 })
}
func (p *Picture) Blank(r image.Rectangle) { p.each(r, func(uint32) uint32 { return 0 }) }

func (p *Picture) each(r image.Rectangle, change func(v uint32) uint32) {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		row := p.row(y, r.Min.X, r.Max.X)
		for x, v := range row {
			row[x] = change(v)
		}
	}
}

// luma is how bright a pixel is, 0 to 255 (ITU-R BT.601).
func luma(v uint32) uint32 {
	return (19595*(v>>16&255) + 38470*(v>>8&255) + 7471*(v&255) + 1<<15) >> 16
}

// Differences lists what differs between two pictures of one size: for each tile that does the
// smallest rectangle, those of neighbours in a row joined.
func Differences(a, b *Picture) (list []image.Rectangle) {
	for y := 0; y < a.H; y += Tile {
		joins := false
		for x := 0; x < a.W; x += Tile {
			r := differ(a, b, image.Rect(x, y, x+Tile, y+Tile).Intersect(a.Bounds()))
			switch {
			case r.Empty():
				joins = false
				continue
			case joins:
				list[len(list)-1] = list[len(list)-1].Union(r)
			default:
				list = append(list, r)
			}
			joins = true
		}
	}
	return list
}
