package agent

import (
	"context"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/uplink"
)

// lanes are the links beside the first one, by name. Each serves one capability, and is closed when
// it was not used for a while.
type lanes struct {
	mu   sync.Mutex
	open map[string]*uplink.Link
}

// openLane opens a lane: POST /lanes. One that is there already is one that the service has lost.
func (a *Agent) openLane(ctx context.Context, in link.Lane) (link.Lane, error) {
	if in.Name != link.LaneScreen || a.screens == nil {
		return in, &link.Problem{Status: http.StatusNotFound, Reason: "This device has no lane of that name."}
	}
	a.lanes.mu.Lock()
	defer a.lanes.mu.Unlock()
	if l := a.lanes.open[in.Name]; l != nil {
		l.Close()
	}
	dialer := a.identity.Dialer()
	dialer.Lane = in.Name
	l, err := dialer.Dial(ctx)
	if err != nil {
		return in, err
	}
	if a.lanes.open == nil {
		a.lanes.open = map[string]*uplink.Link{}
	}
	a.lanes.open[in.Name] = l
	mux := http.NewServeMux()
	mux.HandleFunc("GET /screen", a.screens.ServeDesktop)
	mux.HandleFunc("GET /console", a.screens.ServeConsole)
	go a.serveLane(l, mux)
	return in, nil
}

// serveLane serves a lane until it ends, or nothing is done over it.
func (a *Agent) serveLane(l *uplink.Link, handler http.Handler) {
	var busy atomic.Int64
	idle := time.AfterFunc(link.LaneIdle, func() { l.Close() })
	ctx, cancel := context.WithCancel(a.life)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	counted := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		busy.Add(1)
		idle.Stop()
		defer func() {
			if busy.Add(-1) == 0 {
				idle.Reset(link.LaneIdle)
			}
		}()
		handler.ServeHTTP(w, r)
	})
	a.server(ctx, counted).Serve(l.Listener()) // returns when the link ends
	l.Close()
}
