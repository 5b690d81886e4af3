//go:build linux

// Package wayland shows desktops of Wayland compositors that let a program of the same person copy outputs
// (wlr-screencopy) and type and point (virtual-keyboard, wlr-virtual-pointer). Others offer none of these,
// and are told apart by Offers.
package wayland

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// wire is a connection in Wayland's wire format (The Wayland Protocol, appendix A): messages of an object's number,
// an opcode and a size, and words in the host's order.
type wire struct {
	c *net.UnixConn

	mu       sync.Mutex // of writing and of objects
	last     uint32     // object made last
	handlers map[uint32]func(opcode int, in *words)
	err      error
}

// connectWithin is how long a compositor has to take a connection, and an answer to come at the beginning.
const connectWithin = 2 * time.Second

func dial(socket string) (*wire, error) {
	c, err := net.DialTimeout("unix", socket, connectWithin)
	if err != nil {
		return nil, err
	}
	w := &wire{c: c.(*net.UnixConn), last: 1, handlers: map[uint32]func(int, *words){}}
	w.handlers[1] = func(opcode int, in *words) { // wl_display
		switch opcode {
		case 0: // error
			object, code, text := in.uint(), in.uint(), in.string()
			w.fail(fmt.Errorf("the compositor refuses object %d with error %d: %s", object, code, text))
		case 1: // delete_id
			w.mu.Lock()
			delete(w.handlers, in.uint())
			w.mu.Unlock()
		}
	}
	return w, nil
}

// object makes an object whose events go to a handler, which is called by the goroutine of listen.
func (w *wire) object(handler func(opcode int, in *words)) uint32 {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last++
	if handler == nil {
		handler = func(int, *words) {}
	}
	w.handlers[w.last] = handler
	return w.last
}

// send sends a request: numbers as they are, texts as strings, and an int as a file descriptor.
func (w *wire) send(object uint32, opcode int, args ...any) error {
	b := make([]byte, 8, 64)
	var rights []byte
	for _, a := range args {
		switch v := a.(type) {
		case uint32:
			b = binary.NativeEndian.AppendUint32(b, v)
		case int32:
			b = binary.NativeEndian.AppendUint32(b, uint32(v))
		case float64: // fixed: 24 bits and 8 of a fraction
			b = binary.NativeEndian.AppendUint32(b, uint32(int32(math.Round(v*256))))
		case string:
			b = binary.NativeEndian.AppendUint32(b, uint32(len(v)+1))
			b = append(append(b, v...), 0)
			for len(b)%4 != 0 {
				b = append(b, 0)
			}
		case int:
			rights = unix.UnixRights(v)
		}
	}
	binary.NativeEndian.PutUint32(b, object)
	binary.NativeEndian.PutUint32(b[4:], uint32(len(b))<<16|uint32(opcode))
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err != nil {
		return w.err
	}
	_, _, err := w.c.WriteMsgUnix(b, rights, nil)
	return err
}

// listen hands events to their objects until the connection ends.
func (w *wire) listen() error {
	for {
		if err := w.next(); err != nil {
			return err
		}
	}
}

// next reads an event and hands it to its object.
func (w *wire) next() error {
	var head [8]byte
	if _, err := io.ReadFull(w.c, head[:]); err != nil {
		return w.fail(err)
	}
	object, size := binary.NativeEndian.Uint32(head[:]), binary.NativeEndian.Uint32(head[4:])
	if size>>16 < 8 {
		return w.fail(errors.New("the compositor sends what is no message"))
	}
	body := make([]byte, size>>16-8)
	if _, err := io.ReadFull(w.c, body); err != nil {
		return w.fail(err)
	}
	w.mu.Lock()
	handler := w.handlers[object]
	w.mu.Unlock()
	if handler != nil { // else it is of an object that is gone
		handler(int(size&0xffff), &words{body})
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// fail ends the connection.
func (w *wire) fail(err error) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = err
	}
	w.c.Close()
	return w.err
}

// words are the arguments of an event. What is missing is zero.
type words struct{ b []byte }

func (w *words) uint() uint32 {
	if len(w.b) < 4 {
		w.b = nil
		return 0
	}
	v := binary.NativeEndian.Uint32(w.b)
	w.b = w.b[4:]
	return v
}

func (w *words) int() int { return int(int32(w.uint())) }

func (w *words) string() string {
	n := int(w.uint())
	padded := (n + 3) &^ 3
	if n < 1 || padded > len(w.b) {
		w.b = nil
		return ""
	}
	s := string(w.b[:n-1])
	w.b = w.b[padded:]
	return s
}

// global is something that the compositor offers.
type global struct{ name, version uint32 }

// globals asks what the compositor offers, and returns its registry. Outputs come by their numbers.
func (w *wire) globals() (registry uint32, all map[string]global, outputs []global, err error) {
	all = map[string]global{}
	registry = w.object(func(opcode int, in *words) {
		if opcode != 0 {
			return
		}
		g := global{name: in.uint()}
		name := in.string()
		g.version = in.uint()
		if name == "wl_output" {
			outputs = append(outputs, g)
		} else {
			all[name] = g
		}
	})
	if err = w.send(1, 1, registry); err == nil {
		err = w.round()
	}
	return registry, all, outputs, err
}

// round waits until the compositor has done all that was asked, and handles what it tells meanwhile. It is called
// before listen.
func (w *wire) round() error {
	done := false
	callback := w.object(func(int, *words) { done = true })
	if err := w.send(1, 0, callback); err != nil {
		return err
	}
	w.c.SetReadDeadline(time.Now().Add(connectWithin))
	defer w.c.SetReadDeadline(time.Time{})
	for !done {
		if err := w.next(); err != nil {
			return err
		}
	}
	return nil
}

// bind makes an object of something that is offered, of at most a version.
func (w *wire) bind(registry uint32, g global, name string, most uint32, handler func(int, *words)) (uint32, error) {
	id := w.object(handler)
	return id, w.send(registry, 0, g.name, name, min(g.version, most), id)
}

// Interfaces that are needed, and those that make it better.
const (
	screencopy = "zwlr_screencopy_manager_v1"
	pointers   = "zwlr_virtual_pointer_manager_v1"
	keyboards  = "zwp_virtual_keyboard_manager_v1"
	places     = "zxdg_output_manager_v1"
)

// Offers tells whether the compositor at a socket lets its outputs be copied.
func Offers(socket string) bool {
	w, err := dial(socket)
	if err != nil {
		return false
	}
	defer w.c.Close()
	_, all, _, err := w.globals()
	return err == nil && all[screencopy].version > 0
}
