// Package helper has the desktop of a person worked on by a helper in their session: where an agent
// runs as a service it has no desktop of its own. The helper serves a Desk over a pipe, and the agent
// uses it as a host.Screens of its own. Both are the same program, so that what they say to each
// other may change with every version.
package helper

import (
	"context"
	"image"
	"io"
	"net/http"
	"net/rpc"
	"sync"
	"time"
	"unsafe"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// Desk is what a helper does in its session, beside what else it may implement of Talker and Signer.
type Desk interface{ host.Screens }

// Talker reaches the session's own person.
type Talker interface {
	// Show and Clip are as of host.People.
	Show(ctx context.Context, m link.Message) (link.MessageAnswer, error)
	Clip(ctx context.Context, c link.Clip) (link.Outcome, error)
	Lock() error
}

// Signer shows signs, as host.Signs does.
type Signer interface {
	Sign(ctx context.Context, desktop string, acts host.SignActs) (host.Sign, error)
}

// of is what a desk may implement, or the error that it does not.
func of[T any](desk Desk) (T, error) {
	it, ok := desk.(T)
	if !ok {
		return it, &link.Problem{Status: http.StatusNotImplemented, Reason: "The helper in the person's session does not do that."}
	}
	return it, nil
}

// waitWithin is how long a helper waits for a change before it says that there was none, so that who
// asked can leave.
const waitWithin = time.Second

// Answer carries what a call returns: a Problem keeps its status across the pipe.
type Answer[T any] struct {
	Value  T
	Status int
	Reason string
}

func answer[T any](out *Answer[T], value T, err error) error {
	out.Value = value
	if err != nil {
		out.Status, out.Reason = link.StatusOf(err, 0), err.Error()
		if out.Reason == "" {
			out.Reason = "it failed"
		}
	}
	return nil
}

func (a *Answer[T]) error() error {
	switch {
	case a.Status != 0:
		return &link.Problem{Status: a.Status, Reason: a.Reason}
	case a.Reason != "":
		return errorText(a.Reason)
	}
	return nil
}

type errorText string

func (e errorText) Error() string { return string(e) }

// None is no value.
type None struct{}

// Opened is a screen that was opened.
type Opened struct {
	ID      int
	Desktop link.Desktop
}

// Sized is how a desktop is laid out.
type Sized struct {
	Size     image.Point
	Monitors []link.Monitor
}

// Changed is a change, or that none came in time.
type Changed struct {
	host.ScreenChange
	None bool
}

// Part is a part of a screen.
type Part struct {
	ID   int
	Rect image.Rectangle
}

// Input is something that is done to a screen. One part of it counts.
type Input struct {
	ID          int
	Key         *link.ScreenKey
	Point, Turn *image.Point
	Buttons     int
	Text        string
	Clip        *link.ScreenClip
	Hold        *bool
	Attend      bool
	Release     bool
}

// Served is the helper's end. Its exported methods are those of package net/rpc.
type Served struct {
	desk Desk

	mu    sync.Mutex
	next  int
	open  map[int]*opened
	signs map[int]*signed
	ended context.Context
}

type opened struct {
	host.Screen
	waiting sync.Mutex // Wait and Grab are called from one goroutine at a time
	view    *screen.Picture
	back    chan struct{}
}

// Serve serves a desk until the pipe ends; what was open is closed then.
func Serve(pipe io.ReadWriteCloser, desk Desk) error {
	ctx, cancel := context.WithCancel(context.Background())
	s := &Served{desk: desk, open: map[int]*opened{}, signs: map[int]*signed{}, ended: ctx}
	server := rpc.NewServer()
	if err := server.RegisterName("Desk", s); err != nil {
		cancel()
		return err
	}
	server.ServeConn(pipe)
	cancel()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.open {
		o.Screen.Close()
	}
	for _, o := range s.signs {
		o.Close()
	}
	return nil
}

func (s *Served) screen(id int) (*opened, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.open[id]; o != nil {
		return o, nil
	}
	return nil, errorText("the screen is closed")
}

// Desktops, and the methods below, are called by the Client.
func (s *Served) Desktops(_ None, out *Answer[link.DesktopList]) error {
	list, err := s.desk.Desktops(s.ended)
	return answer(out, list, err)
}

// Open opens a screen.
func (s *Served) Open(desktop string, out *Answer[Opened]) error {
	one, err := s.desk.Open(s.ended, desktop)
	if err != nil {
		return answer(out, Opened{}, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next++
	s.open[s.next] = &opened{Screen: one, back: make(chan struct{}, 1)}
	return answer(out, Opened{s.next, one.Desktop()}, nil)
}

// Layout tells how it is laid out.
func (s *Served) Layout(id int, out *Answer[Sized]) error {
	o, err := s.screen(id)
	if err != nil {
		return answer(out, Sized{}, err)
	}
	size, monitors := o.Layout()
	return answer(out, Sized{size, monitors}, nil)
}

// Wait waits for a change.
func (s *Served) Wait(id int, out *Answer[Changed]) error {
	o, err := s.screen(id)
	if err != nil {
		return answer(out, Changed{}, err)
	}
	o.waiting.Lock()
	defer o.waiting.Unlock()
	ctx, cancel := context.WithTimeout(s.ended, waitWithin)
	defer cancel()
	c, err := o.Wait(ctx)
	if err != nil && ctx.Err() != nil && s.ended.Err() == nil {
		return answer(out, Changed{None: true}, nil)
	}
	return answer(out, Changed{ScreenChange: c}, err)
}

// Grab copies a part of the screen: its pixels, row after row, four bytes each.
func (s *Served) Grab(p Part, out *Answer[[]byte]) error {
	o, err := s.screen(p.ID)
	if err != nil {
		return answer(out, nil, err)
	}
	o.waiting.Lock()
	defer o.waiting.Unlock()
	size, _ := o.Layout()
	if o.view == nil || o.view.W != size.X || o.view.H != size.Y {
		if o.view, err = screen.NewPicture(size.X, size.Y); err != nil {
			return answer(out, nil, err)
		}
	}
	r := p.Rect.Intersect(o.view.Bounds())
	if err := o.Screen.Grab(o.view, r); err != nil {
		return answer(out, nil, err)
	}
	pixels := make([]uint32, 0, r.Dx()*r.Dy())
	for y := r.Min.Y; y < r.Max.Y; y++ {
		pixels = append(pixels, o.view.Pix[y*o.view.W+r.Min.X:y*o.view.W+r.Max.X]...)
	}
	return answer(out, bytesOf(pixels), nil)
}

// bytesOf are the bytes of pixels, which both ends of the pipe have in the same order.
func bytesOf(pixels []uint32) []byte {
	if len(pixels) == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Pointer(&pixels[0])), 4*len(pixels))
}

// Input does something to the screen.
func (s *Served) Input(in Input, out *Answer[None]) error {
	o, err := s.screen(in.ID)
	if err != nil {
		return answer(out, None{}, err)
	}
	switch {
	case in.Key != nil:
		err = o.Press(*in.Key)
	case in.Point != nil:
		err = o.Point(*in.Point, in.Buttons)
	case in.Turn != nil:
		err = o.Turn(in.Turn.X, in.Turn.Y)
	case in.Clip != nil:
		err = o.SetClip(*in.Clip)
	case in.Hold != nil:
		err = o.Hold(*in.Hold, func() {
			select {
			case o.back <- struct{}{}:
			default:
			}
		})
	case in.Attend:
		err = o.Attend()
	case in.Release:
		o.Release()
	default:
		err = o.Type(s.ended, in.Text)
	}
	return answer(out, None{}, err)
}

// Back tells whether the person took their keyboard and mouse back, within a while.
func (s *Served) Back(id int, out *Answer[bool]) error {
	o, err := s.screen(id)
	if err != nil {
		return answer(out, false, err)
	}
	select {
	case <-o.back:
		return answer(out, true, nil)
	case <-time.After(waitWithin):
	case <-s.ended.Done():
	}
	return answer(out, false, nil)
}

// Close closes a screen.
func (s *Served) Close(id int, out *Answer[None]) error {
	s.mu.Lock()
	o := s.open[id]
	delete(s.open, id)
	s.mu.Unlock()
	if o == nil {
		return answer(out, None{}, nil)
	}
	return answer(out, None{}, o.Screen.Close())
}

// LetGo lets go of every key.
func (s *Served) LetGo(_ None, out *Answer[None]) error {
	s.desk.LetGo()
	return answer(out, None{}, nil)
}

// Show shows a message.
func (s *Served) Show(m link.Message, out *Answer[link.MessageAnswer]) error {
	t, err := of[Talker](s.desk)
	if err != nil {
		return answer(out, link.MessageAnswer{}, err)
	}
	a, err := t.Show(s.ended, m)
	return answer(out, a, err)
}

// Clip puts something on the clipboard.
func (s *Served) Clip(c link.Clip, out *Answer[link.Outcome]) error {
	t, err := of[Talker](s.desk)
	if err != nil {
		return answer(out, link.Outcome{}, err)
	}
	o, err := t.Clip(s.ended, c)
	return answer(out, o, err)
}

// Lock locks the session.
func (s *Served) Lock(_ None, out *Answer[None]) error {
	t, err := of[Talker](s.desk)
	if err == nil {
		err = t.Lock()
	}
	return answer(out, None{}, err)
}

// signed is a sign that is open, with what the person did to it and nobody heard of yet.
type signed struct {
	host.Sign
	acts chan Act
}

// Act is something that a person does with a sign.
type Act struct {
	None bool
	Say  string
	End  bool
}

// Showing is something for a sign to show. One part of it counts.
type Showing struct {
	ID    int
	Lines []string
	Held  bool
	Note  *link.ScreenNote
	Mark  *host.Mark
	Close bool
}

// Sign opens a sign.
func (s *Served) Sign(desktop string, out *Answer[int]) error {
	acts := make(chan Act, 16)
	tell := func(a Act) {
		select {
		case acts <- a:
		default:
		}
	}
	signer, err := of[Signer](s.desk)
	if err != nil {
		return answer(out, 0, err)
	}
	one, err := signer.Sign(s.ended, desktop, host.SignActs{Say: func(text string) { tell(Act{Say: text}) },
		End: func() { tell(Act{End: true}) }})
	if err != nil {
		return answer(out, 0, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next++
	s.signs[s.next] = &signed{one, acts}
	return answer(out, s.next, nil)
}

func (s *Served) sign(id int) *signed {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.signs[id]
}

// Acts tells what the person did, within a while.
func (s *Served) Acts(id int, out *Answer[Act]) error {
	o := s.sign(id)
	if o == nil {
		return answer(out, Act{}, errorText("the sign is closed"))
	}
	select {
	case a := <-o.acts:
		return answer(out, a, nil)
	case <-time.After(waitWithin):
	case <-s.ended.Done():
	}
	return answer(out, Act{None: true}, nil)
}

// Showing has a sign show something.
func (s *Served) Showing(in Showing, out *Answer[None]) error {
	o := s.sign(in.ID)
	if o == nil {
		return answer(out, None{}, nil)
	}
	switch {
	case in.Note != nil:
		o.Say(*in.Note)
	case in.Mark != nil:
		o.Mark(*in.Mark)
	case in.Close:
		s.mu.Lock()
		delete(s.signs, in.ID)
		s.mu.Unlock()
		o.Close()
	default:
		o.Show(in.Lines, in.Held)
	}
	return answer(out, None{}, nil)
}
