package agent

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/uplink"
)

// handler serves what the service calls, each path only where the host offers it.
func (a *Agent) handler(service caller, offered host.Host) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /bytes", serveBytes)
	if offered.Meter != nil {
		mux.HandleFunc("GET /vitals/live", a.serveLive)
	}
	if offered.Runner != nil {
		mux.HandleFunc("POST /commands", a.serveCommand)
		mux.HandleFunc("POST /runs", a.runs.serve)
		mux.HandleFunc("POST /runs/cancel", reply(a.runs.cancel))
	}
	if offered.Terminals != nil {
		mux.HandleFunc("GET /shell", a.serveShell)
		mux.HandleFunc("POST /shell/choices", reply(a.shellChoices))
	}
	if offered.Lister != nil {
		mux.HandleFunc("POST /inventory", func(w http.ResponseWriter, r *http.Request) {
			if err := a.takeInventory(r.Context(), service); err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
				return
			}
			w.WriteHeader(http.StatusNoContent)
		})
	}
	if offered.Asker != nil {
		mux.HandleFunc("POST /questions", a.serveQuestion)
	}
	if a.screens != nil && offered.Screens != nil {
		mux.HandleFunc("POST /screen/desktops", reply(a.screens.Desktops))
		mux.HandleFunc("POST /screen/picture", a.screens.ServePicture)
	}
	mux.HandleFunc("POST /lanes", reply(a.openLane))
	a.serveTools(mux, new(uplink.Gate), offered)
	return mux
}

// serveLive sends a reading at once and every LiveEvery until the service leaves.
func (a *Agent) serveLive(w http.ResponseWriter, r *http.Request) {
	meter := a.Host.Meter.Another()
	tick := time.NewTicker(LiveEvery)
	defer tick.Stop()
	control, out := http.NewResponseController(w), json.NewEncoder(w)
	for {
		v, err := a.read(r.Context(), meter)
		if err != nil || out.Encode(v) != nil || control.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-tick.C:
		}
	}
}

// noise is what serveBytes sends over and over.
var noise = func() []byte {
	b := make([]byte, 128<<10)
	rand.Read(b)
	return b
}()

func serveBytes(w http.ResponseWriter, r *http.Request) {
	n, err := strconv.ParseInt(r.URL.Query().Get("n"), 10, 64)
	if err != nil || n < 0 {
		http.Error(w, "n is a number of bytes", http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	for n > 0 {
		k, err := w.Write(noise[:min(n, int64(len(noise)))])
		if err != nil {
			return
		}
		n -= int64(k)
	}
}

// maxOrder is the most that an order may hold, in bytes.
const maxOrder = 4 << 20

func (a *Agent) serveCommand(w http.ResponseWriter, r *http.Request) {
	var c link.Command
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxOrder)).Decode(&c); err != nil || len(c.Argv) == 0 || c.Argv[0] == "" {
		http.Error(w, "an order names a program in argv", http.StatusBadRequest)
		return
	}
	id, err := uuid.Parse(c.Order)
	if err != nil {
		http.Error(w, "an order has a UUID", http.StatusBadRequest)
		return
	}
	if err := a.orders.begin(id.String()); err != nil {
		status := http.StatusInternalServerError
		if errors.Is(err, errOrderDone) {
			status = http.StatusConflict
		}
		http.Error(w, err.Error(), status)
		return
	}
	timeout, limit := c.Limits()
	ctx, cancel := context.WithTimeoutCause(r.Context(), timeout, fmt.Errorf("it was ended after its time limit of %s", timeout))
	defer cancel()
	began := time.Now()
	e := &events{out: json.NewEncoder(w), control: http.NewResponseController(w), left: limit, limit: limit}
	exit, err := a.Host.Runner.Run(ctx, c, stream{e, false}, stream{e, true})
	last := link.CommandEvent{ElapsedSeconds: time.Since(began).Seconds()}
	if err != nil {
		last.Error = err.Error()
	} else {
		last.Exit = &exit
	}
	e.send(last)
}

// events writes what happens to a command, from several goroutines.
type events struct {
	mu          sync.Mutex
	out         *json.Encoder
	control     *http.ResponseController
	left, limit int64 // bytes of output
}

func (e *events) send(event link.CommandEvent) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err := e.out.Encode(event); err != nil {
		return err
	}
	return e.control.Flush()
}

// stream takes one of a command's outputs.
type stream struct {
	*events
	stderr bool
}

// maxPiece is the most output in one event, in bytes.
const maxPiece = 32 << 10

func (s stream) Write(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		s.mu.Lock()
		k := min(int64(len(p)-n), maxPiece, s.left)
		s.left -= k
		s.mu.Unlock()
		if k == 0 {
			return n, fmt.Errorf("it was ended after its output limit of %d bytes", s.limit)
		}
		var e link.CommandEvent
		if s.stderr {
			e.Stderr = p[n : n+int(k)]
		} else {
			e.Stdout = p[n : n+int(k)]
		}
		if err := s.send(e); err != nil {
			return n, err
		}
		n += int(k)
	}
	return n, nil
}
