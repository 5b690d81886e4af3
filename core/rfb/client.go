// Package rfb is the client's side of RFB, versions 3.3 to 3.8 (RFC 6143): it shows the picture that a
// server of that protocol tells of, such as the console of a virtual machine or of a server's
// management board, and passes on keys, pointer and clipboard. The connection is the caller's; what a
// server sends is bounded before it is believed.
package rfb

import (
	"bufio"
	"bytes"
	"crypto/des"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"math/bits"
	"slices"
	"sync"

	"moorwatch.example/core/screen"
)

// Limits of what a server may send, in bytes.
const (
	maxText   = 1 << 20  // of its clipboard; the rest is passed over
	maxReason = 4 << 10  // of a refusal, or of its name
	maxPacked = 64 << 20 // of one rectangle that is compressed
	maxShape  = 256      // pixels of a pointer's side
)

// Errors that a caller may want to tell apart.
var (
	ErrSecret   = errors.New("the console does not take this password")
	ErrNoSecret = errors.New("the console wants a password")
	// ErrForm is what every error is by which a server leaves the protocol's form.
	ErrForm = errors.New("the console's server does not keep to RFB")
)

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrForm, fmt.Sprintf(format, args...))
}

// Change is what one message of a server brought.
type Change struct {
	Damage []image.Rectangle
	Sized  bool // the picture has another size
	Cursor *Cursor
	Text   *string // what its clipboard holds now
	Bell   bool
}

// Cursor is the shape of the pointer, and the point in it that points.
type Cursor struct {
	Image *image.NRGBA
	At    image.Point
}

// Client is a connection to a server. Next is called from one goroutine; the others from any.
type Client struct {
	name string
	in   *bufio.Reader
	zrle packed

	mu      sync.Mutex // of the picture
	picture *screen.Picture

	out   sync.Mutex
	w     io.Writer
	asked bool // the whole picture
}

// Begin agrees with a server on the protocol. secret is the password, or "" where there is none. The
// session is shared with others that look at the same console.
func Begin(rw io.ReadWriter, secret string) (*Client, error) {
	c := &Client{in: bufio.NewReaderSize(rw, 64<<10), w: rw}
	version, err := c.agree()
	if err == nil {
		err = c.admit(version, secret)
	}
	if err == nil {
		err = c.begin()
	}
	if err != nil {
		return nil, err
	}
	return c, nil
}

// agree agrees on the minor version (section 7.1.1).
func (c *Client) agree() (int, error) {
	var line [12]byte
	if _, err := io.ReadFull(c.in, line[:]); err != nil {
		return 0, err
	}
	var major, minor int
	if n, err := fmt.Sscanf(string(line[:]), "RFB %03d.%03d\n", &major, &minor); n != 2 || err != nil || major < 3 {
		return 0, malformed("it begins with %q", line[:])
	}
	switch {
	case major > 3 || minor >= 8:
		minor = 8
	case minor != 7:
		minor = 3
	}
	_, err := fmt.Fprintf(c.w, "RFB 003.%03d\n", minor)
	return minor, err
}

// Security types (section 7.1.2).
const (
	securityNone   = 1
	securitySecret = 2
)

// admit shows the server that the client may look (section 7.2).
func (c *Client) admit(version int, secret string) error {
	kind := uint32(0)
	if version == 3 {
		if err := c.read(&kind); err != nil {
			return err
		}
	} else {
		n, err := c.in.ReadByte()
		if err != nil {
			return err
		}
		offered := make([]byte, n)
		if _, err := io.ReadFull(c.in, offered); err != nil {
			return err
		}
		for _, want := range []byte{securityNone, securitySecret} {
			if kind == 0 && slices.Contains(offered, want) {
				kind = uint32(want)
			}
		}
		if n > 0 && kind == 0 {
			return fmt.Errorf("the console asks for a way of signing in that is not known here (of types %v): let it take none, or "+
				"a password", offered)
		}
		if kind != 0 {
			if _, err := c.w.Write([]byte{byte(kind)}); err != nil {
				return err
			}
		}
	}
	switch kind {
	case 0:
		return c.refused()
	case securityNone:
		if version < 8 {
			return nil
		}
	case securitySecret:
		if secret == "" {
			return ErrNoSecret
		}
		var challenge [16]byte
		if _, err := io.ReadFull(c.in, challenge[:]); err != nil {
			return err
		}
		answer := respond(challenge, secret)
		if _, err := c.w.Write(answer[:]); err != nil {
			return err
		}
	default:
		return malformed("security type %d", kind)
	}
	var result uint32
	if err := c.read(&result); err != nil {
		return err
	}
	if result == 0 {
		return nil
	}
	if version == 8 {
		if reason := c.refused(); kind == securityNone {
			return reason
		}
	}
	return ErrSecret
}

