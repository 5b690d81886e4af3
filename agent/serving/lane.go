package serving

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
func (v *Server) openLane(ctx context.Context, in link.Lane) (link.Lane, error) {
	if in.Name != link.LaneScreen || v.screens == nil {
		return in, &link.Problem{Status: http.StatusNotFound, Reason: "This device has no lane of that name."}
	}
	v.lanes.mu.Lock()
	defer v.lanes.mu.Unlock()
	if l := v.lanes.open[in.Name]; l != nil {
		l.Close()
	}
	dialer := v.config.Dialer()
	dialer.Lane = in.Name
	l, err := dialer.Dial(ctx)
	if err != nil {
		return in, err
	}
	if v.lanes.open == nil {
		v.lanes.open = map[string]*uplink.Link{}
	}
	v.lanes.open[in.Name] = l
	mux := http.NewServeMux()
	mux.HandleFunc("GET /screen", v.screens.ServeDesktop)
	mux.HandleFunc("GET /console", v.screens.ServeConsole)
	go v.serveLane(l, mux)
	return in, nil
}

// serveLane serves a lane until it ends, or nothing is done over it.
func (v *Server) serveLane(l *uplink.Link, handler http.Handler) {
	var busy atomic.Int64
	idle := time.AfterFunc(link.LaneIdle, func() { l.Close() })
	ctx, cancel := context.WithCancel(v.life)
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
	HTTP(ctx, counted, v.config.Log).Serve(l.Listener()) // returns when the link ends
	l.Close()
}
