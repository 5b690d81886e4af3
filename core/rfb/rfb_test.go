package rfb

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"

	"moorwatch.example/core/screen"
)

// server is what a server sends, as a test writes it, and what it was sent.
type server struct {
	bytes.Buffer
	sent bytes.Buffer
}

func (s *server) Write(p []byte) (int, error) { return s.sent.Write(p) }

func (s *server) says(parts ...any) *server {
	for _, p := range parts {
		switch p := p.(type) {
		case string:
			s.Buffer.WriteString(p)
		case []byte:
			s.Buffer.Write(p)
		default:
			if err := binary.Write(&s.Buffer, binary.BigEndian, p); err != nil {
				panic(err)
			}
		}
	}
	return s
}

type rect struct {
	X, Y, W, H uint16
	Encoding   int32
}

// greeting is a server without a password, and with a picture of a size.
func greeting(w, h uint16) *server {
	return new(server).says("RFB 003.008\n", []byte{1, 1}, uint32(0), w, h, make([]byte, 16), uint32(4), "moor")
}

// pixel is a colour as it travels, short is it without its last byte.
func pixel(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }
func short(v uint32) []byte { return pixel(v)[:3] }

func join(parts ...[]byte) []byte { return bytes.Join(parts, nil) }

func deflated(b []byte) []byte {
	var out bytes.Buffer
	w := zlib.NewWriter(&out)
	w.Write(b)
	w.Flush()
	return append(binary.BigEndian.AppendUint32(nil, uint32(out.Len())), out.Bytes()...)
}

const (
	red  = 0xc02010
	blue = 0x1020c0
)

// TestEncodings reads a picture of 4 by 2 pixels, red but for a blue one at 2, 1, as each encoding
// writes it.
func TestEncodings(t *testing.T) {
	want := []uint32{red, red, red, red, red, red, blue, red}
	raw, runs := []byte{}, []byte{}
	for _, v := range want {
		raw = append(raw, pixel(v)...)
		runs = append(runs, short(v)...)
	}
	tiles := map[string][]byte{
		"raw tile":        join([]byte{0}, runs),
		"palette":         join([]byte{2}, short(red), short(blue), []byte{0, 0x20}),
		"palette of 3":    join([]byte{3}, short(red), short(blue), short(0), []byte{0, 0x04}),
		"runs":            join([]byte{128}, short(red), []byte{5}, short(blue), []byte{0}, short(red), []byte{0}),
		"runs of palette": join([]byte{130}, short(red), short(blue), []byte{128, 5}, []byte{1, 0}),
	}
	messages := map[string][]any{
		"raw":     {rect{0, 0, 4, 2, encodingRaw}, raw},
		"rre":     {rect{0, 0, 4, 2, encodingRRE}, uint32(1), pixel(red), pixel(blue), rectHead(2, 1, 1, 1)},
		"hextile": {rect{0, 0, 4, 2, encodingHextile}, join([]byte{2 | 4 | 8}, pixel(red), pixel(blue), []byte{1, 0x21, 0})},
		"colours": {rect{0, 0, 4, 2, encodingHextile}, join([]byte{2 | 8 | 16}, pixel(red), []byte{1}, pixel(blue), []byte{0x21, 0})},
	}
	for name, b := range tiles {
		messages["TRLE "+name] = []any{rect{0, 0, 4, 2, encodingTRLE}, b}
		messages["ZRLE "+name] = []any{rect{0, 0, 4, 2, encodingZRLE}, deflated(b)}
	}
	for name, m := range messages {
		t.Run(name, func(t *testing.T) {
			c, err := Begin(greeting(4, 2).says(byte(0), byte(0), uint16(1)).says(m...), "")
			if err != nil {
				t.Fatal(err)
			}
			if change, err := c.Next(); err != nil || len(change.Damage) != 1 {
				t.Fatalf("%+v, %v", change, err)
			}
			shown := &screen.Picture{W: 4, H: 2, Pix: make([]uint32, 8)}
			c.Grab(shown, shown.Bounds())
			for i, v := range shown.Pix {
				if v != want[i] {
					t.Fatalf("%06x, and not %06x", shown.Pix, want)
				}
			}
			if _, err := c.Next(); !errors.Is(err, io.EOF) {
				t.Errorf("after the message: %v", err)
			}
		})
	}
}

