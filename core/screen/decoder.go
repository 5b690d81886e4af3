package screen

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"slices"
)

// Limits of what a decoder reads: the steps of an update are at most as long as exact pixels of the
// whole picture would be, twice over.
const stepSlack = 1 << 20

// ErrUpdate is what every error of a decoder is: the update was not written by an encoder, or one
// before it is missing. What is shown is then not to be relied on.
var ErrUpdate = errors.New("the update cannot be read")

// Decoder reads what an Encoder wrote. The zero value shows nothing yet.
type Decoder struct {
	shown  *Picture
	number uint64
	part   bytes.Reader // of the stream
	stream io.ReadCloser
}

// Shown is the picture as it stands; nil before the first update. It is the decoder's.
func (d *Decoder) Shown() *Picture { return d.shown }

// Number is that of the latest update.
func (d *Decoder) Number() uint64 { return d.number }

// reader reads from bytes, and remembers that they ended too soon.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) byte() byte {
	if b := r.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.b) {
		r.bad, r.b = true, nil
		return nil
	}
	b := r.b[:n]
	r.b = r.b[n:]
	return b
}

func (r *reader) number() uint64 {
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *reader) signed() int {
	v, n := binary.Varint(r.b)
	if n <= 0 || v < -MaxSide || v > MaxSide {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return int(v)
}

// side reads a length within a picture; what is more makes the reader bad.
func (r *reader) side() int {
	v := r.number()
	if v > MaxSide {
		r.bad, r.b = true, nil
		return 0
	}
	return int(v)
}

// rect reads a rectangle that is not empty and lies within bounds.
func (r *reader) rect(bounds image.Rectangle) image.Rectangle {
	x, y, w, h := r.side(), r.side(), r.side(), r.side()
	out := image.Rect(x, y, x+w, y+h)
	if out.Empty() || !out.In(bounds) {
		r.bad, r.b = true, nil
	}
	return out
}

func (r *reader) colour() uint32 {
	b := r.take(3)
	if b == nil {
		return 0
	}
	return uint32(b[0])<<16 | uint32(b[1])<<8 | uint32(b[2])
}

// Update reads one update, and changes what is shown.
func (d *Decoder) Update(update []byte) error {
	in := reader{b: update}
	number := in.number()
	w, h := in.side(), in.side()
	flags, length := in.byte(), in.number()
	plain := length
	if flags&flagStream != 0 {
		plain = in.number()
	}
	most := uint64(w)*uint64(h)*6 + stepSlack
	if in.bad || flags > flagStream|flagFresh|flagWhole || flags&^flagWhole == flagFresh || length > uint64(len(in.b)) || plain > most {
		return fmt.Errorf("%w: its beginning is none", ErrUpdate)
	}
	if number != d.number+1 && flags&flagWhole == 0 {
		return fmt.Errorf("%w: number %d follows %d", ErrUpdate, number, d.number)
	}
	if flags&flagWhole != 0 || d.shown == nil || d.shown.W != w || d.shown.H != h {
		p, err := NewPicture(w, h)
		if err != nil {
			return fmt.Errorf("%w: %v", ErrUpdate, err)
		}
		d.shown = p
	}
	d.number = number
	steps := in.take(int(length))
	steps, err := d.unpack(steps, flags, int(plain), int(most))
	if err != nil {
		return fmt.Errorf("%w: its steps are not compressed as they should be", ErrUpdate)
	}
	if err := d.steps(reader{b: steps}); err != nil {
		return err
	}
	for len(in.b) > 0 {
		r := in.rect(d.shown.Bounds())
		n := in.number()
		if in.bad || n > uint64(len(in.b)) {
			return fmt.Errorf("%w: a photograph ends too soon", ErrUpdate)
		}
		if err := d.photo(r, in.take(int(n))); err != nil {
			return err
		}
	}
	return nil
}

// unpack returns the steps of an update.
func (d *Decoder) unpack(b []byte, flags byte, plain, most int) ([]byte, error) {
	switch {
	case flags&^flagWhole == 0:
		return b, nil
	case flags&flagAlone != 0:
		steps, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(b)), int64(most)+1))
		if len(steps) > most {
			err = ErrUpdate
		}
		return steps, err
	}
	d.part.Reset(append(slices.Clip(b), streamEnd...))
	if flags&flagFresh != 0 {
		d.stream = flate.NewReader(&d.part)
	} else if d.stream == nil {
		return nil, ErrUpdate
	}
	steps := make([]byte, plain)
	_, err := io.ReadFull(d.stream, steps)
	return steps, err
}

