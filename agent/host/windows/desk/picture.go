//go:build windows

package desk

import (
	"errors"
	"image"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/polling"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

var (
	getDC               = user32.NewProc("GetDC")
	releaseDC           = user32.NewProc("ReleaseDC")
	getSystemMetrics    = user32.NewProc("GetSystemMetrics")
	enumDisplayMonitors = user32.NewProc("EnumDisplayMonitors")
	getMonitorInfo      = user32.NewProc("GetMonitorInfoW")
	dpiAware            = user32.NewProc("SetProcessDpiAwarenessContext")
	createCompatibleDC  = gdi32.NewProc("CreateCompatibleDC")
	createDIBSection    = gdi32.NewProc("CreateDIBSection")
	selectObject        = gdi32.NewProc("SelectObject")
	deleteObject        = gdi32.NewProc("DeleteObject")
	deleteDC            = gdi32.NewProc("DeleteDC")
	bitBlt              = gdi32.NewProc("BitBlt")
)

// area is where the desktop of all monitors is, in the system's coordinates: SM_XVIRTUALSCREEN and
// what follows it.
func area() image.Rectangle {
	metric := func(n uintptr) int {
		v, _, _ := getSystemMetrics.Call(n)
		return int(int32(v))
	}
	at := image.Pt(metric(76), metric(77))
	return image.Rectangle{at, at.Add(image.Pt(metric(78), metric(79)))}
}

// rect is RECT, and monitorInfo MONITORINFOEXW.
type rect struct{ left, top, right, bottom int32 }

type monitorInfo struct {
	size          uint32
	monitor, work rect
	flags         uint32
	device        [32]uint16
}

var found []link.Monitor // by eachMonitor, on one thread at a time

var eachMonitor = windows.NewCallback(func(monitor, _, _, _ uintptr) uintptr {
	info := monitorInfo{}
	info.size = uint32(unsafe.Sizeof(info))
	if ok, _, _ := getMonitorInfo.Call(monitor, uintptr(unsafe.Pointer(&info))); ok != 0 {
		r := info.monitor
		found = append(found, link.Monitor{Name: strings.TrimPrefix(windows.UTF16ToString(info.device[:]), `\\.\`), X: int(r.left),
			Y:     int(r.top),
			Width: int(r.right - r.left), Height: int(r.bottom - r.top), Primary: info.flags&1 != 0})
	}
	return 1
})

// monitors lists them, within the desktop.
func monitors(within image.Rectangle) []link.Monitor {
	found = nil
	enumDisplayMonitors.Call(0, 0, eachMonitor, 0)
	for i := range found {
		found[i].X -= within.Min.X
		found[i].Y -= within.Min.Y
	}
	return found
}

// copier copies the desktop into memory of its own.
type copier struct {
	area   image.Rectangle
	dc     uintptr
	bitmap uintptr
	pixels []uint32 // the bitmap's
	shown  []uint32 // as it was told last

	duplicator *duplicator // nil where the desktop is copied by GDI
	retry      time.Time   // when duplication is tried again
	fresh      bool        // all of the pixels are to be copied by GDI once
}

// bitmapHeader is BITMAPINFOHEADER.
type bitmapHeader struct {
	size          uint32
	width, height int32
	planes, bits  uint16
	compression   uint32
	_             [5]uint32
}

func newCopier(area image.Rectangle) (*copier, error) {
	w, h := area.Dx(), area.Dy()
	if _, err := screen.NewPicture(w, h); err != nil {
		return nil, err
	}
	c := &copier{area: area, shown: make([]uint32, w*h)}
	c.dc, _, _ = createCompatibleDC.Call(0)
	header := bitmapHeader{size: 40, width: int32(w), height: -int32(h), planes: 1, bits: 32}
	var bits unsafe.Pointer
	c.bitmap, _, _ = createDIBSection.Call(c.dc, uintptr(unsafe.Pointer(&header)), 0, uintptr(unsafe.Pointer(&bits)), 0, 0)
	if c.dc == 0 || c.bitmap == 0 || bits == nil {
		c.close()
		return nil, errors.New("the system gives no memory for a picture of the desktop")
	}
	selectObject.Call(c.dc, c.bitmap)
	c.pixels = unsafe.Slice((*uint32)(bits), w*h)
	return c, nil
}

func (c *copier) close() {
	if c.duplicator != nil {
		c.duplicator.close()
		c.duplicator = nil
	}
	if c.dc != 0 {
		deleteDC.Call(c.dc)
	}
	if c.bitmap != 0 {
		deleteObject.Call(c.bitmap)
	}
}

// retryDuplication is after how long duplication is tried again where it did not go: while the log-in screen is
// shown it does not.
const retryDuplication = 5 * time.Second

// poll copies the desktop and returns where it is another than before: by duplication where there is
// that, and by GDI otherwise.
func (c *copier) poll(all bool) ([]image.Rectangle, error) {
	if now := time.Now(); c.duplicator == nil && now.After(c.retry) {
		c.retry, c.fresh = now.Add(retryDuplication), true
		c.duplicator, _ = newDuplicator(c.area)
	}
	if c.duplicator != nil {
		news, err := c.duplicator.poll(c.pixels, c.area.Dx())
		switch {
		case err != nil:
			c.duplicator.close()
			c.duplicator, c.retry = nil, time.Now().Add(retryDuplication)
		case c.fresh || all: // what was there before it began comes by GDI
			c.fresh = false
		case !news:
			return nil, nil
		default:
			return polling.Differences(c.shown, c.pixels, c.area.Dx(), c.area.Dy(), all), nil
		}
	}
	from, _, _ := getDC.Call(0)
	if from == 0 {
		return nil, errors.New("the desktop cannot be copied now")
	}
	const copySource = 0x00cc0020 // SRCCOPY
	w, h := c.area.Dx(), c.area.Dy()
	ok, _, err := bitBlt.Call(c.dc, 0, 0, uintptr(w), uintptr(h), from, uintptr(c.area.Min.X), uintptr(c.area.Min.Y), copySource)
	releaseDC.Call(0, from)
	if ok == 0 {
		return nil, err
	}
	return polling.Differences(c.shown, c.pixels, w, h, all), nil
}

// boundsOf is where a monitor is, in the system's coordinates.
func boundsOf(m link.Monitor, within image.Rectangle) image.Rectangle {
	return image.Rect(m.X, m.Y, m.X+m.Width, m.Y+m.Height).Add(within.Min)
}
