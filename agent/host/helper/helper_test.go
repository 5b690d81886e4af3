package helper

import (
	"context"
	"errors"
	"image"
	"net"
	"net/http"
	"reflect"
	"testing"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// fake is a desk that notes what is done to it.
type fake struct {
	did   chan string
	back  func()
	acts  host.SignActs
	calls int
}

func (f *fake) Desktops(context.Context) (link.DesktopList, error) {
	return link.DesktopList{Items: []link.Desktop{{ID: "1", Title: "Desktop"}}}, nil
}
func (f *fake) Open(_ context.Context, id string) (host.Screen, error) {
	if id != "1" {
		return nil, &link.Problem{Status: http.StatusNotFound, Reason: "There is none."}
	}
	return &fakeScreen{fake: f}, nil
}
func (f *fake) LetGo()      { f.did <- "let go" }
func (f *fake) Lock() error { return errors.New("locked already") }
func (f *fake) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	return link.MessageAnswer{Answer: m.Buttons[1], Shown: true}, nil
}
func (f *fake) Clip(_ context.Context, c link.Clip) (link.Outcome, error) {
	return link.Outcome{Message: c.Text}, nil
}
func (f *fake) Sign(_ context.Context, _ string, acts host.SignActs) (host.Sign, error) {
	f.acts = acts
	return fakeSign{f}, nil
}

type fakeSign struct{ *fake }

func (f fakeSign) Show(lines []string, held bool) { f.did <- lines[0] }
func (f fakeSign) Say(n link.ScreenNote)          { f.did <- n.Text }
func (f fakeSign) Mark(m host.Mark)               { f.did <- m.Kind }
func (f fakeSign) Close() error                   { f.did <- "sign closed"; return nil }

type fakeScreen struct{ *fake }

func (s *fakeScreen) Desktop() link.Desktop { return link.Desktop{ID: "1"} }
func (s *fakeScreen) Layout() (image.Point, []link.Monitor) {
	return image.Pt(4, 2), []link.Monitor{{Name: "A", Width: 4, Height: 2}}
}
func (s *fakeScreen) Wait(ctx context.Context) (host.ScreenChange, error) {
	if s.calls++; s.calls == 1 {
		return host.ScreenChange{Layout: true, Damage: []image.Rectangle{image.Rect(0, 0, 4, 2)}}, nil
	}
	<-ctx.Done()
	return host.ScreenChange{}, ctx.Err()
}
func (s *fakeScreen) Grab(into *screen.Picture, r image.Rectangle) error {
	for i := range into.Pix {
		into.Pix[i] = uint32(i + 1)
	}
	return nil
}
func (s *fakeScreen) Press(k link.ScreenKey) error { s.did <- "press " + k.Key; return nil }
func (s *fakeScreen) Point(at image.Point, buttons int) error {
	s.did <- "point " + at.String()
	return nil
}
func (s *fakeScreen) Turn(right, down int) error                { s.did <- "turn"; return nil }
func (s *fakeScreen) Type(_ context.Context, text string) error { s.did <- "type " + text; return nil }
func (s *fakeScreen) Attend() error {
	return &link.Problem{Status: http.StatusConflict, Reason: "not here"}
}
func (s *fakeScreen) Release()                          { s.did <- "release" }
func (s *fakeScreen) SetClip(c link.ScreenClip) error   { s.did <- "clip " + c.Text; return nil }
func (s *fakeScreen) Hold(held bool, back func()) error { s.back = back; s.did <- "hold"; return nil }
func (s *fakeScreen) Close() error                      { s.did <- "close"; return nil }

// What is done at one end of the pipe is done at the other, refusals keep their status, and what was
// open is closed when the pipe ends.
func TestBothEnds(t *testing.T) {
	near, far := net.Pipe()
	f := &fake{did: make(chan string, 32)}
	ended := make(chan error, 1)
	go func() { ended <- Serve(far, f) }()
	c := NewClient(near)
	did := func(want string) {
		t.Helper()
		select {
		case got := <-f.did:
			if got != want {
				t.Errorf("it did %q, not %q", got, want)
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("it did not %s", want)
		}
	}
	if _, err := c.Open(t.Context(), "2"); link.StatusOf(err, 0) != http.StatusNotFound || err.Error() != "There is none." {
		t.Errorf("one that is not there: %v", err)
	}
	s, err := c.Open(t.Context(), "1")
	if err != nil {
		t.Fatal(err)
	}
	change, err := s.Wait(t.Context())
	if err != nil || !change.Layout || !reflect.DeepEqual(change.Damage, []image.Rectangle{image.Rect(0, 0, 4, 2)}) {
		t.Errorf("%+v %v", change, err)
	}
	short, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := s.Wait(short); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a wait that is given up: %v", err)
	}
	p, _ := screen.NewPicture(4, 2)
	if err := s.Grab(p, image.Rect(1, 0, 3, 2)); err != nil || !reflect.DeepEqual(p.Pix, []uint32{0, 2, 3, 0, 0, 6, 7, 0}) {
		t.Errorf("grabbed %v %v", p.Pix, err)
	}
	s.Press(link.ScreenKey{Key: "a", Down: true})
	did("press a")
	s.Point(image.Pt(3, 1), 1)
	did("point (3,1)")
	s.Type(t.Context(), "Tea")
	did("type Tea")
	s.SetClip(link.ScreenClip{Text: "x"})
	did("clip x")
	s.Release()
	did("release")
	if err := s.Attend(); link.StatusOf(err, 0) != http.StatusConflict {
		t.Errorf("Ctrl+Alt+Del: %v", err)
	}
	back := make(chan bool, 1)
	s.Hold(true, func() { back <- true })
	did("hold")
	f.back()
	<-back
	if a, err := c.Show(t.Context(), link.Message{Buttons: []string{"Allow", "Refuse"}}); err != nil || a.Answer != "Refuse" {
		t.Errorf("%+v %v", a, err)
	}
	if err := c.Lock(); err == nil || err.Error() != "locked already" {
		t.Errorf("lock: %v", err)
	}
	over := make(chan string, 2)
	sign, err := c.Sign(t.Context(), "1", host.SignActs{Say: func(text string) { over <- text }, End: func() { over <- "end" }})
	if err != nil {
		t.Fatal(err)
	}
	sign.Show([]string{"Robin looks on"}, false)
	did("Robin looks on")
	f.acts.Say("thank you")
	if got := <-over; got != "thank you" {
		t.Errorf("the person says %q", got)
	}
	f.acts.End()
	if got := <-over; got != "end" {
		t.Errorf("the person does %q", got)
	}
	c.Close()
	<-ended
	did("close")
	did("sign closed")
	if err := s.Press(link.ScreenKey{}); err == nil {
		t.Error("a helper that has ended takes keys")
	}
}
