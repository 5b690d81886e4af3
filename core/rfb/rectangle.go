package rfb

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"image"
	"io"

	"moorwatch.example/core/screen"
)

// rectangle reads a part of the picture, which lies within it.
func (c *Client) rectangle(r image.Rectangle, encoding int32) error {
	p := &painter{in: c.in, r: r, pix: make([]uint32, r.Dx()*r.Dy())}
	var err error
	switch encoding {
	case encodingRaw:
		p.pixels(p.r)
	case encodingCopy:
		return c.copyFrom(r)
	case encodingRRE:
		p.rre()
	case encodingHextile:
		p.hextile()
	case encodingTRLE:
		p.runs(16, true)
	case encodingZRLE:
		if p.in, err = c.zrle.next(c.in); err != nil {
			return err
		}
		p.runs(64, false)
	default:
		return malformed("encoding %d, which was not asked for", encoding)
	}
	if p.err != nil {
		return p.err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for y := range r.Dy() {
		copy(c.picture.Pix[(r.Min.Y+y)*c.picture.W+r.Min.X:], p.pix[y*r.Dx():(y+1)*r.Dx()])
	}
	return nil
}

// copyFrom reads where in the picture the rectangle stands already (section 7.7.2).
func (c *Client) copyFrom(r image.Rectangle) error {
	var at struct{ X, Y uint16 }
	if err := c.read(&at); err != nil {
		return err
	}
	from := r.Sub(r.Min).Add(image.Pt(int(at.X), int(at.Y)))
	c.mu.Lock()
	defer c.mu.Unlock()
	if !from.In(c.picture.Bounds()) {
		return malformed("a copy from %v outside of the picture", from)
	}
	part := &screen.Picture{W: r.Dx(), H: r.Dy(), Pix: make([]uint32, r.Dx()*r.Dy())}
	c.picture.ScaleInto(part, from.Min, 1, part.Bounds())
	for y := range r.Dy() {
		copy(c.picture.Pix[(r.Min.Y+y)*c.picture.W+r.Min.X:], part.Pix[y*r.Dx():(y+1)*r.Dx()])
	}
	return nil
}

// packed is the one compressed stream in which a connection's rectangles come (section 7.7.6).
type packed struct {
	part   bytes.Buffer
	stream io.Reader
	plain  *bufio.Reader
}

// next takes the next part of the stream.
func (z *packed) next(in io.Reader) (*bufio.Reader, error) {
	var n uint32
	if err := binary.Read(in, binary.BigEndian, &n); err != nil {
		return nil, err
	}
	if n > maxPacked {
		return nil, malformed("%d bytes for one rectangle", n)
	}
	if _, err := io.CopyN(&z.part, in, int64(n)); err != nil {
		return nil, err
	}
	if z.stream == nil {
		stream, err := zlib.NewReader(&z.part)
		if err != nil {
			return nil, malformed("%v", err)
		}
		z.stream = stream
		z.plain = bufio.NewReaderSize(stream, 16<<10)
	}
	return z.plain, nil
}

// painter reads the pixels of one rectangle. After an error it reads zeros.
type painter struct {
	in  *bufio.Reader
	r   image.Rectangle
	pix []uint32
	err error
}

func (p *painter) full(b []byte) {
	if p.err != nil {
		clear(b)
	} else if _, p.err = io.ReadFull(p.in, b); p.err != nil {
		clear(b)
	}
}

func (p *painter) byte() byte {
	var b [1]byte
	p.full(b[:])
	return b[0]
}

func (p *painter) pixel() uint32 {
	var b [4]byte
	p.full(b[:])
	return binary.LittleEndian.Uint32(b[:]) & 0xffffff
}

// short is a pixel without the byte that tells nothing (CPIXEL, section 7.7.5).
func (p *painter) short() uint32 {
	var b [3]byte
	p.full(b[:])
	return uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16
}

// fill fills a part of the rectangle, given in the picture's coordinates.
func (p *painter) fill(r image.Rectangle, v uint32) {
	if r.Empty() { // which lies in every other, wherever it is
		return
	}
	if !r.In(p.r) {
		p.fail("a part at %v outside of its rectangle", r)
		return
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		row := p.row(y, r)
		for x := range row {
			row[x] = v
		}
	}
}

func (p *painter) row(y int, r image.Rectangle) []uint32 {
	return p.pix[(y-p.r.Min.Y)*p.r.Dx()+r.Min.X-p.r.Min.X:][:r.Dx()]
}

func (p *painter) fail(text string, args ...any) {
	if p.err == nil {
		p.err = malformed(text, args...)
	}
}

// pixels reads a part pixel by pixel.
func (p *painter) pixels(r image.Rectangle) {
	b := make([]byte, 4*r.Dx())
	for y := r.Min.Y; y < r.Max.Y && p.err == nil; y++ {
		p.full(b)
		for x := range r.Dx() {
			p.row(y, r)[x] = binary.LittleEndian.Uint32(b[4*x:]) & 0xffffff
		}
	}
}

// rre reads a background, and rectangles on it (section 7.7.3).
func (p *painter) rre() {
	var n [4]byte
	p.full(n[:])
	p.fill(p.r, p.pixel())
	for range binary.BigEndian.Uint32(n[:]) {
		if p.err != nil {
			return
		}
		v := p.pixel()
		var b [8]byte
		p.full(b[:])
		at := func(i int) int { return int(binary.BigEndian.Uint16(b[i:])) }
		p.fill(image.Rect(at(0), at(2), at(0)+at(4), at(2)+at(6)).Add(p.r.Min), v)
	}
}

// tiles calls f with the tiles of the rectangle, row by row.
func (p *painter) tiles(side int, f func(image.Rectangle)) {
	for y := p.r.Min.Y; y < p.r.Max.Y; y += side {
		for x := p.r.Min.X; x < p.r.Max.X && p.err == nil; x += side {
			f(image.Rect(x, y, x+side, y+side).Intersect(p.r))
		}
	}
}

// Bits of what follows for a tile (section 7.7.4).
const (
	hextileRaw = 1 << iota
	hextileBackground
	hextileForeground
	hextileParts
	hextileColoured
)

func (p *painter) hextile() {
	var background, foreground uint32
	p.tiles(16, func(t image.Rectangle) {
		mask := p.byte()
		if mask&hextileRaw != 0 {
			p.pixels(t)
			return
		}
		if mask&hextileBackground != 0 {
			background = p.pixel()
		}
		if mask&hextileForeground != 0 {
			foreground = p.pixel()
		}
		p.fill(t, background)
		if mask&hextileParts == 0 {
			return
		}
		for range p.byte() {
			v := foreground
			if mask&hextileColoured != 0 {
				v = p.pixel()
			}
			at, size := p.byte(), p.byte()
			r := image.Rect(0, 0, int(size>>4)+1, int(size&15)+1).Add(image.Pt(int(at>>4), int(at&15))).Add(t.Min)
			if !r.In(t) {
				p.fail("a part outside of its tile")
				return
			}
			p.fill(r, v)
		}
	})
}

// Kinds of a tile (section 7.7.5): below and from these numbers.
const (
	tileRaw      = 0
	tileFilled   = 1
	tilePalette  = 16 // up to it, the size of a palette of which each pixel is one
	tileAgain    = 127
	tileRuns     = 128
	tileRunAgain = 129
)

// runs reads tiles of palettes and runs; again allows the palette of the tile before to be used.
func (p *painter) runs(side int, again bool) {
	var palette []uint32
	read := func(n int) {
		palette = palette[:0]
		for range n {
			palette = append(palette, p.short())
		}
	}
	colour := func(i byte) uint32 {
		if int(i) >= len(palette) {
			p.fail("a colour that its palette lacks")
			return 0
		}
		return palette[i]
	}
	p.tiles(side, func(t image.Rectangle) {
		switch kind := p.byte(); {
		case kind == tileRaw:
			p.each(t, func() (uint32, int) { return p.short(), 1 })
		case kind == tileFilled:
			p.fill(t, p.short())
		case kind <= tilePalette || kind == tileAgain && again:
			if kind != tileAgain {
				read(int(kind))
			}
			p.places(t, len(palette), colour)
		case kind == tileRuns:
			p.each(t, func() (uint32, int) { v := p.short(); return v, p.long() })
		case kind > tileRunAgain || kind == tileRunAgain && again:
			if kind != tileRunAgain {
				read(int(kind) - 128)
			}
			p.each(t, func() (uint32, int) {
				i := p.byte()
				if i&128 == 0 {
					return colour(i), 1
				}
				return colour(i & 127), p.long()
			})
		default:
			p.fail("a tile of kind %d", kind)
		}
	})
}

// each fills a tile with runs of pixels, row after row.
func (p *painter) each(t image.Rectangle, next func() (v uint32, n int)) {
	for i, all := 0, t.Dx()*t.Dy(); i < all && p.err == nil; {
		v, n := next()
		if n > all-i {
			p.fail("a run that is longer than its tile")
			return
		}
		for ; n > 0; n-- {
			p.row(t.Min.Y+i/t.Dx(), t)[i%t.Dx()] = v
			i++
		}
	}
}

// long reads how long a run is: one more than the sum of bytes up to one that is not 255.
func (p *painter) long() int {
	n := 1
	for p.err == nil {
		b := p.byte()
		n += int(b)
		if b != 255 {
			break
		}
		if n > 64*64 {
			p.fail("a run that is longer than its tile")
		}
	}
	return n
}

// places reads a tile of which each pixel is one of a palette, in as few bits as do.
func (p *painter) places(t image.Rectangle, n int, colour func(byte) uint32) {
	bits := 4
	switch {
	case n <= 2:
		bits = 1
	case n <= 4:
		bits = 2
	case n > tilePalette:
		p.fail("a palette of %d colours where 16 may be", n)
		return
	}
	b := make([]byte, (t.Dx()*bits+7)/8)
	for y := t.Min.Y; y < t.Max.Y && p.err == nil; y++ {
		p.full(b)
		for x := range t.Dx() {
			at := x * bits
			p.row(y, t)[x] = colour(b[at/8] >> (8 - bits - at%8) & (1<<bits - 1))
		}
	}
}