func (d *Decoder) steps(in reader) error {
	p := d.shown
	for len(in.b) > 0 {
		step := in.byte()
		r := in.rect(p.Bounds())
		if in.bad {
			return fmt.Errorf("%w: a rectangle lies outside the picture", ErrUpdate)
		}
		switch step {
		case stepMove:
			by := image.Pt(in.signed(), in.signed())
			if in.bad || !r.Add(by).In(p.Bounds()) {
				return fmt.Errorf("%w: a move comes from outside the picture", ErrUpdate)
			}
			p.move(r, by)
		case stepFill:
			v := in.colour()
			for y := r.Min.Y; y < r.Max.Y; y++ {
				for x := range p.row(y, r.Min.X, r.Max.X) {
					p.Pix[y*p.W+r.Min.X+x] = v
				}
			}
		case stepPalette:
			d.palette(&in, r)
		case stepPixels:
			d.pixels(&in, r)
		default:
			return fmt.Errorf("%w: there is no step %d", ErrUpdate, step)
		}
		if in.bad {
			return fmt.Errorf("%w: a step ends too soon", ErrUpdate)
		}
	}
	return nil
}

func (d *Decoder) palette(in *reader, r image.Rectangle) {
	list := make([]uint32, int(in.byte())+1)
	for i := range list {
		list[i] = in.colour()
	}
	n := bits(len(list))
	for y := r.Min.Y; y < r.Max.Y; y++ {
		b := in.take((r.Dx()*n + 7) / 8)
		if b == nil {
			return
		}
		row := d.shown.row(y, r.Min.X, r.Max.X)
		for x := range row {
			place := int(b[x*n/8]) >> (8 - n - x*n%8) & (1<<n - 1)
			if place >= len(list) {
				in.bad, in.b = true, nil
				return
			}
			row[x] = list[place]
		}
	}
}

func (d *Decoder) pixels(in *reader, r image.Rectangle) {
	w, h := r.Dx(), r.Dy()
	b := in.take(3 * w * h)
	if b == nil {
		return
	}
	planes := make([]uint8, 3*w*h)
	zero := make([]uint8, w)
	for plane := range 3 {
		above := zero
		for y := range h {
			at := (plane*h + y) * w
			row, diff := planes[at:at+w], b[at:at+w]
			left, corner := above[0], above[0]
			for x := range row {
				row[x] = diff[x] + foretell(left, above[x], corner)
				left, corner = row[x], above[x]
			}
			above = row
		}
	}
	for i := range w * h {
		green := planes[i]
		d.shown.Pix[(r.Min.Y+i/w)*d.shown.W+r.Min.X+i%w] = uint32(planes[w*h+i]+green)<<16 | uint32(green)<<8 | uint32(planes[2*w*h+i]+
			green)
	}
}

func (d *Decoder) photo(r image.Rectangle, b []byte) error {
	c, err := jpeg.DecodeConfig(bytes.NewReader(b))
	if err != nil || c.Width > r.Dx() || c.Height > r.Dy() || c.Width < 1 || c.Height < 1 {
		return fmt.Errorf("%w: a photograph is none, or too large", ErrUpdate)
	}
	m, err := jpeg.Decode(bytes.NewReader(b))
	if err != nil {
		return fmt.Errorf("%w: a photograph is none", ErrUpdate)
	}
	at := m.Bounds().Min
	for y := range r.Dy() {
		row := d.shown.row(r.Min.Y+y, r.Min.X, r.Max.X)
		for x := range row {
			v := color.RGBAModel.Convert(m.At(at.X+x*c.Width/r.Dx(), at.Y+y*c.Height/r.Dy())).(color.RGBA)
			row[x] = uint32(v.R)<<16 | uint32(v.G)<<8 | uint32(v.B)
		}
	}
	return nil
}
