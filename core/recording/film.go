package recording

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image/jpeg"
	"io"
	"math"
	"time"

	"moorwatch.example/core/screen"
)

// Film writes the recording of a screen as a video that ordinary players show: an AVI file whose
// pictures are JPEG (Multimedia Programming Interface and Data Specifications 1.0, RIFF; OpenDML is not
// needed below 2 GB). A picture that is like the one before takes no room.
type Film struct {
	Pictures int
	out      io.WriteSeeker
	rate     int
	pause    time.Duration // the longest that is kept; 0 for all
	decoder  screen.Decoder
	w, h     int
	last     time.Duration // of the latest entry
	cut      time.Duration // that was left out so far
	fresh    bool          // the picture has changed since it was written
	index    []byte
	at       int64 // where the next chunk begins
	err      error
}

const (
	filmQuality = 85
	filmHead    = 12 + 8 + 4 + 64 + 12 + 64 + 48 + 12 // bytes before the first picture
	filmMost    = math.MaxInt32 - 64<<20              // bytes of a file
)

// errFilm is returned for a video that would be too long for its form.
var errFilm = errors.New("the video grows beyond 2 GB: take a lower rate, or leave out pauses")

// NewFilm begins a video of so many pictures a second. Pauses longer than pause are cut to it, unless
// it is 0.
func NewFilm(out io.WriteSeeker, rate int, pause time.Duration) *Film {
	return &Film{out: out, rate: rate, pause: pause}
}

// Lasts is how long the video is.
func (f *Film) Lasts() time.Duration {
	return time.Duration(f.Pictures) * time.Second / time.Duration(f.rate)
}

// Entry takes the next entry of the recording.
func (f *Film) Entry(e Entry) error {
	if wait := e.At - f.last; f.pause > 0 && wait > f.pause {
		f.cut += wait - f.pause
	}
	f.last = max(f.last, e.At)
	if e.Kind != EntryUpdate {
		return nil
	}
	f.upTo(f.last - f.cut)
	if err := f.decoder.Update(e.Data); err != nil {
		return err
	}
	f.fresh = true
	if f.w == 0 {
		f.w, f.h = f.decoder.Shown().W, f.decoder.Shown().H
		_, f.err = f.out.Write(make([]byte, filmHead))
		f.at = filmHead
	}
	return f.err
}

// upTo writes the pictures that are due before a time.
func (f *Film) upTo(t time.Duration) {
	for f.w > 0 && f.err == nil && f.Lasts() < t {
		f.picture()
	}
}

// picture writes one picture.
func (f *Film) picture() {
	var b bytes.Buffer
	if f.fresh {
		p := f.decoder.Shown()
		if p.W != f.w || p.H != f.h { // the desktop has changed its size; the video's stays
			fit := &screen.Picture{W: f.w, H: f.h, Pix: make([]uint32, f.w*f.h)}
			fit.Copy(p, fit.Bounds().Intersect(p.Bounds()))
			p = fit
		}
		if f.err = jpeg.Encode(&b, p, &jpeg.Options{Quality: filmQuality}); f.err != nil {
			return
		}
		f.fresh = false
	}
	size := b.Len()
	if size%2 == 1 {
		b.WriteByte(0)
	}
	if f.at+int64(b.Len()) > filmMost {
		f.err = errFilm
		return
	}
	chunk := binary.LittleEndian.AppendUint32([]byte("00dc"), uint32(size))
	f.index = append(f.index, "00dc"...)
	for _, v := range []uint32{16, uint32(f.at - filmHead + 4), uint32(size)} {
		f.index = binary.LittleEndian.AppendUint32(f.index, v)
	}
	_, f.err = f.out.Write(append(chunk, b.Bytes()...))
	f.at += int64(len(chunk) + b.Len())
	f.Pictures++
}

// Close writes the last picture, the index, and the head that tells how long it all is.
func (f *Film) Close() error {
	if f.w == 0 {
		return errors.New("the recording shows nothing")
	}
	f.upTo(f.last - f.cut)
	f.picture()
	if f.err != nil {
		return f.err
	}
	end := binary.LittleEndian.AppendUint32([]byte("idx1"), uint32(len(f.index)))
	if _, err := f.out.Write(append(end, f.index...)); err != nil {
		return err
	}
	if _, err := f.out.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err := f.out.Write(f.head())
	return err
}

// head is what stands before the first picture.
func (f *Film) head() []byte {
	var b []byte
	text := func(s string) { b = append(b, s...) }
	long := func(all ...int) {
		for _, v := range all {
			b = binary.LittleEndian.AppendUint32(b, uint32(v))
		}
	}
	text("RIFF")
	long(int(f.at) - 8 + 8 + len(f.index))
	text("AVI LIST")
	long(4 + 64 + 12 + 64 + 48)
	text("hdrlavih")
	long(56, 1_000_000/f.rate, 0, 0, 0x10, f.Pictures, 0, 1, 0, f.w, f.h, 0, 0, 0, 0) // with an index
	text("LIST")
	long(4 + 64 + 48)
	text("strlstrh")
	long(56)
	text("vidsMJPG")
	long(0, 0, 0, 1, f.rate, 0, f.Pictures, 0, -1, 0, 0, f.w&0xFFFF|f.h<<16)
	text("strf")
	long(40, 40, f.w, f.h, 1|24<<16)
	text("MJPG")
	long(f.w*f.h*3, 0, 0, 0, 0)
	text("LIST")
	long(int(f.at) - filmHead + 4)
	text("movi")
	return b
}
