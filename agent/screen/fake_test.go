package screen

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
	"moorwatch.example/test/scratch"
	"moorwatch.example/test/wait"
)

// desk is a desktop that tests draw on, and on which they see what was done.
type desk struct {
	mu      sync.Mutex
	picture *screen.Picture
	gone    bool
	did     []string
	back    func() // of who holds it
	opened  []*opened
	sign    *sign
}

// opened is the desk as one viewer has it open.
type opened struct {
	*desk
	changes chan host.ScreenChange
	closed  chan struct{}
	once    sync.Once
}

func newDesk(t *testing.T, w, h int) *desk {
	t.Helper()
	p, err := screen.NewPicture(w, h)
	if err != nil {
		t.Fatal(err)
	}
	return &desk{picture: p}
}

func (d *desk) Desktops(context.Context) (link.DesktopList, error) {
	return link.DesktopList{Items: []link.Desktop{{ID: "one", Name: "wren"}}}, nil
}

func (d *desk) Open(_ context.Context, desktop string) (host.Screen, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.gone || desktop == "nosuch" {
		return nil, &link.Problem{Status: http.StatusNotFound, Reason: "There is no such desktop."}
	}
	o := &opened{desk: d, changes: make(chan host.ScreenChange, 100), closed: make(chan struct{})}
	o.changes <- host.ScreenChange{Damage: []image.Rectangle{d.picture.Bounds()}}
	d.opened = append(d.opened, o)
	return o, nil
}

func (d *desk) LetGo() { d.note("let go of all") }

func (d *desk) note(format string, args ...any) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.did = append(d.did, fmt.Sprintf(format, args...))
}

// done tells whether something was done, as often as that.
func (d *desk) done(what string, times int) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := 0
	for _, did := range d.did {
		if did == what {
			n++
		}
	}
	return n == times
}

// paint fills a part and tells all who look.
func (d *desk) paint(r image.Rectangle, colour uint32) {
	d.mu.Lock()
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			d.picture.Pix[y*d.picture.W+x] = colour
		}
	}
	d.mu.Unlock()
	d.change(host.ScreenChange{Damage: []image.Rectangle{r}})
}

func (d *desk) change(c host.ScreenChange) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, o := range d.opened {
		select {
		case o.changes <- c:
		case <-o.closed:
		}
	}
}

// end ends the desktop; another may come when it is opened again.
func (d *desk) end(forGood bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.gone = forGood
	for _, o := range d.opened {
		o.once.Do(func() { close(o.closed) })
	}
	d.opened = nil
}

func (o *opened) Close() error {
	o.once.Do(func() { close(o.closed) })
	o.note("closed")
	return nil
}

func (o *opened) Desktop() link.Desktop {
	return link.Desktop{ID: "one", Name: "wren", Title: "wren's"}
}

func (o *opened) Layout() (image.Point, []link.Monitor) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return image.Pt(o.picture.W, o.picture.H), []link.Monitor{{Name: "left", Width: o.picture.W, Height: o.picture.H, Primary: true}}
}

func (o *opened) Wait(ctx context.Context) (host.ScreenChange, error) {
	select {
	case <-ctx.Done():
		return host.ScreenChange{}, ctx.Err()
	case <-o.closed:
		return host.ScreenChange{}, errors.New("it is gone")
	case c := <-o.changes:
		return c, nil
	}
}

func (o *opened) Grab(into *screen.Picture, r image.Rectangle) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	into.Copy(o.picture, r.Intersect(o.picture.Bounds()).Intersect(into.Bounds())) // it may have another size already
	return nil
}

func (o *opened) Press(k link.ScreenKey) error { o.note("key %s %t", k.Key, k.Down); return nil }
func (o *opened) Point(at image.Point, buttons int) error {
	o.note("point %d,%d %d", at.X, at.Y, buttons)
	return nil
}
func (o *opened) Turn(right, down int) error                { o.note("wheel %d,%d", right, down); return nil }
func (o *opened) Type(_ context.Context, text string) error { o.note("type %s", text); return nil }
func (o *opened) Attend() error {
	o.note("attend")
	return errors.New("the system does not let it be pressed")
}
func (o *opened) Release()                        { o.note("release") }
func (o *opened) SetClip(c link.ScreenClip) error { o.note("clip %s", c.Text); return nil }
func (o *opened) Hold(held bool, back func()) error {
	o.mu.Lock()
	o.back = back
	o.mu.Unlock()
	o.note("hold %t", held)
	return nil
}

