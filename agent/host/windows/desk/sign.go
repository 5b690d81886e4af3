//go:build windows

package desk

import (
	"context"
	"errors"
	"image"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sign"
	"moorwatch.example/contract/link"
)

var (
	setWindowPos     = user32.NewProc("SetWindowPos")
	setWindowRgn     = user32.NewProc("SetWindowRgn")
	invalidateRect   = user32.NewProc("InvalidateRect")
	beginPaint       = user32.NewProc("BeginPaint")
	endPaint         = user32.NewProc("EndPaint")
	setCapture       = user32.NewProc("SetCapture")
	releaseCapture   = user32.NewProc("ReleaseCapture")
	getCursorPos     = user32.NewProc("GetCursorPos")
	setFocus         = user32.NewProc("SetFocus")
	setDIBitsToDev   = gdi32.NewProc("SetDIBitsToDevice")
	extCreateRegion  = gdi32.NewProc("ExtCreateRegion")
	createSolidBrush = gdi32.NewProc("CreateSolidBrush")
	fillRect         = user32.NewProc("FillRect")
	setLayered       = user32.NewProc("SetLayeredWindowAttributes")
)

// Sign implements host.Sign by two windows above all others: the sign, and the marks, through which the
// pointer passes.
type Sign struct {
	thread *thread
	once   sync.Once

	// What follows is the thread's alone.
	board  sign.Board
	marks  sign.Marks
	window uintptr
	over   uintptr
	at     image.Point
	area   image.Rectangle
	grip   *image.Point
	timer  *time.Timer
}

var _ host.Sign = (*Sign)(nil)

// signs are those that are shown, by window.
var signs struct {
	sync.Mutex
	open map[uintptr]*Sign
}

// Messages and styles that a sign needs.
const (
	wmPaint       = 0x000f
	wmMouseMove   = 0x0200
	wmButtonDown  = 0x0201
	wmButtonUp    = 0x0202
	wmChar        = 0x0102
	wsPopup       = 0x80000000
	exTool        = 0x00000080
	exTransparent = 0x00000020
	exLayered     = 0x00080000
	exNoActivate  = 0x08000000

	posNoSize     = 0x0001
	posNoActivate = 0x0010
	posShow       = 0x0040
	posHide       = 0x0080
	topmost       = ^uintptr(0) // HWND_TOPMOST
)

var signClass, _ = windows.UTF16PtrFromString("MoorwatchSign")

var signClassOnce = sync.OnceFunc(func() {
	const arrow = 32512
	cursor, _, _ := loadCursor.Call(0, arrow)
	c := windowClass{procedure: onSign, cursor: cursor, name: signClass}
	c.size = uint32(unsafe.Sizeof(c))
	registerClassEx.Call(uintptr(unsafe.Pointer(&c)))
})

var onSign = windows.NewCallback(func(window, message, w, l uintptr) uintptr {
	signs.Lock()
	s := signs.open[window]
	signs.Unlock()
	if s != nil && s.message(window, message, w, l) {
		return 0
	}
	result, _, _ := defWindowProc.Call(window, message, w, l)
	return result
})

// Sign implements helper.Signer.
func (Desk) Sign(_ context.Context, _ string, acts host.SignActs) (host.Sign, error) {
	s := &Sign{thread: begin(false), board: sign.Board{Acts: acts}}
	var err error
	s.thread.do(func() { err = s.open() })
	if err != nil {
		s.thread.end()
		return nil, err
	}
	return s, nil
}

func (s *Sign) open() error {
	signClassOnce()
	s.area = area()
	title, _ := windows.UTF16PtrFromString("Moorwatch")
	s.at = image.Pt(max(s.area.Max.X-sign.Width-sign.Margin, s.area.Min.X), s.area.Min.Y+sign.Margin)
	make := func(style, ex uintptr, r image.Rectangle) uintptr {
		h, _, _ := createWindowEx.Call(exTopmost|exTool|ex, uintptr(unsafe.Pointer(signClass)), uintptr(unsafe.Pointer(title)), style,
			uintptr(r.Min.X), uintptr(r.Min.Y), uintptr(r.Dx()), uintptr(r.Dy()), 0, 0, 0, 0)
		return h
	}
	s.window = make(wsPopup, 0, image.Rectangle{Min: s.at, Max: s.at.Add(image.Pt(sign.Width, sign.HeadHeight))})
	s.over = make(wsPopup, exTransparent|exNoActivate|exLayered, s.area)
	if s.window == 0 || s.over == 0 {
		return errors.New("no window can be made on this desktop")
	}
	const byAlpha = 2
	setLayered.Call(s.over, 0, 255, byAlpha)
	signs.Lock()
	defer signs.Unlock()
	if signs.open == nil {
		signs.open = map[uintptr]*Sign{}
	}
	signs.open[s.window], signs.open[s.over] = s, s
	return nil
}

// Show implements host.Sign.
func (s *Sign) Show(lines []string, held bool) {
	s.thread.do(func() {
		s.board.Show(lines, held)
		s.draw()
	})
}

// Say implements host.Sign.
func (s *Sign) Say(n link.ScreenNote) {
	s.thread.do(func() {
		s.board.Say(n)
		s.draw()
	})
}

// Mark implements host.Sign.
func (s *Sign) Mark(m host.Mark) {
	s.thread.do(func() {
		s.marks.Add(m, time.Now(), s.area.Size())
		s.shape()
	})
}

// Close implements host.Sign.
func (s *Sign) Close() error {
	s.once.Do(func() {
		s.thread.do(func() {
			if s.timer != nil {
				s.timer.Stop()
			}
			for _, w := range []uintptr{s.window, s.over} {
				signs.Lock()
				delete(signs.open, w)
				signs.Unlock()
				destroyWindow.Call(w)
			}
		})
		s.thread.end()
	})
	return nil
}

