//go:build windows

package desk

import (
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

var (
	setWindowsHookEx    = user32.NewProc("SetWindowsHookExW")
	unhookWindowsHookEx = user32.NewProc("UnhookWindowsHookEx")
	callNextHookEx      = user32.NewProc("CallNextHookEx")
)

// holder keeps the person's own keyboard and mouse from the desktop by hooks that drop what is not
// ours, and sees the gesture by which they take them back: Escape, three times within two seconds.
type holder struct {
	mu     sync.Mutex
	thread *thread
	hooks  [2]uintptr
}

// taken is what the hooks need; the system calls them with nothing of ours.
var taken struct {
	mu      sync.Mutex
	back    func()
	presses []time.Time
}

const (
	hookKeys, hookMouse = 13, 14 // WH_KEYBOARD_LL, WH_MOUSE_LL
	gestureTimes        = 3
	gestureSpan         = 2 * time.Second
)

// keyEvent is KBDLLHOOKSTRUCT, and mouseEvent MSLLHOOKSTRUCT.
type keyEvent struct {
	key, scan, flags, time uint32
	extra                  uintptr
}

type mouseEvent struct {
	x, y              int32
	data, flags, time uint32
	extra             uintptr
}

var onKey = windows.NewCallback(func(code, message, at uintptr) uintptr {
	e := (*keyEvent)(*(*unsafe.Pointer)(unsafe.Pointer(&at)))
	const action, down, systemDown, escapeKey = 0, 0x0100, 0x0104, 0x1b
	if int32(code) != action || e.extra == mark {
		next, _, _ := callNextHookEx.Call(0, code, message, at)
		return next
	}
	if e.key == escapeKey && (message == down || message == systemDown) {
		gesture(time.Now())
	}
	return 1
})

var onMouse = windows.NewCallback(func(code, message, at uintptr) uintptr {
	e := (*mouseEvent)(*(*unsafe.Pointer)(unsafe.Pointer(&at)))
	if int32(code) != 0 || e.extra == mark {
		next, _, _ := callNextHookEx.Call(0, code, message, at)
		return next
	}
	return 1
})

func gesture(now time.Time) {
	taken.mu.Lock()
	defer taken.mu.Unlock()
	taken.presses = append(taken.presses, now)
	if n := len(taken.presses); n >= gestureTimes && now.Sub(taken.presses[n-gestureTimes]) <= gestureSpan && taken.back != nil {
		go taken.back()
		taken.back, taken.presses = nil, nil
	}
}

func (h *holder) set(held bool, back func()) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.thread != nil {
		h.thread.do(func() {
			for _, hook := range h.hooks {
				unhookWindowsHookEx.Call(hook)
			}
		})
		h.thread.end()
		h.thread = nil
	}
	if !held {
		return nil
	}
	taken.mu.Lock()
	taken.back, taken.presses = back, nil
	taken.mu.Unlock()
	h.thread = begin(false)
	var err error
	h.thread.do(func() {
		var module windows.Handle
		windows.GetModuleHandleEx(0, nil, &module)
		for i, hook := range []struct{ kind, call uintptr }{{hookKeys, onKey}, {hookMouse, onMouse}} {
			var wrong error
			if h.hooks[i], _, wrong = setWindowsHookEx.Call(hook.kind, hook.call, uintptr(module), 0); h.hooks[i] == 0 {
				err = wrong
			}
		}
	})
	return err
}
