//go:build windows

// Package desk works on the desktop of the session that it runs in: its picture through GDI, keys and
// pointer through SendInput, the clipboard, and dialogs (learn.microsoft.com, Windows API). It is used
// by the agent's helper there.
package desk

import (
	"runtime"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

var (
	user32 = windows.NewLazySystemDLL("user32.dll")
	gdi32  = windows.NewLazySystemDLL("gdi32.dll")

	openInputDesktop          = user32.NewProc("OpenInputDesktop")
	setThreadDesktop          = user32.NewProc("SetThreadDesktop")
	closeDesktop              = user32.NewProc("CloseDesktop")
	getUserObjectInformation  = user32.NewProc("GetUserObjectInformationW")
	peekMessage               = user32.NewProc("PeekMessageW")
	translateMessage          = user32.NewProc("TranslateMessage")
	dispatchMessage           = user32.NewProc("DispatchMessageW")
	msgWaitForMultipleObjects = user32.NewProc("MsgWaitForMultipleObjectsEx")
)

// thread is a thread of the system with calls that are made on it one after another: desktops, hooks
// and windows belong to threads.
type thread struct {
	calls chan func()
	quit  chan struct{}
	wake  windows.Handle // an event: there is a call
}

// begin starts a thread. follows has it stay on the desktop that takes input, which is another while
// the screen is locked; such a thread must have no windows.
func begin(follows bool) *thread {
	t := &thread{calls: make(chan func(), 64), quit: make(chan struct{})}
	t.wake, _ = windows.CreateEvent(nil, 0, 0, nil)
	go t.run(follows)
	return t
}

func (t *thread) run(follows bool) {
	runtime.LockOSThread() // it ends with the goroutine, and with it what belongs to it
	var polled time.Time
	for {
		select {
		case <-t.quit:
			windows.CloseHandle(t.wake)
			return
		case f := <-t.calls:
			if follows && time.Since(polled) > pollAgain {
				follow()
				polled = time.Now()
			}
			f()
			continue
		default:
		}
		if !follows {
			pump()
		}
		handles := [1]windows.Handle{t.wake}
		const allInput, inputAvailable = 0x04ff, 0x0004
		if follows {
			windows.WaitForSingleObject(t.wake, windows.INFINITE)
		} else {
			msgWaitForMultipleObjects.Call(1, uintptr(unsafe.Pointer(&handles[0])), windows.INFINITE, allInput, inputAvailable)
		}
	}
}

// pollAgain is how often it is polled which desktop takes input.
const pollAgain = 200 * time.Millisecond

// do makes a call on the thread and waits for it.
func (t *thread) do(f func()) {
	done := make(chan struct{})
	select {
	case t.calls <- func() { defer close(done); f() }:
		windows.SetEvent(t.wake)
	case <-t.quit:
		return
	}
	select {
	case <-done:
	case <-t.quit:
	}
}

func (t *thread) end() {
	close(t.quit)
	windows.SetEvent(t.wake)
}

// msg is MSG.
type msg struct {
	window  uintptr
	message uint32
	w, l    uintptr
	time    uint32
	x, y    int32
	_       uint32
}

// pump has the thread's windows and hooks take what came for them.
func pump() {
	const remove = 1
	var m msg
	for {
		got, _, _ := peekMessage.Call(uintptr(unsafe.Pointer(&m)), 0, 0, 0, remove)
		if got == 0 {
			return
		}
		if dialogTakes(&m) {
			continue
		}
		translateMessage.Call(uintptr(unsafe.Pointer(&m)))
		dispatchMessage.Call(uintptr(unsafe.Pointer(&m)))
	}
}

// follow moves the thread to the desktop that takes input.
func follow() {
	const all = 0x10000000 // GENERIC_ALL
	h, _, _ := openInputDesktop.Call(0, 0, all)
	if h == 0 {
		return // of another account: the thread stays where it is
	}
	if ok, _, _ := setThreadDesktop.Call(h); ok == 0 {
		closeDesktop.Call(h)
	}
}

// inputDesktop is the name of the desktop that takes input: Default, Winlogon or Screen-saver; "" for
// one that this account may not open.
func inputDesktop() string {
	const read, name = 0x0001, 2 // DESKTOP_READOBJECTS, UOI_NAME
	h, _, _ := openInputDesktop.Call(0, 0, read)
	if h == 0 {
		return ""
	}
	defer closeDesktop.Call(h)
	text := make([]uint16, 64)
	var n uint32
	if ok, _, _ := getUserObjectInformation.Call(h, name, uintptr(unsafe.Pointer(&text[0])), uintptr(2*len(text)),
		uintptr(unsafe.Pointer(&n))); ok == 0 {
		return ""
	}
	return windows.UTF16ToString(text)
}
