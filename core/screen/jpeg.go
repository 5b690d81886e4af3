package screen

import (
	"encoding/binary"
	"image"
	digits "math/bits"
)

// photographer writes areas of pictures as baseline JPEG (ITU-T T.81, JFIF 1.02), the colour at half the
// resolution. Package image/jpeg would do, and takes four times as long: whole screens that change are
// bound by it. It computes with whole numbers alone, so that it writes the same everywhere.
type photographer struct {
	quality int
	head    []byte // all but the size
	divide  [2][64]divisor
	out     []byte
	have    uint64 // bits that are to be written, n of them, the last the lowest
	n       uint
	before  [3]int32 // the first coefficients of the blocks before
	luma    [4][64]int32
	chroma  [2][64]int32
}

// divisor divides numbers below 1<<16 by a multiplication, to the nearest; those of at most none are 0.
type divisor struct {
	half, by uint32
	none     int32
}

// symbol is a code's bits and their number.
type symbol struct {
	bits uint32
	n    uint8
}

var symbols = func() (all [4][256]symbol) {
	for t, c := range codes {
		next, k := uint32(0), 0
		for length, count := range c.counts {
			for range count {
				all[t][c.values[k]] = symbol{next, uint8(length + 1)}
				next++
				k++
			}
			next <<= 1
		}
	}
	return all
}()

// scales are what the transform below multiplies its coefficients with, in 1<<14 parts: the products of
// the scale factors of Arai, Agui and Nakajima.
var scales = func() (all [64]uint32) {
	row := [8]uint32{16384, 22725, 21407, 19266, 16384, 12873, 8867, 4520}
	for y := range 8 {
		for x := range 8 {
			all[y*8+x] = (row[y]*row[x] + 1<<13) >> 14
		}
	}
	return all
}()

// begin makes the tables of a quality, 1 to 100.
func (g *photographer) begin(quality int) {
	if g.quality == quality {
		return
	}
	g.quality = quality
	scale := 200 - 2*quality
	if quality < 50 {
		scale = 5000 / quality
	}
	b := append(g.head[:0], 0xFF, 0xD8, 0xFF, 0xDB, 0, 2+2*65)
	for t := range roughness {
		b = append(b, byte(t))
		for i, v := range roughness[t] {
			q := min(max((int(v)*scale+50)/100, 1), 255)
			b = append(b, byte(q))
			// The transform's results are eight times as large as they should be.
			d := (uint32(q)*scales[zigzag[i]] + 1<<10) >> 11
			g.divide[t][zigzag[i]] = divisor{d / 2, uint32((1<<32 + uint64(d) - 1) / uint64(d)), int32(d - d/2 - 1)}
		}
	}
	for t, c := range codes {
		b = append(b, 0xFF, 0xC4)
		b = binary.BigEndian.AppendUint16(b, uint16(2+17+len(c.values)))
		b = append(b, byte(t&1<<4|t>>1)) // class and destination
		b = append(append(b, c.counts[:]...), c.values...)
	}
	g.head = b
}

// take appends an area to dst.
func (g *photographer) take(dst []byte, p *Picture, r image.Rectangle, quality int) []byte {
	g.begin(min(max(quality, 1), 100))
	b := append(dst, g.head...)
	b = append(b, 0xFF, 0xC0, 0, 17, 8)
	b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, uint16(r.Dy())), uint16(r.Dx()))
	b = append(b, 3, 1, 0x22, 0, 2, 0x11, 1, 3, 0x11, 1)
	b = append(b, 0xFF, 0xDA, 0, 12, 3, 1, 0x00, 2, 0x11, 3, 0x11, 0, 63, 0)
	g.out, g.have, g.n, g.before = b, 0, 0, [3]int32{}
	for y := r.Min.Y; y < r.Max.Y; y += 16 {
		for x := r.Min.X; x < r.Max.X; x += 16 {
			g.read(p, r, x, y)
			for i := range g.luma {
				g.write(&g.luma[i], 0, 0)
			}
			g.write(&g.chroma[0], 1, 1)
			g.write(&g.chroma[1], 1, 2)
		}
	}
	g.emit(0x7F, 7) // ones until a byte is whole
	b = append(g.out, 0xFF, 0xD9)
	g.out = nil
	return b
}

