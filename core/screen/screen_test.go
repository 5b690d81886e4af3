package screen

import (
	"encoding/binary"
	"fmt"
	"image"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// desk is a picture that is worked on at random, as a desktop is.
type desk struct {
	*Picture
	r *rand.Rand
}

func newDesk(seed uint64, w, h int) desk {
	p, err := NewPicture(w, h)
	if err != nil {
		panic(err)
	}
	return desk{p, rand.New(rand.NewPCG(seed, 1))}
}

func (d desk) anywhere() image.Rectangle {
	x, y := d.r.IntN(d.W), d.r.IntN(d.H)
	return image.Rect(x, y, x+1+d.r.IntN(d.W-x), y+1+d.r.IntN(d.H-y))
}

// work does something, and returns where.
func (d desk) work() image.Rectangle {
	r := d.anywhere()
	switch d.r.IntN(5) {
	case 0: // a flat area
		d.each(r, func(int, int) uint32 { return 0x204060 })
	case 1: // writing
		shades := make([]uint32, 1+d.r.IntN(40))
		for i := range shades {
			shades[i] = d.r.Uint32() & 0xFFFFFF
		}
		d.each(r, func(int, int) uint32 { return shades[d.r.IntN(len(shades))] })
	case 2: // a photograph
		d.each(r, func(x, y int) uint32 {
			return uint32(x*3+d.r.IntN(9))&255<<16 | uint32(y*2+d.r.IntN(9))&255<<8 | uint32(x+y)&255
		})
	case 3: // a move
		by := image.Pt(d.r.IntN(41)-20, d.r.IntN(41)-20)
		r = r.Intersect(d.Bounds().Sub(by))
		if !r.Empty() {
			d.move(r, by)
		}
	default: // a key's worth
		r = image.Rect(r.Min.X, r.Min.Y, r.Min.X+7, r.Min.Y+13).Intersect(d.Bounds())
		d.each(r, func(x, y int) uint32 { return uint32((x ^ y) & 1 * 0xFFFFFF) })
	}
	return r
}

func (d desk) each(r image.Rectangle, pixel func(x, y int) uint32) {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			d.Pix[y*d.W+x] = pixel(x, y)
		}
	}
}

// A viewer without bounds shows every picture exactly, and one with bounds shows the last one exactly
// once it is still.
func TestShownExactly(t *testing.T) {
	for _, c := range []struct {
		name            string
		w, h            int
		quality, budget int
	}{
		{"exact", 300, 200, 0, 0}, {"rough first", 300, 200, 60, 0}, {"little room", 300, 200, 40, 900}, {"a strip", 641, 3, 50, 100},
		{"a dot", 1, 1, 50, 10},
	} {
		t.Run(c.name, func(t *testing.T) {
			for seed := range uint64(20) {
				d, e, v := newDesk(seed, c.w, c.h), NewEncoder(), new(Decoder)
				now := time.Unix(0, 0)
				send := func() bool {
					now = now.Add(30 * time.Millisecond)
					u := e.Update(d.Picture, Wish{Now: now, Budget: c.budget, Quality: c.quality})
					if u == nil {
						return false
					}
					if err := v.Update(u); err != nil {
						t.Fatal(seed, err)
					}
					return true
				}
				for n := range 40 {
					if n > 0 {
						e.Damage(d.work())
					}
					send()
					if c.quality == 0 && !slices.Equal(v.Shown().Pix, d.Pix) {
						t.Fatalf("seed %d, step %d: it is not shown as it is", seed, n)
					}
				}
				for n := 0; ; n++ {
					changes, exact := e.Pending()
					if !changes && exact.IsZero() {
						break
					}
					if !send() && !changes && exact.After(now) {
						now = exact
					}
					if n > 10_000 {
						t.Fatal("it never comes to an end")
					}
				}
				if !slices.Equal(v.Shown().Pix, d.Pix) {
					t.Fatalf("seed %d: it is not exact when still", seed)
				}
				if send() {
					t.Errorf("seed %d: a still picture is sent", seed)
				}
			}
		})
	}
}

// Scrolling and dragging cost a move and what comes into sight.
func TestMovesAreFound(t *testing.T) {
	for _, c := range []struct {
		name string
		by   image.Point
		r    image.Rectangle
	}{
		{"scroll up", image.Pt(0, 26), image.Rect(40, 40, 700, 500)},
		{"scroll down", image.Pt(0, -13), image.Rect(40, 40, 700, 500)},
		{"sideways", image.Pt(-33, 0), image.Rect(100, 40, 700, 500)},
		{"dragged", image.Pt(17, 9), image.Rect(40, 40, 500, 400)},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, e := newDesk(7, 800, 600), NewEncoder()
			shades := []uint32{0xFFFFFF, 0xFFFFFF, 0xFFFFFF, 0x101010, 0x7777AA}
			d.each(c.r.Inset(-30), func(x, y int) uint32 {
				if y%13 > 9 {
					return 0xFFFFFF
				}
				return shades[d.r.IntN(len(shades))]
			})
			first := e.Update(d.Picture, Wish{})
			d.move(c.r, c.by)
			e.Damage(c.r)
			u := e.Update(d.Picture, Wish{})
			if len(u) > 80 {
				t.Errorf("the move cost %d bytes, all of it %d", len(u), len(first))
			}
		})
	}
}