// draw shows the sign as it stands, without taking the keyboard from where it is.
func (s *Sign) draw() {
	if !s.board.Shown() {
		setWindowPos.Call(s.window, 0, 0, 0, 0, 0, posHide|posNoActivate|posNoSize)
		return
	}
	p := s.board.Paint()
	s.at.X, s.at.Y = max(min(s.at.X, s.area.Max.X-60), s.area.Min.X+60-sign.Width),
		max(min(s.at.Y, s.area.Max.Y-sign.HeadHeight), s.area.Min.Y)
	setWindowPos.Call(s.window, topmost, uintptr(s.at.X), uintptr(s.at.Y), sign.Width, uintptr(p.Rect.Dy()), posShow|posNoActivate)
	invalidateRect.Call(s.window, 0, 0)
}

// shape gives the window of marks their shape, and shows it where there are any.
func (s *Sign) shape() {
	_, next := s.marks.Age(time.Now())
	if next > 0 {
		if s.timer != nil {
			s.timer.Stop()
		}
		s.timer = time.AfterFunc(next, func() { s.thread.do(s.shape) })
	}
	bits := s.marks.Bits()
	if len(bits) == 0 {
		setWindowPos.Call(s.over, 0, 0, 0, 0, 0, posHide|posNoActivate|posNoSize)
		return
	}
	// RGNDATA: a header, and the rectangles.
	data := make([]int32, 8, 8+4*len(bits))
	data[0], data[1], data[2], data[3] = 32, 1, int32(len(bits)), int32(16*len(bits))
	all := image.Rectangle{}
	for _, r := range bits {
		all = all.Union(r)
		data = append(data, int32(r.Min.X), int32(r.Min.Y), int32(r.Max.X), int32(r.Max.Y))
	}
	data[4], data[5], data[6], data[7] = int32(all.Min.X), int32(all.Min.Y), int32(all.Max.X), int32(all.Max.Y)
	region, _, _ := extCreateRegion.Call(0, uintptr(4*len(data)), uintptr(unsafe.Pointer(&data[0])))
	if region == 0 {
		return
	}
	setWindowRgn.Call(s.over, region, 1) // which owns it from now on
	setWindowPos.Call(s.over, topmost, uintptr(s.area.Min.X), uintptr(s.area.Min.Y), uintptr(s.area.Dx()), uintptr(s.area.Dy()),
		posShow|posNoActivate)
	invalidateRect.Call(s.over, 0, 0)
}

// paintStruct is PAINTSTRUCT.
type paintStruct struct {
	dc              uintptr
	erase           int32
	paint           rect
	restore, update int32
	_               [32]byte
}

// message takes what the system tells of a window; ok is false for what it is to do itself.
func (s *Sign) message(window, message, w, l uintptr) (ok bool) {
	point := func() image.Point { return image.Pt(int(int16(l)), int(int16(l>>16))) }
	switch message {
	case wmPaint:
		var p paintStruct
		dc, _, _ := beginPaint.Call(window, uintptr(unsafe.Pointer(&p)))
		if window == s.window {
			put(dc, s.board.Paint(), image.Point{})
		} else {
			c := sign.Bright
			brush, _, _ := createSolidBrush.Call(uintptr(c.R) | uintptr(c.G)<<8 | uintptr(c.B)<<16)
			r := rect{right: int32(s.area.Dx()), bottom: int32(s.area.Dy())}
			fillRect.Call(dc, uintptr(unsafe.Pointer(&r)), brush)
			deleteObject.Call(brush)
			s.marks.Labels(func(p sign.Painting, at image.Point) { put(dc, p, at) })
		}
		endPaint.Call(window, uintptr(unsafe.Pointer(&p)))
	case wmButtonDown:
		switch s.board.Press(point()) {
		case sign.Folded:
			s.draw()
		case sign.Gripped:
			at := point()
			s.grip = &at
			setCapture.Call(window)
		case sign.Field:
			setForegroundWindow.Call(window)
			setFocus.Call(window)
		}
	case wmMouseMove:
		if s.grip == nil {
			return false
		}
		var at struct{ x, y int32 }
		getCursorPos.Call(uintptr(unsafe.Pointer(&at)))
		s.at = image.Pt(int(at.x), int(at.y)).Sub(*s.grip)
		setWindowPos.Call(s.window, topmost, uintptr(s.at.X), uintptr(s.at.Y), 0, 0, posNoSize|posNoActivate)
	case wmButtonUp:
		s.grip = nil
		releaseCapture.Call()
	case wmChar:
		s.board.Key(rune(w))
		s.draw()
	case wmClose:
	default:
		return false
	}
	return true
}

// put copies a painting to a window.
func put(dc uintptr, p sign.Painting, at image.Point) {
	w, h := p.Rect.Dx(), p.Rect.Dy()
	b := make([]byte, 4*w*h)
	for i := range w * h {
		from := p.Pix[(i/w)*p.Stride+4*(i%w):]
		b[4*i], b[4*i+1], b[4*i+2] = from[2], from[1], from[0]
	}
	header := bitmapHeader{size: dibHeader, width: int32(w), height: -int32(h), planes: 1, bits: 32}
	setDIBitsToDev.Call(dc, uintptr(at.X), uintptr(at.Y), uintptr(w), uintptr(h), 0, 0, 0, uintptr(h), uintptr(unsafe.Pointer(&b[0])),
		uintptr(unsafe.Pointer(&header)), 0)
}