// read reads sixteen pixels square. What lies outside the area is as its edge.
func (g *photographer) read(p *Picture, r image.Rectangle, x0, y0 int) {
	inside := x0+16 <= r.Max.X
	var edge [16]uint32
	for y := 0; y < 16; y += 2 {
		for half := range 2 {
			at := min(y0+y+half, r.Max.Y-1)
			var row *[16]uint32
			if inside {
				row = (*[16]uint32)(p.row(at, x0, x0+16))
			} else {
				n := copy(edge[:], p.row(at, x0, r.Max.X))
				for ; n < 16; n++ {
					edge[n] = edge[n-1]
				}
				row = &edge
			}
			place := (y + half) & 7 * 8
			left, right := &g.luma[y>>3*2], &g.luma[y>>3*2+1]
			for i := range 8 {
				left[place+i] = int32(luma(row[i])) - 128
				right[place+i] = int32(luma(row[i+8])) - 128
			}
			if half == 0 {
				cb, cr := (*[8]int32)(g.chroma[0][y>>1*8:]), (*[8]int32)(g.chroma[1][y>>1*8:])
				for i := range 8 {
					v := row[2*i]
					red, green, blue := int32(v>>16&255), int32(v>>8&255), int32(v&255)
					cb[i] = min((-11059*red-21709*green+32768*blue+1<<15)>>16, 127)
					cr[i] = min((32768*red-27439*green-5329*blue+1<<15)>>16, 127)
				}
			}
		}
	}
}

// write transforms a block and writes it with the tables t; c is which of the three it belongs to.
func (g *photographer) write(b *[64]int32, t, c int) {
	transform(b)
	first := g.divide[t][0].divide(b[0])
	d := first - g.before[c]
	g.before[c] = first
	g.number(&symbols[2*t], 0, d)
	run := 0
	table, by := &symbols[2*t+1], &g.divide[t]
	for _, at := range zigzag[1:] {
		v, by := b[at&63], &by[at&63]
		if uint32(v+by.none) <= uint32(2*by.none) {
			run++
			continue
		}
		v = by.divide(v)
		for ; run > 15; run -= 16 {
			s := table[0xF0]
			g.emit(s.bits, uint(s.n))
		}
		g.number(table, run, v)
		run = 0
	}
	if run > 0 {
		s := table[0]
		g.emit(s.bits, uint(s.n))
	}
}

func (d *divisor) divide(v int32) int32 {
	if v < 0 {
		return -int32(uint64(uint32(-v)+d.half) * uint64(d.by) >> 32)
	}
	return int32(uint64(uint32(v)+d.half) * uint64(d.by) >> 32)
}

// number writes a coefficient after so many that are 0.
func (g *photographer) number(table *[256]symbol, run int, v int32) {
	size, low := uint(digits.Len32(uint32(max(v, -v)))), v
	if v < 0 {
		low = v - 1
	}
	s := table[uint(run)<<4|size]
	g.emit(s.bits<<size|uint32(low)&(1<<size-1), uint(s.n)+size)
}

// emit writes n bits, at most 32.
func (g *photographer) emit(v uint32, n uint) {
	g.have, g.n = g.have<<n|uint64(v), g.n+n
	for g.n >= 8 {
		g.n -= 8
		b := byte(g.have >> g.n)
		g.out = append(g.out, b)
		if b == 0xFF {
			g.out = append(g.out, 0)
		}
	}
}

// transform is the discrete cosine transform of Arai, Agui and Nakajima, rows first, in fixed point with
// eight bits.
func transform(b *[64]int32) {
	for i := 0; i < 64; i += 8 {
		turn(&b[i], &b[i+1], &b[i+2], &b[i+3], &b[i+4], &b[i+5], &b[i+6], &b[i+7])
	}
	for i := range 8 {
		turn(&b[i], &b[i+8], &b[i+16], &b[i+24], &b[i+32], &b[i+40], &b[i+48], &b[i+56])
	}
}

func turn(p0, p1, p2, p3, p4, p5, p6, p7 *int32) {
	s0, d0 := *p0+*p7, *p0-*p7
	s1, d1 := *p1+*p6, *p1-*p6
	s2, d2 := *p2+*p5, *p2-*p5
	s3, d3 := *p3+*p4, *p3-*p4
	t0, t3, t1, t2 := s0+s3, s0-s3, s1+s2, s1-s2
	*p0, *p4 = t0+t1, t0-t1
	z1 := (t2 + t3) * 181 >> 8
	*p2, *p6 = t3+z1, t3-z1
	u0, u1, u2 := d3+d2, d2+d1, d1+d0
	z5 := (u0 - u2) * 98 >> 8
	z2, z4, z3 := u0*139>>8+z5, u2*334>>8+z5, u1*181>>8
	z11, z13 := d0+z3, d0-z3
	*p5, *p3, *p1, *p7 = z13+z2, z13-z2, z11+z4, z11-z4
}