func rectHead(x, y, w, h uint16) []byte {
	b := binary.BigEndian.AppendUint16(nil, x)
	b = binary.BigEndian.AppendUint16(b, y)
	return binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, w), h)
}

// TestMessages reads what comes beside pictures: copies, sizes, the pointer, a bell and a text.
func TestMessages(t *testing.T) {
	s := greeting(4, 1).says(
		byte(0), byte(0), uint16(2), rect{0, 0, 2, 1, encodingRaw}, pixel(red), pixel(blue), rect{1, 0, 2, 1, encodingCopy}, uint16(0),
		uint16(0),
		byte(0), byte(0), uint16(2), rect{0, 0, 6, 2, encodingSize}, rect{1, 0, 2, 1, encodingCursor}, pixel(red), pixel(blue),
		[]byte{0x40},
		byte(2), byte(1), byte(0), uint16(7), uint16(2), make([]byte, 12), byte(3), []byte{0, 0, 0}, uint32(2), "h\xe9")
	c, err := Begin(s, "")
	if err != nil || c.Name() != "moor" {
		t.Fatalf("%v", err)
	}
	var all []Change
	for range 5 {
		change, err := c.Next()
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, change)
	}
	shown := &screen.Picture{W: 6, H: 2, Pix: make([]uint32, 12)}
	c.Grab(shown, shown.Bounds())
	if shown.Pix[0] != red || shown.Pix[1] != red || shown.Pix[2] != blue {
		t.Errorf("after a copy %06x", shown.Pix)
	}
	if cur := all[1].Cursor; !all[1].Sized || c.Size().X != 6 || cur == nil || cur.At.X != 1 || cur.Image.Pix[3] != 0 ||
		cur.Image.Pix[7] != 255 || cur.Image.Pix[6] != 0xc0 {
		t.Errorf("%+v %+v", all[1], all[1].Cursor)
	}
	if !all[2].Bell || all[4].Text == nil || *all[4].Text != "hé" {
		t.Errorf("%+v", all[2:])
	}
	s.sent.Reset()
	c.Ask()
	c.Key(0xff0d, true)
	c.Point(shown.Bounds().Max, 5)
	c.Cut("é€\r\n")
	if got := s.sent.Bytes(); !bytes.Equal(got, join([]byte{3, 0, 0, 0, 0, 0, 0, 6, 0, 2}, []byte{4, 1, 0, 0, 0, 0, 0xff, 0x0d},
		[]byte{5, 5, 0, 5, 0, 1}, []byte{6, 0, 0, 0, 0, 0, 0, 3, 0xe9, '?', '\n'})) {
		t.Errorf("sent % x", got)
	}
}

// TestAdmission agrees on versions, answers challenges, and tells why it is not let in.
func TestAdmission(t *testing.T) {
	rest := []any{uint16(4), uint16(2), make([]byte, 16), uint32(0)}
	challenge := bytes.Repeat([]byte{7}, 16)
	for _, one := range []struct {
		name, secret string
		says         []any
		version      string
		want         error
		words        string
	}{
		{name: "3.3, no password", says: append([]any{"RFB 003.003\n", uint32(1)}, rest...), version: "RFB 003.003\n"},
		{name: "3.5 is 3.3", says: append([]any{"RFB 003.005\n", uint32(1)}, rest...), version: "RFB 003.003\n"},
		{name: "3.7", says: append([]any{"RFB 003.007\n", []byte{1, 1}}, rest...), version: "RFB 003.007\n"},
		{name: "newer", says: append([]any{"RFB 004.001\n", []byte{1, 1}, uint32(0)}, rest...), version: "RFB 003.008\n"},
		{name: "password", secret: "secret", says: append([]any{"RFB 003.008\n", []byte{2, 30, 2}, challenge, uint32(0)}, rest...),
			version: "RFB 003.008\n"},
		{name: "wrong password", secret: "other", says: []any{"RFB 003.008\n", []byte{1, 2}, challenge, uint32(1), uint32(3), "not"},
			want: ErrSecret},
		{name: "no password", says: []any{"RFB 003.008\n", []byte{1, 2}, challenge}, want: ErrNoSecret},
		{name: "unknown way", says: []any{"RFB 003.008\n", []byte{1, 19}}, words: "a way of signing in"},
		{name: "refused", says: []any{"RFB 003.008\n", []byte{0}, uint32(8), "too many"}, words: "too many"},
		{name: "something else", says: []any{"SSH-2.0-open\n"}, want: ErrForm},
		{name: "cut off", says: []any{"RFB 003.008\n", []byte{1, 1}}, want: io.EOF},
		{name: "too large", says: []any{"RFB 003.008\n", []byte{1, 1}, uint32(0), uint16(60000), uint16(60000), make([]byte, 16),
			uint32(0)}, want: ErrForm},
	} {
		t.Run(one.name, func(t *testing.T) {
			s := new(server).says(one.says...)
			_, err := Begin(s, one.secret)
			switch {
			case one.words != "":
				if err == nil || !strings.Contains(err.Error(), one.words) {
					t.Errorf("%v", err)
				}
			case !errors.Is(err, one.want) || (one.want == nil && err != nil):
				t.Errorf("%v, and not %v", err, one.want)
			}
			if one.version != "" && !strings.HasPrefix(s.sent.String(), one.version) {
				t.Errorf("answered %q", s.sent.String())
			}
		})
	}
}

