//go:build linux

package x11

import (
	"encoding/binary"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"moorwatch.example/contract/link"
)

// holder keeps a computer's own keyboards and mice from its desktop, by taking their events alone
// (EVIOCGRAB of linux/input.h), and watches them for the gesture by which the person takes them back:
// Escape, three times within two seconds.
type holder struct {
	mu    sync.Mutex
	files []*os.File
}

const (
	grab         = 0x40044590 // EVIOCGRAB
	keyEscape    = 1
	eventKey     = 1
	gestureTimes = 3
	gestureSpan  = 2 * time.Second
	eventBytes   = 24 // struct input_event on 64-bit systems
)

// ownDevices are the keyboards and mice that udev tells of by these names.
var ownDevices = []string{"/dev/input/by-path/*-event-kbd", "/dev/input/by-path/*-event-mouse", "/dev/input/by-id/*-event-kbd",
	"/dev/input/by-id/*-event-mouse"}

// Hold implements host.Screen.
func (s *Screen) Hold(held bool, back func()) error {
	if !held {
		s.hold.release()
		return nil
	}
	return s.hold.take(back)
}

func (h *holder) take(back func()) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.files) > 0 {
		return nil
	}
	seen := map[string]bool{}
	var failed error
	var once sync.Once
	for _, pattern := range ownDevices {
		paths, _ := filepath.Glob(pattern)
		for _, path := range paths {
			real, err := filepath.EvalSymlinks(path)
			if err != nil || seen[real] || !strings.HasPrefix(real, "/dev/input/") {
				continue
			}
			seen[real] = true
			f, err := os.OpenFile(real, os.O_RDONLY|unix.O_NONBLOCK, 0)
			if err == nil {
				err = control(f, 1)
			}
			if err != nil {
				failed = err
				continue
			}
			h.files = append(h.files, f)
			go watch(f, time.Now, func() { once.Do(func() { h.release(); back() }) })
		}
	}
	if len(h.files) > 0 {
		return nil
	}
	reason := "This computer has no keyboard or mouse of its own that could be held."
	if failed != nil {
		reason = "The keyboard and mouse of this computer cannot be held: " + failed.Error() + "."
		if errors.Is(failed, os.ErrPermission) {
			reason += " The agent must run as root for it."
		}
	}
	return &link.Problem{Status: http.StatusNotImplemented, Reason: reason}
}

func control(f *os.File, on int) error {
	raw, err := f.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = raw.Control(func(fd uintptr) { failed = unix.IoctlSetInt(int(fd), grab, on) })
	return errors.Join(err, failed)
}

// watch reads the events of a device until it is closed, and tells of the gesture.
func watch(events io.Reader, now func() time.Time, gesture func()) {
	var presses []time.Time
	b := make([]byte, eventBytes)
	for {
		if _, err := io.ReadFull(events, b); err != nil {
			return
		}
		kind, code, value := binary.NativeEndian.Uint16(b[16:]), binary.NativeEndian.Uint16(b[18:]),
			int32(binary.NativeEndian.Uint32(b[20:]))
		if kind != eventKey || value != 1 {
			continue
		}
		if code != keyEscape {
			presses = nil
			continue
		}
		presses = append(presses, now())
		if n := len(presses); n >= gestureTimes && presses[n-1].Sub(presses[n-gestureTimes]) <= gestureSpan {
			gesture()
			return
		}
	}
}

func (h *holder) release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, f := range h.files {
		control(f, 0)
		f.Close()
	}
	h.files = nil
}
