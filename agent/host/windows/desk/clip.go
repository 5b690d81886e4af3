//go:build windows

package desk

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
	"net/http"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/contract/link"
)

var (
	openClipboard     = user32.NewProc("OpenClipboard")
	closeClipboard    = user32.NewProc("CloseClipboard")
	emptyClipboard    = user32.NewProc("EmptyClipboard")
	getClipboardData  = user32.NewProc("GetClipboardData")
	setClipboardData  = user32.NewProc("SetClipboardData")
	registerFormat    = user32.NewProc("RegisterClipboardFormatW")
	clipboardSequence = user32.NewProc("GetClipboardSequenceNumber")
	createWindowEx    = user32.NewProc("CreateWindowExW")
	destroyWindow     = user32.NewProc("DestroyWindow")

	kernel32     = windows.NewLazySystemDLL("kernel32.dll")
	globalAlloc  = kernel32.NewProc("GlobalAlloc")
	globalFree   = kernel32.NewProc("GlobalFree")
	globalLock   = kernel32.NewProc("GlobalLock")
	globalUnlock = kernel32.NewProc("GlobalUnlock")
	globalSize   = kernel32.NewProc("GlobalSize")
)

// Formats of a clipboard.
const (
	formatDIB  = 8
	formatText = 13 // CF_UNICODETEXT
)

// clips watches the clipboard and puts things on it.
type clips struct {
	thread *thread
	window uintptr
	png    uintptr // the format that programs agree on for PNG

	mu   sync.Mutex
	seen uintptr // its sequence number
}

func listen() *clips {
	c := &clips{thread: begin(false)}
	c.thread.do(func() {
		const messagesOnly = ^uintptr(2) // HWND_MESSAGE
		class, _ := windows.UTF16PtrFromString("STATIC")
		c.window, _, _ = createWindowEx.Call(0, uintptr(unsafe.Pointer(class)), 0, 0, 0, 0, 0, 0, messagesOnly, 0, 0, 0)
		name, _ := windows.UTF16PtrFromString("PNG")
		c.png, _, _ = registerFormat.Call(uintptr(unsafe.Pointer(name)))
	})
	c.seen, _, _ = clipboardSequence.Call()
	return c
}

func (c *clips) close() {
	c.thread.do(func() { destroyWindow.Call(c.window) })
	c.thread.end()
}

// news is what came onto the clipboard, once.
func (c *clips) news() *link.ScreenClip {
	now, _, _ := clipboardSequence.Call()
	c.mu.Lock()
	fresh := now != c.seen
	c.seen = now
	c.mu.Unlock()
	if !fresh {
		return nil
	}
	var out *link.ScreenClip
	c.thread.do(func() {
		if c.open() == nil {
			out = c.read()
			closeClipboard.Call()
		}
	})
	return out
}

// open opens the clipboard, which another program may have open for a moment.
func (c *clips) open() error {
	for range 20 {
		if ok, _, _ := openClipboard.Call(c.window); ok != 0 {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return &link.Problem{Status: http.StatusConflict, Reason: "Another program has the clipboard open: try again."}
}

func (c *clips) read() *link.ScreenClip {
	if b := held(formatText, 2*link.MaxScreenText); len(b) >= 2 {
		text := windows.UTF16ToString(unsafe.Slice((*uint16)(unsafe.Pointer(&b[0])), len(b)/2))
		if text != "" && len(text) <= link.MaxScreenText {
			return &link.ScreenClip{Text: text}
		}
		return nil
	}
	if b := held(c.png, link.MaxScreenImage); len(b) > 0 {
		return &link.ScreenClip{PNG: b}
	}
	if m := fromDIB(held(formatDIB, 8*link.MaxScreenImage)); m != nil {
		var b bytes.Buffer
		if png.Encode(&b, m) == nil && b.Len() <= link.MaxScreenImage {
			return &link.ScreenClip{PNG: b.Bytes()}
		}
	}
	return nil
}

// held copies what the open clipboard has in a format, unless it is larger than most bytes.
func held(format, most uintptr) []byte {
	h, _, _ := getClipboardData.Call(format)
	if h == 0 {
		return nil
	}
	n, _, _ := globalSize.Call(h)
	p, _, _ := globalLock.Call(h)
	if p == 0 {
		return nil
	}
	defer globalUnlock.Call(h)
	if n == 0 || n > most {
		return nil
	}
	return bytes.Clone(unsafe.Slice((*byte)(*(*unsafe.Pointer)(unsafe.Pointer(&p))), n))
}

// give gives the open clipboard something; it owns it from then on.
func give(format uintptr, b []byte) error {
	const moveable = 2
	h, _, err := globalAlloc.Call(moveable, uintptr(len(b)))
	if h == 0 {
		return err
	}
	p, _, _ := globalLock.Call(h)
	copy(unsafe.Slice((*byte)(*(*unsafe.Pointer)(unsafe.Pointer(&p))), len(b)), b)
	globalUnlock.Call(h)
	if ok, _, err := setClipboardData.Call(format, h); ok == 0 {
		globalFree.Call(h)
		return err
	}
	return nil
}

func (c *clips) set(clip link.ScreenClip) (err error) {
	c.thread.do(func() {
		if err = c.open(); err != nil {
			return
		}
		defer closeClipboard.Call()
		emptyClipboard.Call()
		if clip.PNG != nil {
			err = give(c.png, clip.PNG)
			if m, wrong := png.Decode(bytes.NewReader(clip.PNG)); wrong == nil && err == nil {
				err = give(formatDIB, toDIB(m))
			}
		} else {
			var text []uint16
			if text, err = windows.UTF16FromString(clip.Text); err == nil {
				err = give(formatText, unsafe.Slice((*byte)(unsafe.Pointer(&text[0])), 2*len(text)))
			}
		}
		if err != nil {
			err = &link.Problem{Status: http.StatusUnprocessableEntity, Reason: fmt.Sprintf("The clipboard does not take it: %v.", err)}
		}
	})
	c.mu.Lock()
	defer c.mu.Unlock()
	c.seen, _, _ = clipboardSequence.Call()
	return err
}

// Clip implements helper.Talker.
func (Desk) Clip(_ context.Context, c link.Clip) (link.Outcome, error) {
	l := listen()
	defer l.close()
	if err := l.set(link.ScreenClip{Text: c.Text}); err != nil {
		return link.Outcome{}, err
	}
	return link.Outcome{Message: fmt.Sprintf("%d characters are on the clipboard.", len([]rune(c.Text)))}, nil
}
