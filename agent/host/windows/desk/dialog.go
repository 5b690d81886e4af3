//go:build windows

package desk

import (
	"context"
	"fmt"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/contract/link"
)

var (
	registerClassEx     = user32.NewProc("RegisterClassExW")
	defWindowProc       = user32.NewProc("DefWindowProcW")
	showWindow          = user32.NewProc("ShowWindow")
	setForegroundWindow = user32.NewProc("SetForegroundWindow")
	isDialogMessage     = user32.NewProc("IsDialogMessageW")
	sendMessage         = user32.NewProc("SendMessageW")
	drawText            = user32.NewProc("DrawTextW")
	loadCursor          = user32.NewProc("LoadCursorW")
	createFont          = gdi32.NewProc("CreateFontW")
)

// Measures of a dialog, in pixels at 96 to the inch.
const (
	dialogWidth  = 460
	dialogMargin = 18
	buttonWidth  = 110
	buttonHeight = 30
	textSize     = 16
)

// dialogs are those that are open on this session's desktop, by window: a window's procedure is called
// by the system with nothing of ours.
var dialogs struct {
	sync.Mutex
	open map[uintptr]chan int
}

// Messages, styles and numbers of the Windows API that a dialog needs.
const (
	wmDestroy  = 0x0002
	wmClose    = 0x0010
	wmSetFont  = 0x0030
	wmCommand  = 0x0111
	firstID    = 100
	wsVisible  = 0x10000000
	wsChild    = 0x40000000
	wsTabStop  = 0x00010000
	wsCaption  = 0x00c00000
	wsSystem   = 0x00080000
	exTopmost  = 0x00000008
	exDialog   = 0x00000001
	closedByID = -1
)

var onDialog = windows.NewCallback(func(window, message, w, l uintptr) uintptr {
	choice, decided := 0, false
	switch {
	case message == wmCommand && w&0xffff >= firstID:
		choice, decided = int(w&0xffff)-firstID, true
	case message == wmClose || (message == wmCommand && w&0xffff == 2): // Escape
		choice, decided = closedByID, true
	}
	if decided {
		dialogs.Lock()
		if answer := dialogs.open[window]; answer != nil {
			select {
			case answer <- choice:
			default:
			}
		}
		dialogs.Unlock()
		return 0
	}
	result, _, _ := defWindowProc.Call(window, message, w, l)
	return result
})

// dialogTakes has the dialogs take what moves about in them: Tab, Enter and Escape.
func dialogTakes(m *msg) bool {
	dialogs.Lock()
	var windows []uintptr
	for w := range dialogs.open {
		windows = append(windows, w)
	}
	dialogs.Unlock()
	for _, w := range windows {
		if took, _, _ := isDialogMessage.Call(w, uintptr(unsafe.Pointer(m))); took != 0 {
			return true
		}
	}
	return false
}

// windowClass is WNDCLASSEXW.
type windowClass struct {
	size, style                        uint32
	procedure                          uintptr
	extraClass, extraWindow            int32
	instance, icon, cursor, background uintptr
	menu, name                         *uint16
	small                              uintptr
}

var className, _ = windows.UTF16PtrFromString("MoorwatchDialog")

var classOnce = sync.OnceFunc(func() {
	const arrow, buttonFace = 32512, 15
	cursor, _, _ := loadCursor.Call(0, arrow)
	c := windowClass{procedure: onDialog, cursor: cursor, background: buttonFace + 1, name: className}
	c.size = uint32(unsafe.Sizeof(c))
	registerClassEx.Call(uintptr(unsafe.Pointer(&c)))
})

// Show implements helper.Talker.
func (Desk) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	within, buttons := m.Limits()
	t := begin(false)
	defer t.end()
	answer := make(chan int, 1)
	var window, before uintptr
	var err error
	t.do(func() {
		before, _, _ = getForegroundWindow.Call()
		window, err = openDialog(m, buttons, answer)
	})
	if err != nil {
		return link.MessageAnswer{Reason: "the dialog could not be shown: " + err.Error()}, nil
	}
	defer t.do(func() {
		dialogs.Lock()
		delete(dialogs.open, window)
		dialogs.Unlock()
		if now, _, _ := getForegroundWindow.Call(); now == window { // the keyboard goes back to where it was
			setForegroundWindow.Call(before)
		}
		destroyWindow.Call(window)
	})
	began := time.Now()
	out := link.MessageAnswer{Shown: true}
	select {
	case choice := <-answer:
		if choice >= 0 && choice < len(buttons) {
			out.Answer = buttons[choice]
		} else {
			out.Reason = "the dialog was closed"
		}
	case <-time.After(within):
		out.Reason = fmt.Sprintf("no answer within %s", within)
	case <-ctx.Done():
		return out, context.Cause(ctx)
	}
	out.After = time.Since(began).Seconds()
	return out, nil
}

