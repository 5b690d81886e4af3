//go:build linux

package wayland

import (
	"context"
	"errors"
	"fmt"
	"image"
	"net/http"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/polling"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

func problem(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// Screen implements host.Screen. The compositor tells of damage: an output is copied when something on it is
// new, with the pointer in the picture, which Wayland tells of in no other way.
type Screen struct {
	desktop link.Desktop
	clip    func(context.Context, string) error
	wire    *wire
	news    chan struct{} // something came; has room for one

	shm, manager uint32
	version      uint32 // of the manager
	input        input

	mu      sync.Mutex
	outputs []*output
	area    image.Rectangle // of all outputs
	pixels  []uint32
	shown   []uint32
	layout  bool // it is to be told
	first   bool
	came    bool // a picture, since it was compared last
	gone    error
}

var _ host.Screen = (*Screen)(nil)

// output is one monitor.
type output struct {
	id    uint32
	name  string
	place image.Rectangle // in the compositor's coordinates
	mode  image.Point
	scale int

	frame  uint32 // under way; 0 for none
	size   image.Point
	stride int
	format uint32
	turned bool // its rows come from the foot up
	memory []byte
	pool   uint32
	buffer uint32
	copied bool // once at least: from then on damage is waited for
	retry  time.Time
}

// Open opens the desktop of a compositor's socket. clip puts a text on the clipboard of its person; nil where
// nothing can.
func Open(desktop link.Desktop, socket string, clip func(context.Context, string) error) (*Screen, error) {
	w, err := dial(socket)
	if err != nil {
		return nil, problem(http.StatusConflict, "The desktop does not let itself be looked at: %v.", err)
	}
	s := &Screen{desktop: desktop, clip: clip, wire: w, news: make(chan struct{}, 1), layout: true, first: true}
	if err := s.begin(); err != nil {
		w.c.Close()
		return nil, err
	}
	go func() {
		err := w.listen()
		s.mu.Lock()
		s.gone = fmt.Errorf("the compositor has ended: %w", err)
		s.mu.Unlock()
		s.wake()
	}()
	return s, nil
}

func (s *Screen) wake() {
	select {
	case s.news <- struct{}{}:
	default:
	}
}

func (s *Screen) begin() error {
	registry, all, outputs, err := s.wire.globals()
	if err != nil {
		return problem(http.StatusConflict, "The compositor does not answer: %v.", err)
	}
	if all[screencopy].version == 0 || all["wl_shm"].version == 0 {
		return problem(http.StatusNotImplemented, "This compositor lets nobody copy its outputs.")
	}
	s.version = min(all[screencopy].version, 3)
	var wrong error
	bind := func(name string, most uint32) uint32 {
		id, err := s.wire.bind(registry, all[name], name, most, nil)
		wrong = errors.Join(wrong, err)
		return id
	}
	s.shm, s.manager = bind("wl_shm", 1), bind(screencopy, 3)
	var placed uint32
	if all[places].version > 0 {
		placed = bind(places, 3)
	}
	for _, g := range outputs {
		o := &output{scale: 1}
		o.id, err = s.wire.bind(registry, g, "wl_output", 4, o.told)
		wrong = errors.Join(wrong, err)
		if placed != 0 {
			wrong = errors.Join(wrong, s.wire.send(placed, 1, s.wire.object(o.placed), o.id))
		}
		s.outputs = append(s.outputs, o)
	}
	s.input = input{wire: s.wire, down: map[string]uint32{}}
	if all["wl_seat"].version > 0 && all[pointers].version > 0 && all[keyboards].version > 0 {
		seat := bind("wl_seat", 1)
		wrong = errors.Join(wrong, s.input.begin(bind(pointers, 1), bind(keyboards, 1), seat))
	}
	if wrong = errors.Join(wrong, s.wire.round()); wrong != nil {
		return problem(http.StatusConflict, "The desktop cannot be looked at: %v.", wrong)
	}
	return s.lay()
}

// told takes what a wl_output says.
func (o *output) told(opcode int, in *words) {
	switch opcode {
	case 0: // geometry
		o.place = o.place.Add(image.Pt(in.int(), in.int()).Sub(o.place.Min))
	case 1: // mode
		if in.uint()&1 != 0 { // current
			o.mode = image.Pt(in.int(), in.int())
		}
	case 3:
		o.scale = max(in.int(), 1)
	case 4:
		o.name = in.string()
	}
}

// placed takes what a zxdg_output says.
func (o *output) placed(opcode int, in *words) {
	switch opcode {
	case 0:
		o.place = o.place.Add(image.Pt(in.int(), in.int()).Sub(o.place.Min))
	case 1:
		o.place.Max = o.place.Min.Add(image.Pt(in.int(), in.int()))
	}
}

// lay finds how the desktop is laid out.
func (s *Screen) lay() error {
	for _, o := range s.outputs {
		if o.place.Empty() { // nobody told its logical size
			o.place.Max = o.place.Min.Add(o.mode.Div(o.scale))
		}
		s.area = s.area.Union(o.place)
	}
	w, h := s.area.Dx(), s.area.Dy()
	if _, err := screen.NewPicture(w, h); err != nil {
		return problem(http.StatusConflict, "The desktop cannot be looked at: %v.", err)
	}
	s.pixels, s.shown = make([]uint32, w*h), make([]uint32, w*h)
	return nil
}

// Desktop implements host.Screen.
func (s *Screen) Desktop() link.Desktop { return s.desktop }

// Layout implements host.Screen.
func (s *Screen) Layout() (image.Point, []link.Monitor) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []link.Monitor
	for i, o := range s.outputs {
		at := o.place.Sub(s.area.Min)
		name := o.name
		if name == "" {
			name = fmt.Sprintf("Output %d", i+1)
		}
		list = append(list, link.Monitor{Name: name, X: at.Min.X, Y: at.Min.Y, Width: at.Dx(), Height: at.Dy(), Primary: i == 0})
	}
	return s.area.Size(), list
}

// retryFrame is after how long an output is asked again that could not be copied, as while it is switched off.
const retryFrame = 500 * time.Millisecond

// Wait implements host.Screen.
func (s *Screen) Wait(ctx context.Context) (host.ScreenChange, error) {
	for {
		s.mu.Lock()
		c, err := s.poll()
		s.mu.Unlock()
		if err != nil || c.Damage != nil || c.Layout {
			return c, err
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-s.news:
		case <-time.After(retryFrame):
		}
	}
}

// poll asks for what is not under way, and tells what came. s.mu is held.
func (s *Screen) poll() (c host.ScreenChange, err error) {
	if s.gone != nil {
		return c, s.gone
	}
	ready := true
	for _, o := range s.outputs {
		ready = ready && o.copied
		if o.frame == 0 && time.Now().After(o.retry) {
			if err := s.ask(o); err != nil {
				return c, err
			}
		}
	}
	if !s.came || (s.first && !ready) {
		return c, nil
	}
	s.came = false
	c.Damage = polling.Differences(s.shown, s.pixels, s.area.Dx(), s.area.Dy(), s.first)
	c.Layout, s.layout, s.first = s.layout, false, false
	return c, nil
}

// ask asks for a picture of an output. s.mu is held.
func (s *Screen) ask(o *output) error {
	frame := s.wire.object(func(opcode int, in *words) { s.frame(o, opcode, in) })
	o.frame = frame
	const withPointer = int32(1)
	return s.wire.send(s.manager, 0, frame, withPointer, o.id)
}

// frame takes what a picture under way says.
func (s *Screen) frame(o *output, opcode int, in *words) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	switch opcode {
	case 0: // buffer: what memory it needs
		format, size := in.uint(), image.Pt(in.int(), in.int())
		stride := in.int()
		if format != o.format || size != o.size || stride != o.stride {
			if err = s.memory(o, format, size, stride); err != nil {
				break
			}
		}
		if s.version < 3 {
			err = s.copy(o)
		}
	case 6: // buffer_done
		err = s.copy(o)
	case 1: // flags
		o.turned = in.uint()&1 != 0
	case 2: // ready
		s.take(o)
		o.copied, s.came = true, true
		err = s.wire.send(o.frame, 1) // destroy
		o.frame = 0
		s.wake()
	case 3: // failed
		err = s.wire.send(o.frame, 1)
		o.frame, o.retry = 0, time.Now().Add(retryFrame)
	}
	if err != nil {
		s.gone = err
		s.wake()
	}
}

