package uplink

import (
	"crypto/rand"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gobwas/ws"
)

// maxFrame is the most payload of one WebSocket frame that is written: with its header it stays
// below 64 KiB, so that the header has one form and a keystroke waits for little.
const maxFrame = 60 << 10

// conn makes a stream of bytes of the binary frames of a WebSocket. It is written for the link's
// two needs: that a bulk transfer costs little more than TLS alone (a frame is one write, and a
// long read goes straight to its reader), and that an idle device costs little memory.
type conn struct {
	net.Conn
	masks bool          // the dialling end masks what it sends (RFC 6455, 5.3)
	idle  time.Duration // the peer is gone when nothing comes for so long; 0 for never

	kinds bool         // messages begin with their kind; see note.go
	took  func([]byte) // is given each note, by the goroutine that reads

	heard atomic.Int64 // when something came last, in nanoseconds since 1970

	early []byte // bytes that came along with the handshake
	buf   [512]byte
	have  []byte // unread bytes of buf
	left  int64  // payload left of the frame being read
	mask  [4]byte
	off   int
	kind  byte      // of the message being read
	part  []byte    // of the note being read
	set   time.Time // when the read deadline was last set

	mu   sync.Mutex
	out  []byte // frame being made
	held []byte // a stream's header that awaits its body
}

// muxHeader is the length of yamux's frame header, which it writes apart from the body.
const muxHeader = 12

// muxBody tells whether p is a yamux header that a body follows, so that both can go as one frame
// with one system call.
func muxBody(p []byte) bool {
	return len(p) == muxHeader && p[0] == 0 && p[1] == 0 && binary.BigEndian.Uint32(p[8:]) > 0
}

func (c *conn) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.held) == 0 && muxBody(p) {
		c.held = append(c.held, p...)
		return len(p), nil
	}
	n := len(p)
	for first := true; first || len(p) > 0; first = false {
		k := min(len(p), maxFrame)
		if err := c.frame(ws.OpBinary, ofStreams, c.held, p[:k]); err != nil {
			return 0, err
		}
		c.held, p = c.held[:0], p[k:]
	}
	return n, nil
}

// note writes one note.
func (c *conn) note(b []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.frame(ws.OpBinary, ofNotes, nil, b)
}

// frame writes one final frame whose payload is a followed by b. c.mu is held.
func (c *conn) frame(op ws.OpCode, kind byte, a, b []byte) error {
	f := append(c.out[:0], 0x80|byte(op))
	kinds := 0
	if c.kinds && op == ws.OpBinary {
		kinds = 1
	}
	var masked byte
	if c.masks {
		masked = 0x80
	}
	if n := kinds + len(a) + len(b); n < 126 {
		f = append(f, masked|byte(n))
	} else {
		f = append(f, masked|126, byte(n>>8), byte(n))
	}
	var mask [4]byte
	if c.masks {
		rand.Read(mask[:])
		f = append(f, mask[:]...)
	}
	start := len(f)
	if kinds == 1 {
		f = append(f, kind)
	}
	f = append(append(f, a...), b...)
	if c.masks {
		ws.Cipher(f[start:], mask, 0)
	}
	if c.out = f[:0]; cap(f) > 4<<10 && len(f) < 1<<10 {
		c.out = nil // a bulk transfer is over: an idle link keeps no large buffer
	}
	_, err := c.Conn.Write(f)
	return err
}

func (c *conn) Read(p []byte) (int, error) {
	for c.left == 0 {
		h, err := ws.ReadHeader(reader{c})
		if err != nil {
			return 0, err
		}
		if h.OpCode.IsControl() {
			if err := c.control(h); err != nil {
				return 0, err
			}
			continue
		}
		if h.OpCode == ws.OpText || h.Masked == c.masks {
			return 0, errors.New("link: the peer does not speak the link's WebSocket")
		}
		c.left, c.mask, c.off = h.Length, h.Mask, 0
		if c.kinds {
			if err := c.sort(h); err != nil {
				return 0, err
			}
		}
	}
	return c.payload(p)
}

// payload reads some of what is left of a frame.
func (c *conn) payload(p []byte) (int, error) {
	n, err := c.raw(p[:min(int64(len(p)), c.left)])
	if !c.masks {
		ws.Cipher(p[:n], c.mask, c.off)
	}
	c.off += n
	c.left -= int64(n)
	return n, err
}

// sort reads a message's kind from its first frame, and notes to their end; what is of the streams is
// left to be read.
func (c *conn) sort(h ws.Header) error {
	if h.OpCode != ws.OpContinuation && h.Length > 0 {
		var kind [1]byte
		if _, err := c.payload(kind[:]); err != nil {
			return err
		}
		c.kind, c.part = kind[0], nil
	}
	switch {
	case c.kind == ofStreams:
		return nil
	case c.kind != ofNotes || int64(len(c.part))+c.left > MaxNote+64:
		return errors.New("link: a message of no kind that is known, or a note that is too long")
	}
	had := len(c.part)
	c.part = append(c.part, make([]byte, c.left)...)
	for p := c.part[had:]; len(p) > 0; {
		n, err := c.payload(p)
		if err != nil {
			return err
		}
		p = p[n:]
	}
	if h.Fin {
		c.took(c.part)
		c.part = nil
	}
	return nil
}

// control answers a ping, passes over a pong, and takes a close for the end.
func (c *conn) control(h ws.Header) error {
	if h.Length > 125 {
		return errors.New("link: control frame longer than 125 bytes")
	}
	var b [125]byte
	p := b[:h.Length]
	if _, err := io.ReadFull(reader{c}, p); err != nil {
		return err
	}
	if h.Masked {
		ws.Cipher(p, h.Mask, 0)
	}
	switch h.OpCode {
	case ws.OpClose:
		return io.EOF
	case ws.OpPing:
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.frame(ws.OpPong, ofStreams, nil, p)
	}
	return nil
}

// raw reads what came, buffering short reads so that a frame's header costs no system call.
func (c *conn) raw(p []byte) (int, error) {
	switch {
	case len(c.early) > 0:
		n := copy(p, c.early)
		if c.early = c.early[n:]; len(c.early) == 0 {
			c.early = nil
		}
		return n, nil
	case len(c.have) > 0:
		n := copy(p, c.have)
		c.have = c.have[n:]
		return n, nil
	}
	if c.idle > 0 {
		if now := time.Now(); now.Sub(c.set) > c.idle/8 {
			c.set = now
			if err := c.SetReadDeadline(now.Add(c.idle)); err != nil {
				return 0, err
			}
		}
	}
	if len(p) >= len(c.buf) {
		n, err := c.Conn.Read(p)
		c.heard.Store(time.Now().UnixNano())
		return n, err
	}
	n, err := c.Conn.Read(c.buf[:])
	c.heard.Store(time.Now().UnixNano())
	c.have = c.buf[:n]
	if n > 0 {
		err = nil
	}
	k := copy(p, c.have)
	c.have = c.have[k:]
	return k, err
}

type reader struct{ c *conn }

func (r reader) Read(p []byte) (int, error) { return r.c.raw(p) }
