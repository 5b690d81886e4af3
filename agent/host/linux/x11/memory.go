//go:build linux

package x11

import (
	"image"
	"unsafe"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/shm"
	"github.com/jezek/xgb/xproto"
	"golang.org/x/sys/unix"

	"moorwatch.example/core/screen"
)

// memory is what the display server and the agent share, so that a picture is copied once. Where the
// server takes none, pictures come over the connection.
type memory struct {
	segment shm.Seg
	bytes   []byte
}

const ownerAlone = 0o600

// open shares memory for pictures of a size with the server of a person. It is removed from the
// system at once, and is gone when both have let go of it.
func (m *memory) open(x *xgb.Conn, size image.Point, uid uint32) {
	if shm.Init(x) != nil {
		return
	}
	id, err := unix.SysvShmGet(unix.IPC_PRIVATE, size.X*size.Y*4, unix.IPC_CREAT|ownerAlone)
	if err != nil {
		return
	}
	defer unix.SysvShmCtl(id, unix.IPC_RMID, nil)
	b, err := unix.SysvShmAttach(id, 0, 0)
	if err != nil {
		return
	}
	var about unix.SysvShmDesc
	if _, err := unix.SysvShmCtl(id, unix.IPC_STAT, &about); err == nil && about.Perm.Uid != uid && uid != 0 {
		about.Perm.Uid = uid // a server that runs as the person
		unix.SysvShmCtl(id, unix.IPC_SET, &about)
	}
	segment, err := shm.NewSegId(x)
	if err == nil {
		err = shm.AttachChecked(x, segment, uint32(id), false).Check()
	}
	if err != nil {
		unix.SysvShmDetach(b)
		return
	}
	m.segment, m.bytes = segment, b
}

func (m *memory) close(x *xgb.Conn) {
	if m.bytes != nil {
		shm.Detach(x, m.segment)
		x.Sync()
		unix.SysvShmDetach(m.bytes)
		m.bytes = nil
	}
}

// stripBytes is how much of a picture comes over the connection at once.
const stripBytes = 1 << 20

// grab copies a part of a window to the same place of a picture, in strips where it does not fit.
func (m *memory) grab(x *xgb.Conn, window xproto.Window, into *screen.Picture, r image.Rectangle) error {
	most := len(m.bytes)
	if most < r.Dx()*4 {
		most = stripBytes
	}
	for strip := max(most/(r.Dx()*4), 1); r.Min.Y < r.Max.Y; r.Min.Y += strip {
		part := r
		part.Max.Y = min(r.Max.Y, r.Min.Y+strip)
		if err := m.strip(x, window, into, part); err != nil {
			return err
		}
	}
	return nil
}

func (m *memory) strip(x *xgb.Conn, window xproto.Window, into *screen.Picture, r image.Rectangle) error {
	n := r.Dx() * r.Dy() * 4
	data := m.bytes
	if n <= len(data) {
		if _, err := shm.GetImage(x, xproto.Drawable(window), int16(r.Min.X), int16(r.Min.Y), uint16(r.Dx()), uint16(r.Dy()), ^uint32(0),
			xproto.ImageFormatZPixmap, m.segment, 0).Reply(); err != nil {
			return err
		}
	} else {
		got, err := xproto.GetImage(x, xproto.ImageFormatZPixmap, xproto.Drawable(window), int16(r.Min.X), int16(r.Min.Y), uint16(r.Dx()),
			uint16(r.Dy()), ^uint32(0)).Reply()
		if err != nil {
			return err
		}
		if data = got.Data; len(data) < n {
			return errGone
		}
	}
	pixels := unsafe.Slice((*uint32)(unsafe.Pointer(&data[0])), n/4)
	for y := range r.Dy() {
		from, to := pixels[y*r.Dx():][:r.Dx()], into.Pix[(r.Min.Y+y)*into.W+r.Min.X:][:r.Dx()]
		for i, v := range from {
			to[i] = v & 0xFFFFFF
		}
	}
	return nil
}