// sign is the sign on the desk.
type sign struct {
	*desk
	acts host.SignActs
}

// signed is a desk with signs.
type signed struct{ *desk }

func (s signed) Marks() bool { return true }
func (s signed) Sign(_ context.Context, _ string, acts host.SignActs) (host.Sign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sign = &sign{s.desk, acts}
	return s.sign, nil
}

func (s *sign) Close() error                   { s.note("no sign"); return nil }
func (s *sign) Show(lines []string, held bool) { s.note("sign %s %t", strings.Join(lines, "|"), held) }
func (s *sign) Say(n link.ScreenNote)          { s.note("said %s: %s", n.Name, n.Text) }
func (s *sign) Mark(m host.Mark)               { s.note("mark %s %s %v %s", m.Name, m.Kind, m.Points, m.Text) }

// serve serves a desk's screens.
func serve(t *testing.T, screens host.Screens) (*Server, string) {
	t.Helper()
	s := &Server{Screens: screens, Log: slog.New(slog.DiscardHandler), Dir: scratch.Dir(t)}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /screen", s.ServeDesktop)
	mux.HandleFunc("POST /screen/picture", s.ServePicture)
	web := httptest.NewServer(mux)
	t.Cleanup(web.Close)
	return s, web.URL
}

// looker is one who looks at a desktop, with what they see.
type looker struct {
	t    *testing.T
	conn *websocket.Conn

	mu     sync.Mutex
	shown  screen.Decoder
	pixels []uint32 // as they were drawn last
	events []link.ScreenEvent
	over   chan struct{}
}

func look(t *testing.T, url, query string) *looker {
	t.Helper()
	conn, _, err := websocket.Dial(t.Context(), "ws"+strings.TrimPrefix(url, "http")+"/screen?"+query, nil)
	if err != nil {
		t.Fatal(err)
	}
	conn.SetReadLimit(link.MaxScreenEvent)
	l := &looker{t: t, conn: conn, over: make(chan struct{})}
	t.Cleanup(func() { conn.CloseNow(); <-l.over })
	go l.read()
	return l
}

func (l *looker) read() {
	defer close(l.over)
	for {
		kind, data, err := l.conn.Read(context.Background())
		if err != nil {
			return
		}
		l.mu.Lock()
		if kind == websocket.MessageText {
			var e link.ScreenEvent
			if err := json.Unmarshal(data, &e); err != nil {
				l.t.Error(err)
			}
			l.events = append(l.events, e)
			l.mu.Unlock()
			continue
		}
		if err := l.shown.Update(data); err != nil {
			l.t.Error(err)
		}
		l.pixels = slices.Clone(l.shown.Shown().Pix)
		number := l.shown.Number()
		l.mu.Unlock()
		l.send(link.ScreenInput{Drawn: number})
	}
}

func (l *looker) send(in link.ScreenInput) {
	text, err := json.Marshal(in)
	if err != nil {
		l.t.Error(err)
	}
	l.conn.Write(context.Background(), websocket.MessageText, text)
}

// until waits for an event.
func (l *looker) until(what string, is func(link.ScreenEvent) bool) {
	l.t.Helper()
	wait.Until(l.t, time.Minute, what, func() bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		return slices.ContainsFunc(l.events, is)
	})
}

func (l *looker) told(text string) {
	l.t.Helper()
	l.until(text, func(e link.ScreenEvent) bool { return strings.Contains(e.Problem, text) })
}

// sees waits until the desk is shown as it is.
func (l *looker) sees(d *desk, what string) {
	l.t.Helper()
	wait.Until(l.t, time.Minute, what, func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		l.mu.Lock()
		defer l.mu.Unlock()
		return slices.Equal(l.pixels, d.picture.Pix)
	})
}

func (d *desk) await(t *testing.T, what string, times int) {
	t.Helper()
	wait.Until(t, time.Minute, what, func() bool { return d.done(what, times) })
}
