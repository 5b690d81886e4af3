package rfb

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
)

// conversation is a greeting, and one message of every kind and encoding.
func conversation() []byte {
	one := func(e int32, rest ...any) *server {
		return new(server).says(append([]any{byte(0), byte(0), uint16(1), rect{0, 0, 4, 2, e}}, rest...)...)
	}
	s := greeting(4, 2)
	for _, m := range []*server{
		one(encodingRaw, make([]byte, 32)), one(encodingCopy, uint16(0), uint16(0)),
		one(encodingRRE, uint32(1), pixel(1), pixel(2), rectHead(1, 0, 2, 1)),
		one(encodingHextile, join([]byte{1}, bytes.Repeat(pixel(3), 8))),
		one(encodingTRLE, join([]byte{1}, short(4))), one(encodingZRLE, deflated(join([]byte{1}, short(5)))),
		new(server).says(byte(messageText), []byte{0, 0, 0}, uint32(4), "caf\xe9"), new(server).says(byte(2)),
	} {
		s.says(m.Bytes())
	}
	return s.Bytes()
}

// A server may fall silent anywhere: whatever came until then is read, and the end is told as one.
func TestCutAnywhere(t *testing.T) {
	all := conversation()
	messages := func(b []byte) (n int, err error) {
		c, err := Begin(new(server).says(b), "")
		if err != nil {
			return 0, err
		}
		for {
			change, err := c.Next()
			if err != nil {
				return n, err
			}
			if n++; change.Text != nil && *change.Text != "café" {
				t.Fatalf("the clipboard holds %q", *change.Text)
			}
		}
	}
	whole, err := messages(all)
	if whole < 7 || !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Fatalf("%d messages, %v", whole, err)
	}
	before := 0
	for cut := range all {
		n, err := messages(all[:cut])
		if err == nil || n < before || n > whole {
			t.Fatalf("cut after %d of %d bytes: %d messages, %v", cut, len(all), n, err)
		}
		before = n
	}
}

// A server that refuses gives a reason of any length, of which not all is kept.
func TestLongReasons(t *testing.T) {
	long := strings.Repeat("x", 2*maxReason)
	_, err := Begin(new(server).says("RFB 003.003\n", uint32(0), uint32(len(long)), long), "")
	if err == nil || !strings.Contains(err.Error(), "refuses") || len(err.Error()) > 2*maxReason {
		t.Errorf("%.80v", err)
	}
	c, err := Begin(new(server).says("RFB 003.008\n", []byte{1, 1}, uint32(0), uint16(4), uint16(2), make([]byte, 16), uint32(len(long)),
		long), "")
	if err != nil || len(c.name) != maxReason {
		t.Errorf("a name of %d bytes, %v", len(c.name), err)
	}
	text := strings.Repeat("y", maxText+10)
	c, err = Begin(greeting(4, 2).says(byte(messageText), []byte{0, 0, 0}, uint32(len(text)), text, byte(2)), "")
	if err != nil {
		t.Fatal(err)
	}
	if change, err := c.Next(); err != nil || len(*change.Text) != maxText {
		t.Errorf("%v", err)
	}
	if _, err := c.Next(); errors.Is(err, ErrForm) {
		t.Errorf("what follows a long text is not read: %v", err)
	}
}