func TestScaled(t *testing.T) {
	p, _ := NewPicture(5, 3)
	for i := range p.Pix {
		p.Pix[i] = uint32(i%5) * 0x0A0A0A
	}
	got := p.Scaled(p.Bounds(), 2)
	if got.W != 3 || got.H != 2 || !slices.Equal(got.Pix, []uint32{0x050505, 0x191919, 0x282828, 0x050505, 0x191919, 0x282828}) {
		t.Errorf("%+v", got)
	}
}

// Each pixel of a smaller picture is the rounded mean of those there are of its square.
func TestScaledAnyhow(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	for range 100 {
		p, _ := NewPicture(1+rnd.IntN(300), 1+rnd.IntN(300))
		white := uint32(rnd.IntN(2)) * 0xFFFFFF
		for i := range p.Pix {
			p.Pix[i] = rnd.Uint32()&0xFFFFFF | white
		}
		n := 1 + rnd.IntN([]int{5, 20, 256}[rnd.IntN(3)])
		at := image.Pt(rnd.IntN(p.W), rnd.IntN(p.H))
		out, _ := NewPicture((p.W-at.X+n-1)/n, (p.H-at.Y+n-1)/n)
		part := image.Rect(rnd.IntN(out.W), rnd.IntN(out.H), 1+rnd.IntN(out.W), 1+rnd.IntN(out.H)).Intersect(out.Bounds())
		p.ScaleInto(out, at, n, part)
		for y := range out.H {
			for x := range out.W {
				square := image.Rect(x*n, y*n, x*n+n, y*n+n).Add(at).Intersect(p.Bounds())
				var mean [3]int
				for yy := square.Min.Y; yy < square.Max.Y; yy++ {
					for xx := square.Min.X; xx < square.Max.X; xx++ {
						for c := range mean {
							mean[c] += int(p.Pix[yy*p.W+xx] >> (8 * c) & 255)
						}
					}
				}
				want, count := uint32(0), square.Dx()*square.Dy()
				for c := range mean {
					want |= uint32((mean[c]+count/2)/count) << (8 * c)
				}
				if !image.Pt(x, y).In(part) {
					want = 0
				}
				if got := out.Pix[y*out.W+x]; got != want {
					t.Fatalf("%d,%d of %dx%d from %v, %d times smaller, part %v: %06x, want %06x", x, y, p.W, p.H, at, n, part, got, want)
				}
			}
		}
	}
}

func BenchmarkScale(b *testing.B) {
	p, _ := NewPicture(1920, 1080)
	for i := range p.Pix {
		p.Pix[i] = uint32(i) * 2654435761 >> 8
	}
	for _, n := range []int{2, 3, 4} {
		out, _ := NewPicture((1920+n-1)/n, (1080+n-1)/n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				p.ScaleInto(out, image.Point{}, n, out.Bounds())
			}
		})
	}
}

// What cannot be an update is refused.
func TestRefusedUpdates(t *testing.T) {
	p, _ := NewPicture(100, 80)
	e := NewEncoder()
	good := e.Update(p, Wish{})
	update := func(parts ...any) []byte {
		var b []byte
		for _, part := range parts {
			switch v := part.(type) {
			case int:
				b = binary.AppendUvarint(b, uint64(v))
			case []byte:
				b = append(b, v...)
			}
		}
		return b
	}
	for name, b := range map[string][]byte{
		"nothing":           {},
		"cut off":           good[:len(good)-1],
		"no size":           update(1, 0, 10, 0, 0),
		"too large":         update(1, MaxSide, MaxSide, 0, 0),
		"a gap":             update(2, 100, 80, 0, 0),
		"unknown flags":     update(1, 100, 80, 16, 0),
		"no stream":         update(1, 100, 80, 2, 1, 5, []byte{0}),
		"too much":          update(1, 100, 80, 6, 1, 1<<40, []byte{0}),
		"unknown step":      update(1, 100, 80, 0, 5, []byte{9, 0, 0, 1, 1}),
		"outside":           update(1, 100, 80, 0, 8, []byte{stepFill, 99, 0, 2, 1, 1, 2, 3}),
		"empty":             update(1, 100, 80, 0, 8, []byte{stepFill, 99, 0, 0, 1, 1, 2, 3}),
		"moved from beyond": update(1, 100, 80, 0, 7, []byte{stepMove, 0, 0, 2, 1, 1, 0}),
		"short pixels":      update(1, 100, 80, 0, 6, []byte{stepPixels, 0, 0, 2, 1, 1}),
		"no such colour":    update(1, 100, 80, 0, 16, []byte{stepPalette, 0, 0, 1, 1, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xC0}),
		"not compressed":    update(1, 100, 80, 1, 3, []byte{1, 2, 3}),
		"not a photograph":  update(1, 100, 80, 0, 0, []byte{0, 0, 8, 8, 2, 0xFF, 0xD8}),
	} {
		if err := new(Decoder).Update(b); err == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
}

func FuzzDecoder(f *testing.F) {
	d, e := newDesk(3, 90, 70), NewEncoder()
	for range 6 {
		if u := e.Update(d.Picture, Wish{Quality: 30}); u != nil {
			f.Add(u)
		}
		e.Damage(d.work())
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var v Decoder
		if v.Update(b) == nil {
			v.Update(append([]byte{2}, b[1:]...))
		}
	})
}