func openDialog(m link.Message, buttons []string, answer chan int) (uintptr, error) {
	classOnce()
	font := makeFont()
	text, err := windows.UTF16FromString(m.Text)
	if err != nil {
		return 0, err
	}
	// The text decides how high the dialog is.
	dc, _, _ := getDC.Call(0)
	old, _, _ := selectObject.Call(dc, font)
	const wordBreak, calculate, noPrefix = 0x0010, 0x0400, 0x0800
	r := rect{right: dialogWidth - 2*dialogMargin}
	drawText.Call(dc, uintptr(unsafe.Pointer(&text[0])), ^uintptr(0), uintptr(unsafe.Pointer(&r)), wordBreak|calculate|noPrefix)
	textHeight := min(max(int(r.bottom), textSize+4), 600)
	width, height := dialogWidth+16, textHeight+buttonHeight+3*dialogMargin+40
	screen := area()
	if all := monitors(screen); len(all) > 0 {
		for _, one := range all {
			if one.Primary {
				screen = boundsOf(one, screen)
			}
		}
	}
	title, _ := windows.UTF16PtrFromString(m.Title)
	at := screen.Min.Add(screen.Size().Div(2))
	window, _, err := createWindowEx.Call(exTopmost|exDialog, uintptr(unsafe.Pointer(className)), uintptr(unsafe.Pointer(title)),
		wsCaption|wsSystem,
		uintptr(at.X-width/2), uintptr(at.Y-height/2), uintptr(width), uintptr(height), 0, 0, 0, 0)
	if window == 0 {
		return 0, err
	}
	child := func(class, text string, style uintptr, x, y, w, h, id int) {
		c, _ := windows.UTF16PtrFromString(class)
		t, _ := windows.UTF16PtrFromString(text)
		made, _, _ := createWindowEx.Call(0, uintptr(unsafe.Pointer(c)), uintptr(unsafe.Pointer(t)), wsChild|wsVisible|style, uintptr(x),
			uintptr(y), uintptr(w), uintptr(h), window, uintptr(id), 0, 0)
		sendMessage.Call(made, wmSetFont, font, 1)
	}
	const staticNoPrefix, defaultButton = 0x0080, 0x0001
	child("STATIC", m.Text, staticNoPrefix, dialogMargin, dialogMargin, dialogWidth-2*dialogMargin, textHeight, 1)
	widths, left := make([]int, len(buttons)), dialogWidth-dialogMargin
	for i, label := range buttons {
		r := rect{}
		label, _ := windows.UTF16FromString(label)
		drawText.Call(dc, uintptr(unsafe.Pointer(&label[0])), ^uintptr(0), uintptr(unsafe.Pointer(&r)), calculate)
		widths[i] = max(int(r.right)+2*dialogMargin, buttonWidth)
		left -= widths[i] + 8
	}
	left += 8
	selectObject.Call(dc, old)
	releaseDC.Call(0, dc)
	for i, label := range buttons {
		style := uintptr(wsTabStop)
		if i == 0 {
			style |= defaultButton
		}
		child("BUTTON", label, style, left, textHeight+2*dialogMargin, widths[i], buttonHeight, firstID+i)
		left += widths[i] + 8
	}
	dialogs.Lock()
	if dialogs.open == nil {
		dialogs.open = map[uintptr]chan int{}
	}
	dialogs.open[window] = answer
	dialogs.Unlock()
	const shown = 5
	showWindow.Call(window, shown)
	setForegroundWindow.Call(window)
	return window, nil
}

// makeFont is the font of all dialogs, made once.
var makeFont = sync.OnceValue(func() uintptr {
	face, _ := windows.UTF16PtrFromString("Segoe UI")
	const normal, unicodeSet = 400, 1
	height := -textSize // of the letters
	font, _, _ := createFont.Call(uintptr(height), 0, 0, 0, normal, 0, 0, 0, unicodeSet, 0, 0, 5, 0, uintptr(unsafe.Pointer(face)))
	return font
})