// TestHostile refuses what leaves the picture or a tile, and ends.
func TestHostile(t *testing.T) {
	update := []any{byte(0), byte(0), uint16(1)}
	for name, m := range map[string][]any{
		"outside":          {rect{3, 0, 2, 1, encodingRaw}, make([]byte, 8)},
		"copied from out":  {rect{0, 0, 2, 1, encodingCopy}, uint16(3), uint16(1)},
		"part outside":     {rect{0, 0, 4, 2, encodingRRE}, uint32(1), pixel(0), pixel(0), rectHead(3, 0, 65535, 65535)},
		"hextile outside":  {rect{0, 0, 4, 2, encodingHextile}, join([]byte{8, 1, 0x30, 0xff})},
		"endless run":      {rect{0, 0, 4, 2, encodingTRLE}, join([]byte{128}, short(0), bytes.Repeat([]byte{255}, 1000))},
		"no such colour":   {rect{0, 0, 4, 2, encodingTRLE}, join([]byte{130}, short(0), short(0), bytes.Repeat([]byte{5}, 8))},
		"unknown tile":     {rect{0, 0, 4, 2, encodingZRLE}, deflated([]byte{129})},
		"too much packed":  {rect{0, 0, 4, 2, encodingZRLE}, uint32(1 << 31)},
		"no such encoding": {rect{0, 0, 4, 2, 7}},
		"huge pointer":     {rect{0, 0, 60000, 60000, encodingCursor}},
		"huge picture":     {rect{0, 0, 60000, 60000, encodingSize}},
	} {
		t.Run(name, func(t *testing.T) {
			c, err := Begin(greeting(4, 2).says(update...).says(m...), "")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := c.Next(); !errors.Is(err, ErrForm) {
				t.Errorf("%v", err)
			}
		})
	}
}

// FuzzNext reads whatever a server sends.
func FuzzNext(f *testing.F) {
	f.Add([]byte{0, 0, 0, 1, 0, 0, 0, 0, 0, 4, 0, 2, 0, 0, 0, 15, 130, 1, 2, 3, 4, 5, 6, 128, 5, 1, 0})
	f.Add(new(server).says(byte(0), byte(0), uint16(1), rect{0, 0, 4, 2, encodingZRLE},
		deflated([]byte{2, 1, 2, 3, 4, 5, 6, 0, 0x20})).Bytes())
	f.Add([]byte{3, 0, 0, 0, 0, 0, 0, 2, 'h', 'e', 2, 1, 0, 0, 1, 0, 1, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := Begin(greeting(40, 20).says(b), "")
		if err != nil {
			t.Fatal(err)
		}
		for range 100 {
			change, err := c.Next()
			if err != nil {
				return
			}
			for _, r := range change.Damage {
				if !change.Sized && (r.Empty() || r.Max.X > screen.MaxSide) {
					t.Fatalf("damage at %v", r)
				}
			}
		}
	})
}
