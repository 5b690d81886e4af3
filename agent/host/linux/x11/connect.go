//go:build linux

// Package x11 shows a desktop of an X server and works on it: its picture through MIT-SHM, what
// changes through DAMAGE, monitors through RANDR, the pointer's shape and clipboards through XFIXES,
// keys and pointer through XTEST. It finds no desktops: the caller names them.
package x11

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jezek/xgb"
)

// dialWithin is how long an X server has to take a connection.
const dialWithin = 5 * time.Second

// connect connects to a display of this computer, such as :0, with the cookie in an authority file
// (Xauthority(5)) where there is one. The file must belong to the person whose desktop it is.
func connect(display, authority string, uid uint32) (*xgb.Conn, error) {
	number, ok := strings.CutPrefix(display, ":")
	number, _, _ = strings.Cut(number, ".")
	if _, err := strconv.ParseUint(number, 10, 16); !ok || err != nil {
		return nil, fmt.Errorf("%q is no display of this computer", display)
	}
	c, err := net.DialTimeout("unix", "/tmp/.X11-unix/X"+number, dialWithin)
	if err != nil {
		return nil, err
	}
	quiet.Do(func() { xgb.Logger.SetOutput(io.Discard) }) // it writes of authority files that are none of ours
	x, err := xgb.NewConnNet(&opening{Conn: c, cookie: cookie(authority, number, uid)})
	if err != nil {
		c.Close()
	}
	return x, err
}

var quiet sync.Once

// opening is a connection whose first message, in which a client shows what it may connect with, is
// written anew with the cookie of the desktop: the library knows only the cookie of its own process.
type opening struct {
	net.Conn
	cookie []byte
	begun  bool
}

// protocol is the name of the authorisation by cookie.
const protocol = "MIT-MAGIC-COOKIE-1"

func (o *opening) Write(p []byte) (int, error) {
	if o.begun {
		return o.Conn.Write(p)
	}
	o.begun = true
	if len(o.cookie) == 0 {
		return o.Conn.Write(p)
	}
	pad := func(n int) int { return (n + 3) &^ 3 }
	b := make([]byte, 12+pad(len(protocol))+pad(len(o.cookie)))
	b[0] = 'l'
	binary.LittleEndian.PutUint16(b[2:], 11)
	binary.LittleEndian.PutUint16(b[6:], uint16(len(protocol)))
	binary.LittleEndian.PutUint16(b[8:], uint16(len(o.cookie)))
	copy(b[12:], protocol)
	copy(b[12+pad(len(protocol)):], o.cookie)
	if _, err := o.Conn.Write(b); err != nil {
		return 0, err
	}
	return len(p), nil
}

// cookie reads the cookie for a display from an authority file; nil where there is none.
func cookie(path, number string, uid uint32) []byte {
	if path == "" {
		return nil
	}
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil
	}
	if s, ok := info.Sys().(*syscall.Stat_t); !ok || (s.Uid != uid && s.Uid != 0) {
		return nil
	}
	host, _ := os.Hostname()
	return findCookie(bufio.NewReader(io.LimitReader(f, 1<<20)), host, number)
}

// Families of addresses in an authority file.
const (
	familyLocal = 256
	familyWild  = 65535
)

func findCookie(r io.Reader, host, number string) (other []byte) {
	field := func() (string, error) {
		var n uint16
		if err := binary.Read(r, binary.BigEndian, &n); err != nil {
			return "", err
		}
		b := make([]byte, n)
		_, err := io.ReadFull(r, b)
		return string(b), err
	}
	for {
		var family uint16
		err := binary.Read(r, binary.BigEndian, &family)
		address, err1 := field()
		display, err2 := field()
		name, err3 := field()
		data, err4 := field()
		switch {
		case errors.Join(err, err1, err2, err3, err4) != nil:
			return other
		case name != protocol || (display != "" && display != number):
		case family == familyWild || (family == familyLocal && address == host):
			return []byte(data)
		case other == nil: // the computer may have been renamed since
			other = []byte(data)
		}
	}
}