// refused reads why a server refuses.
func (c *Client) refused() error {
	var n uint32
	if err := c.read(&n); err != nil {
		return err
	}
	reason := make([]byte, min(n, maxReason))
	if _, err := io.ReadFull(c.in, reason); err != nil {
		return err
	}
	return fmt.Errorf("the console refuses: %q", reason)
}

// respond answers a challenge with a password: DES, with the bits of each byte of the key mirrored
// (section 7.2.2). It is as weak as it sounds, and fit for a network of one's own alone.
func respond(challenge [16]byte, secret string) (out [16]byte) {
	var key [8]byte
	copy(key[:], secret)
	for i, b := range key {
		key[i] = bits.Reverse8(b)
	}
	block, err := des.NewCipher(key[:])
	if err != nil {
		panic(err) // a key of 8 bytes is taken
	}
	block.Encrypt(out[:8], challenge[:8])
	block.Encrypt(out[8:], challenge[8:])
	return out
}

// Encodings that are understood (sections 7.7 and 7.8), the most wanted first.
const (
	encodingRaw     int32 = 0
	encodingCopy    int32 = 1
	encodingRRE     int32 = 2
	encodingHextile int32 = 5
	encodingTRLE    int32 = 15
	encodingZRLE    int32 = 16
	encodingCursor  int32 = -239
	encodingSize    int32 = -223
)

var wanted = []int32{encodingZRLE, encodingTRLE, encodingHextile, encodingRRE, encodingCopy, encodingRaw, encodingCursor, encodingSize}

// format is that of a pixel as it is asked for (section 7.4): 0x00RRGGBB, the lowest byte first.
var format = [16]byte{32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 16, 8, 0}

// begin exchanges the first messages (section 7.3), and says in what form the picture is wanted.
func (c *Client) begin() error {
	if _, err := c.w.Write([]byte{1}); err != nil {
		return err
	}
	var first struct {
		W, H   uint16
		Format [16]byte
		Name   uint32
	}
	if err := c.read(&first); err != nil {
		return err
	}
	name := make([]byte, min(first.Name, maxReason))
	if _, err := io.ReadFull(c.in, name); err != nil {
		return err
	}
	if _, err := io.CopyN(io.Discard, c.in, int64(first.Name)-int64(len(name))); err != nil {
		return err
	}
	c.name = string(name)
	if err := c.size(int(first.W), int(first.H)); err != nil {
		return err
	}
	b := append([]byte{0, 0, 0, 0}, format[:]...)
	b = append(b, 2, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(len(wanted)))
	for _, e := range wanted {
		b = binary.BigEndian.AppendUint32(b, uint32(e))
	}
	return c.write(b)
}