// copy has the output copied: at once at first, and then when something on it is new.
func (s *Screen) copy(o *output) error {
	if o.copied && s.version >= 2 {
		return s.wire.send(o.frame, 2, o.buffer)
	}
	return s.wire.send(o.frame, 0, o.buffer)
}

// formats are those of wl_shm that are read, and whether red and blue are in each other's place.
var formats = map[uint32]bool{0: false, 1: false, 0x34324241: true, 0x34324258: true} // ARGB, XRGB, ABGR, XBGR, each of 8 bits

// memory makes memory that the compositor copies to.
func (s *Screen) memory(o *output, format uint32, size image.Point, stride int) error {
	if _, known := formats[format]; !known || size.X <= 0 || size.Y <= 0 || stride < 4*size.X || int64(stride)*int64(size.Y) > 1<<30 {
		return fmt.Errorf("the compositor has pictures of format %#x, %v, %d bytes a row, which are not read", format, size, stride)
	}
	s.forget(o)
	fd, err := unix.MemfdCreate("moorwatch-screen", unix.MFD_CLOEXEC)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	n := stride * size.Y
	if err := unix.Ftruncate(fd, int64(n)); err != nil {
		return err
	}
	if o.memory, err = unix.Mmap(fd, 0, n, unix.PROT_READ, unix.MAP_SHARED); err != nil {
		return err
	}
	o.pool, o.buffer = s.wire.object(nil), s.wire.object(nil)
	o.format, o.size, o.stride = format, size, stride
	return errors.Join(s.wire.send(s.shm, 0, o.pool, fd, int32(n)),
		s.wire.send(o.pool, 0, o.buffer, int32(0), int32(size.X), int32(size.Y), int32(stride), format))
}

