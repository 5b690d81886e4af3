package uplink

import (
	"bytes"
	"crypto/ed25519"
	"io"
	"net"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

// FuzzVerify shows the service a proof that somebody without the device's key made: it never holds.
func FuzzVerify(f *testing.F) {
	public, private := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{1}, 32)).Public().(ed25519.PublicKey),
		ed25519.NewKeyFromSeed(bytes.Repeat([]byte{2}, 32))
	c := link.Challenge{Nonce: "nonce", Audience: "moor", Time: time.Now()}
	token, err := prove("van-board", private, c)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(token)
	f.Add("eyJhbGciOiJub25lIn0.eyJzdWIiOiJ2YW4tYm9hcmQifQ.")
	f.Add("..")
	f.Fuzz(func(t *testing.T, token string) {
		if device, err := verify(token, c, time.Now(), func(string) (ed25519.PublicKey, error) { return public, nil }); err == nil {
			t.Errorf("it holds, for %q", device)
		}
	})
}

// FuzzReceive reads a greeting's messages from somebody who is no device yet.
func FuzzReceive(f *testing.F) {
	f.Add([]byte("\x82\x02{}"))
	f.Add([]byte("\x81\x7f\xff\xff\xff\xff\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, in []byte) {
		var p link.Proof
		_ = receive(bytes.NewReader(in), &p)
	})
}

// still is a connection from which bytes come, and nothing more.
type still struct {
	net.Conn
	from io.Reader
}

func (s still) Read(p []byte) (int, error)         { return s.from.Read(p) }
func (s still) Write(p []byte) (int, error)        { return len(p), nil }
func (s still) Close() error                       { return nil }
func (s still) SetDeadline(time.Time) error        { return nil }
func (s still) SetReadDeadline(t time.Time) error  { return nil }
func (s still) SetWriteDeadline(t time.Time) error { return nil }

// FuzzFrames reads what a device puts on its link: no frame has more come out than went in.
func FuzzFrames(f *testing.F) {
	f.Add([]byte{0x82, 0x85, 1, 2, 3, 4, 'h', 'e', 'l', 'l', 'o'}, true)
	f.Add([]byte{0x89, 0x80, 0, 0, 0, 0}, true)
	f.Add([]byte{0x82, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, false)
	f.Fuzz(func(t *testing.T, in []byte, kinds bool) {
		c := &conn{Conn: still{from: bytes.NewReader(in)}, kinds: kinds, took: func([]byte) {}}
		n, err := io.Copy(io.Discard, io.LimitReader(struct{ io.Reader }{c}, 1<<20))
		if n > int64(len(in)) {
			t.Errorf("%d bytes became %d (%v)", len(in), n, err)
		}
	})
}

// FuzzReceiveBulk takes a file from somebody who sends what they like.
func FuzzReceiveBulk(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, in []byte) {
		var out bytes.Buffer
		n, _ := ReceiveBulk(struct {
			io.Reader
			io.Writer
		}{bytes.NewReader(in), io.Discard}, &out, func([]byte) error { return nil })
		if n > int64(len(in)) || int64(out.Len()) > int64(len(in)) {
			t.Errorf("%d bytes became %d", len(in), out.Len())
		}
	})
}
