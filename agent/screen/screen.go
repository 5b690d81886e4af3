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
	"os"
	"path/filepath"
	"sync"

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
	// Dir is where it is noted that keys are down, for an agent that follows one that was killed.
	Dir string
	// Consoles opens consoles; in this process where it is nil.
	Consoles func(ctx context.Context, o link.ConsoleOrder) (host.Screen, error)

	mu     sync.Mutex
	stages map[string]*stage // by the desktop's id
	count  int
	held   int // viewers that may hold keys down
}

// heldMark is the file that is there while keys may be down.
const heldMark = "keys-down"

// Begin lets go of what an agent that was killed left pressed.
func (s *Server) Begin() {
	if _, err := os.Stat(filepath.Join(s.Dir, heldMark)); err != nil {
		return
	}
	s.Screens.LetGo()
	os.Remove(filepath.Join(s.Dir, heldMark))
}

// holding notes that one more viewer, or one less, may hold keys down.
func (s *Server) holding(more int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	path := filepath.Join(s.Dir, heldMark)
	if s.held += more; s.held == 0 {
		os.Remove(path)
	} else if more > 0 && s.held == 1 {
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			s.Log.Warn("it cannot be noted that keys are down", "error", err)
		}
	}
}

// ServeDesktop joins a viewer to a desktop over a WebSocket: GET /screen. The service tells, as query
// parameters, the desktop, who looks, what they may do, and how they begin.
func (s *Server) ServeDesktop(w http.ResponseWriter, r *http.Request) {
	s.serve(w, r, false, func(ctx context.Context, again bool) (host.Screen, error) {
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
	s.serve(w, r, true, func(ctx context.Context, _ bool) (host.Screen, error) {
		if s.Consoles != nil {
			return s.Consoles(ctx, o)
		}
		return console.Open(ctx, o)
	})
}

// opener opens what is to be shown, at first, or again after it ended.
type opener func(ctx context.Context, again bool) (host.Screen, error)

func (s *Server) serve(w http.ResponseWriter, r *http.Request, console bool, open opener) {
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
		server: s, conn: c, open: open, console: console, screen: first, id: uuid.NewString(), name: device.CleanText(q.Get("name")),
		mode:    link.ScreenView,
		control: q.Get("control") == "true", clipboard: q.Get("clipboard") == "true", signed: q.Get("sign") == "true",
		wake: make(chan struct{}, 1),
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