func BenchmarkScroll(b *testing.B) {
	d, e := newDesk(7, 1920, 1080), NewEncoder()
	shades := []uint32{0xFFFFFF, 0xFFFFFF, 0xFFFFFF, 0x101010, 0x7777AA, 0x999999, 0xBBBBBB}
	text := func(r image.Rectangle) {
		d.each(r, func(x, y int) uint32 {
			if y%19 > 14 {
				return 0xFFFFFF
			}
			return shades[d.r.IntN(len(shades))]
		})
	}
	page := image.Rect(60, 40, 1700, 1020)
	text(page)
	e.Update(d.Picture, Wish{})
	sent := 0
	for b.Loop() {
		d.move(image.Rect(60, 40, 1700, 1001), image.Pt(0, 19))
		text(image.Rect(60, 1001, 1700, 1020))
		e.Damage(page)
		sent += len(e.Update(d.Picture, Wish{}))
	}
	b.ReportMetric(float64(sent)/float64(b.N), "B/update")
}

// TestCalm tells what seldom changes before what changes all the time, or without it.
func TestCalm(t *testing.T) {
	p, err := NewPicture(4*Tile, Tile)
	if err != nil {
		t.Fatal(err)
	}
	e, d, now := NewEncoder(), Decoder{}, time.Unix(0, 0)
	r := rand.New(rand.NewPCG(1, 1))
	video := image.Rect(0, 0, Tile, Tile)
	change := func() {
		for y := range Tile {
			for x := range Tile {
				p.Pix[y*p.W+x] = r.Uint32() & 0xffffff
			}
		}
		e.Damage(video)
		now = now.Add(20 * time.Millisecond)
	}
	write := func(w Wish) bool {
		t.Helper()
		w.Now, w.Quality = now, 50
		u := e.Update(p, w)
		if u == nil {
			return false
		}
		if err := d.Update(u); err != nil {
			t.Fatal(err)
		}
		return true
	}
	for range 8 {
		change()
		write(Wish{})
	}
	typed := 3*Tile + 5
	shown := func() bool { return d.Shown().Pix[typed] == p.Pix[typed] }
	change()
	if write(Wish{Only: true}) {
		t.Error("what changes all the time was told")
	}
	p.Pix[typed] = 0xabcdef
	e.Damage(image.Rect(typed, 0, typed+1, 1))
	before := slices.Clone(d.Shown().Pix[:Tile])
	if !write(Wish{Only: true}) || !shown() || !slices.Equal(before, d.Shown().Pix[:Tile]) {
		t.Error("what was typed was not told, or not alone")
	}
	p.Pix[typed] = 0x123456
	e.Damage(image.Rect(typed, 0, typed+1, 1))
	if !write(Wish{Calm: true}) || !shown() || !slices.Equal(before, d.Shown().Pix[:Tile]) {
		t.Error("what was typed did not go first")
	}
	if !write(Wish{Calm: true}) || slices.Equal(before, d.Shown().Pix[:Tile]) {
		t.Error("the rest did not follow")
	}
}

func BenchmarkPhotograph(b *testing.B) {
	e := NewEncoder()
	var p [2]*Picture
	for i := range p {
		p[i], _ = NewPicture(1920, 1080)
		for n := range p[i].Pix {
			x, y := n%1920, n/1920
			p[i].Pix[n] = uint32((x*3+y*5+i*90)&255)<<16 | uint32((x+y*2+i*40)>>2&255)<<8 | uint32((x*y>>8+i*17)&255)
		}
	}
	e.Update(p[0], Wish{})
	now, n, sent := time.Unix(0, 0), 0, 0
	for b.Loop() {
		n++
		now = now.Add(40 * time.Millisecond)
		e.Damage(p[0].Bounds())
		sent += len(e.Update(p[n%2], Wish{Now: now, Quality: 60}))
	}
	b.ReportMetric(float64(sent)/float64(b.N), "B/update")
}