func (s *Screen) forget(o *output) {
	if o.memory != nil {
		s.wire.send(o.buffer, 0)
		s.wire.send(o.pool, 1)
		unix.Munmap(o.memory)
		o.memory = nil
	}
}

// take puts the picture of an output to its place, made as large as its place is.
func (s *Screen) take(o *output) {
	at, swapped := o.place.Sub(s.area.Min), formats[o.format]
	w, h := at.Dx(), at.Dy()
	for y := range h {
		from := y * o.size.Y / h
		if o.turned {
			from = o.size.Y - 1 - from
		}
		row := o.memory[from*o.stride:]
		out := s.pixels[(at.Min.Y+y)*s.area.Dx()+at.Min.X:][:w]
		for x := range out {
			p := row[4*(x*o.size.X/w):]
			if swapped {
				out[x] = uint32(p[2]) | uint32(p[1])<<8 | uint32(p[0])<<16
			} else {
				out[x] = uint32(p[0]) | uint32(p[1])<<8 | uint32(p[2])<<16
			}
		}
	}
}

// Grab implements host.Screen: what was seen at the last Wait is copied.
func (s *Screen) Grab(into *screen.Picture, r image.Rectangle) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	polling.Grab(into, r, s.shown, s.area.Size())
	return nil
}

// SetClip implements host.Screen.
func (s *Screen) SetClip(c link.ScreenClip) error {
	if s.clip == nil || c.Text == "" {
		return problem(http.StatusNotImplemented, "The agent puts texts alone on the clipboard of this desktop, and needs the program "+
			"wl-copy for it.")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	return s.clip(ctx, c.Text)
}

// Attend implements host.Screen.
func (s *Screen) Attend() error {
	return problem(http.StatusNotImplemented, "Ctrl+Alt+Del has no meaning of its own here.")
}

// Hold implements host.Screen.
func (s *Screen) Hold(held bool, _ func()) error {
	if !held {
		return nil
	}
	return problem(http.StatusNotImplemented, "Under Wayland the agent cannot keep the person's keyboard and mouse back: work together "+
		"with them.")
}

// Close implements host.Screen.
func (s *Screen) Close() error {
	s.Release()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.outputs {
		if o.memory != nil {
			unix.Munmap(o.memory)
			o.memory = nil
		}
	}
	return s.wire.c.Close()
}