func (c *Client) size(w, h int) error {
	p, err := screen.NewPicture(w, h)
	if err != nil {
		return malformed("its picture has %d by %d pixels", w, h)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.picture != nil { // what both show stays until it is told anew
		p.Copy(c.picture, p.Bounds().Intersect(c.picture.Bounds()))
	}
	c.picture = p
	return nil
}

func (c *Client) read(v any) error { return binary.Read(c.in, binary.BigEndian, v) }

func (c *Client) write(b []byte) error {
	c.out.Lock()
	defer c.out.Unlock()
	_, err := c.w.Write(b)
	return err
}

// Name is what the server calls its desktop.
func (c *Client) Name() string { return c.name }

// Size is that of the picture.
func (c *Client) Size() image.Point {
	c.mu.Lock()
	defer c.mu.Unlock()
	return image.Pt(c.picture.W, c.picture.H)
}

// Grab copies a part of the picture to the same place of another.
func (c *Client) Grab(into *screen.Picture, r image.Rectangle) {
	c.mu.Lock()
	defer c.mu.Unlock()
	into.Copy(c.picture, r.Intersect(c.picture.Bounds()).Intersect(into.Bounds()))
}

// Ask asks the server for what has changed since it told last (section 7.5.3), at first for all of the
// picture. It answers when something has.
func (c *Client) Ask() error {
	size := c.Size()
	c.out.Lock()
	defer c.out.Unlock()
	b := []byte{3, 1, 0, 0, 0, 0}
	if !c.asked {
		b[1] = 0
	}
	b = binary.BigEndian.AppendUint16(b, uint16(size.X))
	b = binary.BigEndian.AppendUint16(b, uint16(size.Y))
	_, err := c.w.Write(b)
	c.asked = true
	return err
}

// Key presses or lets go of the key of a keysym.
func (c *Client) Key(sym uint32, down bool) error {
	b := []byte{4, 0, 0, 0}
	if down {
		b[1] = 1
	}
	return c.write(binary.BigEndian.AppendUint32(b, sym))
}

// Point places the pointer, with a bit set for each button that is down: 1 the left one, 2 the middle,
// 4 the right, 8 and 16 the wheel up and down, 32 and 64 left and right (section 7.5.5).
func (c *Client) Point(at image.Point, buttons byte) error {
	size := c.Size()
	b := []byte{5, buttons}
	b = binary.BigEndian.AppendUint16(b, uint16(min(max(at.X, 0), size.X-1)))
	return c.write(binary.BigEndian.AppendUint16(b, uint16(min(max(at.Y, 0), size.Y-1))))
}

// Cut puts a text on the server's clipboard, which knows Latin-1 alone; other characters become "?".
func (c *Client) Cut(text string) error {
	b := []byte{6, 0, 0, 0, 0, 0, 0, 0}
	for _, r := range text {
		if r > 0xff {
			r = '?'
		}
		if r != '\r' {
			b = append(b, byte(r))
		}
	}
	binary.BigEndian.PutUint32(b[4:], uint32(len(b)-8))
	return c.write(b)
}

// Messages of a server (section 7.6).
const (
	messageUpdate  = 0
	messageColours = 1
	messageBell    = 2
	messageText    = 3
)

// Next reads one message. Any error ends the connection's use.
func (c *Client) Next() (change Change, err error) {
	kind, err := c.in.ReadByte()
	if err != nil {
		return change, err
	}
	switch kind {
	case messageUpdate:
		err = c.update(&change)
	case messageColours: // true colours are asked for: none are mapped
		var head struct {
			_        byte
			First, N uint16
		}
		if err = c.read(&head); err == nil {
			_, err = c.in.Discard(6 * int(head.N))
		}
	case messageBell:
		change.Bell = true
	case messageText:
		err = c.text(&change)
	default:
		err = malformed("message %d", kind)
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return change, err
}

func (c *Client) text(change *Change) error {
	var head struct {
		_ [3]byte
		N uint32
	}
	if err := c.read(&head); err != nil {
		return err
	}
	var b bytes.Buffer
	if _, err := io.CopyN(&b, c.in, min(int64(head.N), maxText)); err != nil {
		return err
	}
	if _, err := io.CopyN(io.Discard, c.in, max(int64(head.N)-maxText, 0)); err != nil {
		return err
	}
	var text []rune
	for _, v := range b.Bytes() {
		text = append(text, rune(v))
	}
	s := string(text)
	change.Text = &s
	return nil
}

// manyRects is the count of rectangles by which a server says that they end with one of another kind;
// it is not asked for.
const manyRects = 0xffff

// update reads what has changed of the picture.
func (c *Client) update(change *Change) error {
	var head struct {
		_ byte
		N uint16
	}
	if err := c.read(&head); err != nil {
		return err
	}
	if head.N == manyRects {
		return malformed("rectangles without number")
	}
	for range head.N {
		var r struct {
			X, Y, W, H uint16
			Encoding   int32
		}
		if err := c.read(&r); err != nil {
			return err
		}
		switch r.Encoding {
		case encodingSize:
			if err := c.size(int(r.W), int(r.H)); err != nil {
				return err
			}
			c.out.Lock()
			c.asked = false
			c.out.Unlock()
			change.Sized, change.Damage = true, nil
			continue
		case encodingCursor:
			if err := c.shape(change, int(r.X), int(r.Y), int(r.W), int(r.H)); err != nil {
				return err
			}
			continue
		}
		area := image.Rect(int(r.X), int(r.Y), int(r.X)+int(r.W), int(r.Y)+int(r.H))
		if area.Empty() {
			continue
		}
		if !area.In(image.Rectangle{Max: c.Size()}) {
			return malformed("a rectangle at %v outside of the picture", area)
		}
		if err := c.rectangle(area, r.Encoding); err != nil {
			return err
		}
		change.Damage = append(change.Damage, area)
	}
	return nil
}

// shape reads the pointer's (section 7.8.1): pixels, and a bit for each that is seen.
func (c *Client) shape(change *Change, x, y, w, h int) error {
	if w > maxShape || h > maxShape {
		return malformed("a pointer of %d by %d pixels", w, h)
	}
	pixels, mask := make([]byte, 4*w*h), make([]byte, (w+7)/8*h)
	if _, err := io.ReadFull(c.in, pixels); err != nil {
		return err
	}
	if _, err := io.ReadFull(c.in, mask); err != nil {
		return err
	}
	m := image.NewNRGBA(image.Rect(0, 0, max(w, 1), max(h, 1)))
	for i := range w * h {
		if mask[i/w*((w+7)/8)+i%w/8]>>(7-i%w%8)&1 == 1 {
			copy(m.Pix[i/w*m.Stride+4*(i%w):], []byte{pixels[4*i+2], pixels[4*i+1], pixels[4*i], 255})
		}
	}
	change.Cursor = &Cursor{m, image.Pt(min(x, max(w-1, 0)), min(y, max(h-1, 0)))}
	return nil
}
