// Package screen shows a device's desktops to viewers far away and lets them work on it: it has
// changes encoded (core/screen) as fast as each viewer takes them, and keeps the people at one desktop
// out of each other's way. It captures nothing itself (agent/host does), and leaves nothing running
// when the last viewer has gone.
package screen

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"moorwatch.example/agent/console"
	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// mostViewers is how many may look at the desktops of one device at once.
const mostViewers = 16

// Server serves screens. Its zero value with a host is ready.
type Server struct {
	Screens host.Screens
	Log     *slog.Logger

	mu     sync.Mutex
	stages map[string]*stage // by the desktop's id
	count  int
}

// ServeDesktop joins a viewer to a desktop over a WebSocket: GET /screen. The service tells, as query
// parameters, the desktop, who looks, what they may do, and how they begin.
func (s *Server) ServeDesktop(w http.ResponseWriter, r *http.Request) {
	s.serve(w, r, func(ctx context.Context, again bool) (host.Screen, error) {
		if again {
			return s.Screens.Open(ctx, "")
		}
		return s.Screens.Open(ctx, r.URL.Query().Get("desktop"))
	})
}

// ServeConsole joins a viewer to a console that is reached from here: GET /console.
func (s *Server) ServeConsole(w http.ResponseWriter, r *http.Request) {
	var o link.ConsoleOrder
	if json.Unmarshal([]byte(r.Header.Get(link.ConsoleHeader)), &o) != nil || o.Address == "" {
		http.Error(w, "a console is wanted", http.StatusBadRequest)
		return
	}
	s.serve(w, r, func(ctx context.Context, _ bool) (host.Screen, error) { return console.Open(ctx, o) })
}

// opener opens what is to be shown, at first, or again after it ended.
type opener func(ctx context.Context, again bool) (host.Screen, error)

func (s *Server) serve(w http.ResponseWriter, r *http.Request, open opener) {
	q := r.URL.Query()
	s.mu.Lock()
	full := s.count >= mostViewers
	if !full {
		s.count++
	}
	s.mu.Unlock()
	if full {
		http.Error(w, "16 viewers look at this device already", http.StatusConflict)
		return
	}
	defer func() { s.mu.Lock(); s.count--; s.mu.Unlock() }()
	first, err := open(r.Context(), false)
	if err != nil {
		http.Error(w, err.Error(), link.StatusOf(err, http.StatusInternalServerError))
		return
	}
	c, err := websocket.Accept(w, r, nil)
	if err != nil {
		first.Close()
		return
	}
	defer c.CloseNow()
	c.SetReadLimit(link.MaxScreenInput)
	v := &viewer{
		server: s, conn: c, open: open, screen: first, id: uuid.NewString(), name: device.CleanText(q.Get("name")), mode: link.ScreenView,
		control: q.Get("control") == "true", clipboard: q.Get("clipboard") == "true", wake: make(chan struct{}, 1),
	}
	if mode := q.Get("mode"); v.control && (mode == "" || mode == link.ScreenShare || mode == link.ScreenTake) {
		v.mode = link.ScreenShare
		if mode == link.ScreenTake {
			v.wants = link.ScreenTake
		}
	}
	err = v.run(r.Context())
	s.Log.Debug("a viewer left the screen", "error", err)
	c.Close(websocket.StatusNormalClosure, "")
}

// Desktops lists what can be looked at: POST /screen/desktops.
func (s *Server) Desktops(ctx context.Context, _ struct{}) (link.DesktopList, error) {
	return s.Screens.Desktops(ctx)
}

// stage finds the stage of a desktop, or makes it.
func (s *Server) stage(desktop string) *stage {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stages == nil {
		s.stages = map[string]*stage{}
	}
	if s.stages[desktop] == nil {
		s.stages[desktop] = &stage{viewers: map[string]*viewer{}}
	}
	return s.stages[desktop]
}

// stage is one desktop with those who look at it.
type stage struct {
	mu      sync.Mutex
	viewers map[string]*viewer
	order   []string
	hand    string // whose is on the mouse
	moved   time.Time
	rest    *time.Timer
}

// Times of hands.
const (
	// handHolds is how long nobody else's hand moves what one has just moved.
	handHolds = 700 * time.Millisecond
	// handRests is after how long without a move it is nobody's.
	handRests = 2 * time.Second
)

// person is whose hand it is that no viewer's is.
const person = "person"

func (t *stage) join(v *viewer) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.viewers[v.id] = v
	t.order = append(t.order, v.id)
	t.tell()
}

func (t *stage) leave(v *viewer) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.viewers, v.id)
	if t.hand == v.id {
		t.hand = ""
	}
	t.tell()
}

// changed tells all viewers how things stand.
func (t *stage) changed() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.tell()
}

func (t *stage) tell() {
	out := link.ScreenStage{Viewers: []link.ScreenViewer{}, Hand: t.hand}
	order := t.order[:0]
	for _, id := range t.order {
		if v := t.viewers[id]; v != nil {
			order = append(order, id)
			out.Viewers = append(out.Viewers, link.ScreenViewer{ID: id, Name: v.name, Mode: v.modeNow()})
		}
	}
	t.order = order
	for _, v := range t.viewers {
		v.tell(link.ScreenEvent{Stage: &out})
	}
}

// touch has somebody move something, unless another hand is on the mouse.
func (t *stage) touch(who string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	if t.hand != who && t.hand != "" && now.Sub(t.moved) < handHolds {
		return false
	}
	t.moved = now
	if t.hand != who {
		t.hand = who
		t.tell()
	}
	if t.rest == nil {
		t.rest = time.AfterFunc(handRests, t.settle)
	} else {
		t.rest.Reset(handRests)
	}
	return true
}

// settle lets the mouse be nobody's when it has rested.
func (t *stage) settle() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if left := handRests - time.Since(t.moved); left > 0 {
		t.rest.Reset(left)
		return
	}
	t.hand = ""
	t.tell()
}

// seen is told where the pointer stands though this viewer did not put it there: another viewer has,
// or the person.
func (t *stage) seen() {
	t.mu.Lock()
	by := t.hand != "" && t.hand != person && time.Since(t.moved) < handHolds
	t.mu.Unlock()
	if !by {
		t.touch(person)
	}
}

// say passes what somebody says to all viewers.
func (t *stage) say(n link.ScreenNote) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, v := range t.viewers {
		v.tell(link.ScreenEvent{Note: &n})
	}
}
