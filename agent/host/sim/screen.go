package sim

import (
	"context"
	"image"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/screen"
)

// simScreens implements host.Screens: each simulated device has one desktop, which is drawn while
// somebody looks.
type simScreens struct{ *simulated }

func (s simScreens) desktop() link.Desktop {
	d := link.Desktop{ID: "1", Title: "Desktop", Active: true}
	if people := s.At(s.now()).People; len(people) > 0 {
		d.Name, d.Locked = people[0].Name, people[0].IdleSeconds > 900
		d.Title = "Desktop of " + d.Name
		if natures[s.Kind].os == device.Windows {
			d.Files = `C:\Users\` + strings.ReplaceAll(strings.ToLower(d.Name), " ", ".") + `\Downloads`
		}
	}
	return d
}

// Desktops implements host.Screens.
func (s simScreens) Desktops(context.Context) (link.DesktopList, error) {
	return link.DesktopList{Items: []link.Desktop{s.desktop()}}, nil
}

// LetGo implements host.Screens: nothing stays pressed on a desktop that is drawn.
func (s simScreens) LetGo() {}

// Open implements host.Screens.
func (s simScreens) Open(_ context.Context, id string) (host.Screen, error) {
	if id != "" && id != "1" {
		return nil, refuse(http.StatusNotFound, "The desktop %s has ended.", id)
	}
	t := s.changed()
	t.mu.Lock()
	if t.desk == nil {
		t.desk = newDesk(s.Device)
	}
	out := &simScreen{desk: t.desk, desktop: s.desktop(), now: s.now, news: make(chan struct{}, 1)}
	t.mu.Unlock()
	out.desk.mu.Lock()
	defer out.desk.mu.Unlock()
	out.desk.open[out] = true
	return out, nil
}

// simScreen is a simulated desktop as one viewer has it.
type simScreen struct {
	*desk
	desktop link.Desktop
	now     func() time.Time
	news    chan struct{}
	seen    int         // of the desk's draws
	put     image.Point // where this viewer left the pointer
	clipped string
}

// looksEvery is how often it is looked whether something went on by itself.
const looksEvery = 500 * time.Millisecond

func (s *simScreen) nudge() {
	select {
	case s.news <- struct{}{}:
	default:
	}
}

// Desktop, Layout, Wait and Grab implement host.Screen.
func (s *simScreen) Desktop() link.Desktop { return s.desktop }
func (s *simScreen) Layout() (image.Point, []link.Monitor) {
	return s.size, []link.Monitor{{Name: "Built in", Width: s.size.X, Height: s.size.Y, Primary: true}}
}

func (s *simScreen) Wait(ctx context.Context) (c host.ScreenChange, err error) {
	tick := time.NewTicker(looksEvery)
	defer tick.Stop()
	for {
		s.picture(s.now())
		s.mu.Lock()
		if s.seen != s.draws {
			c.Layout = s.seen == 0
			s.seen = s.draws
			c.Damage = []image.Rectangle{{Max: s.size}}
		}
		if s.pointer != s.put {
			s.put = s.pointer
			c.Pointer = &s.put
		}
		if s.clip != s.clipped {
			s.clipped = s.clip
			c.Clip = &link.ScreenClip{Text: s.clip}
		}
		s.mu.Unlock()
		if c.Damage != nil || c.Pointer != nil || c.Clip != nil {
			return c, nil
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-s.news:
		case <-tick.C:
		}
	}
}

func (s *simScreen) Grab(into *screen.Picture, r image.Rectangle) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.drawn == nil {
		return nil
	}
	r = r.Intersect(into.Bounds()).Intersect(s.drawn.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		from, to := s.drawn.Pix[y*s.drawn.Stride+4*r.Min.X:], into.Pix[y*into.W+r.Min.X:][:r.Dx()]
		for i := range to {
			to[i] = uint32(from[4*i])<<16 | uint32(from[4*i+1])<<8 | uint32(from[4*i+2])
		}
	}
	return nil
}

// do changes the desk.
func (s *simScreen) do(change func()) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	change()
	s.changed()
	return nil
}

// mostTyped is how much of what was typed is kept.
const mostTyped = 4000

// Press and the rest implement host.Screen.
func (s *simScreen) Press(k link.ScreenKey) error {
	if !k.Down {
		return nil
	}
	return s.do(func() {
		switch {
		case k.Key == "Enter":
			s.typed = append(s.typed, '\n')
		case k.Key == "Backspace" && len(s.typed) > 0:
			s.typed = s.typed[:len(s.typed)-1]
		case utf8.RuneCountInString(k.Key) == 1:
			s.typed = append(s.typed, []rune(k.Key)...)
		}
		s.typed = s.typed[max(0, len(s.typed)-mostTyped):]
	})
}

func (s *simScreen) Type(_ context.Context, text string) error {
	return s.do(func() {
		s.typed = append(s.typed, []rune(text)...)
		s.typed = s.typed[max(0, len(s.typed)-mostTyped):]
	})
}

func (s *simScreen) Point(at image.Point, buttons int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	at.X, at.Y = min(max(at.X, 0), s.size.X-1), min(max(at.Y, 0), s.size.Y-1)
	was := s.buttons
	s.pointer, s.put, s.buttons = at, at, buttons
	for other := range s.open {
		other.nudge()
	}
	switch {
	case buttons&1 == 1 && was&1 == 0:
		for i := len(s.windows) - 1; i >= 0; i-- {
			w := s.windows[i]
			if !at.In(w.at) {
				continue
			}
			s.windows = append(slices.Delete(s.windows, i, i+1), w)
			if w.title != "" && at.Y < w.at.Min.Y+26 {
				s.drag, s.grip = w, at.Sub(w.at.Min)
			}
			s.changed()
			break
		}
	case buttons&1 == 0:
		s.drag = nil
	case s.drag != nil:
		s.drag.at = s.drag.at.Add(at.Sub(s.grip).Sub(s.drag.at.Min))
		s.changed()
	}
	return nil
}

func (s *simScreen) Turn(_, down int) error {
	return s.do(func() {
		for _, w := range s.windows {
			if w.kind == loans && s.pointer.In(w.at) {
				w.lines = max(0, w.lines+3*down)
			}
		}
	})
}

func (s *simScreen) Attend() error { return nil }
func (s *simScreen) Release() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.buttons, s.drag = 0, nil
}
func (s *simScreen) SetClip(c link.ScreenClip) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clip, s.clipped = c.Text, c.Text
	return nil
}

func (s *simScreen) Hold(bool, func()) error { return nil }

func (s *simScreen) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, s)
	if len(s.open) == 0 {
		s.drawn = nil // its memory, while nobody looks
	}
	return nil
}
