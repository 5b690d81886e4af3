// Package serving answers what the service calls at a device over the link: commands, shells, the quiet tools, questions
// and screens. Each path is there only where the device offers its capability.
package serving

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/console"
	"moorwatch.example/agent/files"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/reporting"
	"moorwatch.example/agent/running"
	"moorwatch.example/agent/screen"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/uplink"
)

// LiveEvery is how often live readings are sent.
const LiveEvery = 2 * time.Second

// Config is what serving needs of the agent.
type Config struct {
	Dir     string
	Host    host.Host
	Log     *slog.Logger
	Runs    *running.Runs // nil where the host runs nothing
	Report  *reporting.Reporter
	Dialer  func() uplink.Dialer // of a link beside the first
	Program string               // the agent's own, which opens consoles with fewer rights; "" to open them in this process
}

// Server answers for one device. Shells and lanes outlive the connections by which they were opened.
type Server struct {
	config  Config
	life    context.Context
	orders  *orders
	files   *files.Files
	screens *screen.Server
	shells  shells
	lanes   lanes
}

// Open takes up what is kept in the agent's folder. Shells and lanes end with ctx.
func Open(ctx context.Context, config Config) (*Server, error) {
	orders, err := openOrders(config.Dir)
	if err != nil {
		return nil, fmt.Errorf("reading the orders carried out: %w", err)
	}
	v := &Server{config: config, life: ctx, orders: orders}
	if config.Host.Disk != nil {
		v.files = files.New(config.Host.Disk, config.Dir)
		v.files.Tidy(time.Now())
	}
	if config.Host.Screens != nil {
		v.screens = &screen.Server{Screens: config.Host.Screens, Log: config.Log, Dir: config.Dir}
		if config.Program != "" {
			v.screens.Consoles = console.Apart(config.Program)
		}
		v.screens.Begin()
	}
	return v, nil
}

// connection is what routes know of the connection that they are served over.
type connection struct {
	service calls.Service
	offered host.Host // what the device offers over it
	gate    *uplink.Gate
}

// routes are what is served for each capability. Those without any are part of what the device reports.
var routes = []struct {
	capability string
	add        func(*Server, *http.ServeMux, connection)
}{
	{device.CapabilityVitals, func(v *Server, mux *http.ServeMux, _ connection) { mux.HandleFunc("GET /vitals/live", v.serveLive) }},
	{device.CapabilityCommands, (*Server).commandRoutes},
	{device.CapabilityShell, (*Server).shellRoutes},
	{device.CapabilityInventory, (*Server).inventoryRoutes},
	{device.CapabilityProbes, nil},
	{device.CapabilityQuestions, func(v *Server, mux *http.ServeMux, _ connection) { mux.HandleFunc("POST /questions", v.serveQuestion) }},
	{device.CapabilityFiles, (*Server).fileRoutes},
	{device.CapabilityProcesses, (*Server).processRoutes},
	{device.CapabilityServices, (*Server).serviceRoutes},
	{device.CapabilityEvents, (*Server).eventRoutes},
	{device.CapabilityNetwork, (*Server).networkRoutes},
	{device.CapabilityPower, (*Server).powerRoutes},
	{device.CapabilityPeople, (*Server).peopleRoutes},
	{device.CapabilitySettings, (*Server).settingRoutes},
	{device.CapabilityQueries, (*Server).queryRoutes},
	{device.CapabilityScreen, (*Server).screenRoutes},
	{device.CapabilityPackages, nil}, // a part of runs
	{device.CapabilityUpdates, nil},
}

// Handler serves what the service calls over a connection, of what the device offers over it.
func (v *Server) Handler(service calls.Service, offered host.Host) http.Handler {
	mux, c := http.NewServeMux(), connection{service, offered, new(uplink.Gate)}
	mux.HandleFunc("GET /bytes", serveBytes)
	mux.HandleFunc("POST /lanes", reply(v.openLane))
	for _, r := range routes {
		if r.add != nil && offered.Offers(r.capability) {
			r.add(v, mux, c)
		}
	}
	return mux
}

// HTTP serves a handler over one link, until ctx ends.
func HTTP(ctx context.Context, handler http.Handler, log *slog.Logger) *http.Server {
	return &http.Server{Handler: handler, ReadHeaderTimeout: 30 * time.Second, IdleTimeout: 15 * time.Second, MaxHeaderBytes: 8 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
}

func (v *Server) commandRoutes(mux *http.ServeMux, _ connection) {
	mux.HandleFunc("POST /commands", v.serveCommand)
	mux.HandleFunc("POST /runs", v.config.Runs.Serve)
	mux.HandleFunc("POST /runs/cancel", reply(v.config.Runs.Cancel))
}

func (v *Server) shellRoutes(mux *http.ServeMux, _ connection) {
	mux.HandleFunc("GET /shell", v.serveShell)
	mux.HandleFunc("POST /shell/choices", reply(v.shellChoices))
}

func (v *Server) inventoryRoutes(mux *http.ServeMux, c connection) {
	mux.HandleFunc("POST /inventory", func(w http.ResponseWriter, r *http.Request) {
		if err := v.config.Report.TakeInventory(r.Context(), c.service); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
}

func (v *Server) screenRoutes(mux *http.ServeMux, _ connection) {
	mux.HandleFunc("POST /screen/desktops", reply(v.screens.Desktops))
	mux.HandleFunc("POST /screen/picture", v.screens.ServePicture)
}

// serveLive sends a reading at once and every LiveEvery until the service leaves.
func (v *Server) serveLive(w http.ResponseWriter, r *http.Request) {
	meter := v.config.Host.Meter.Another()
	tick := time.NewTicker(LiveEvery)
	defer tick.Stop()
	control, out := http.NewResponseController(w), json.NewEncoder(w)
	for {
		v, err := reporting.Read(r.Context(), meter)
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

func (v *Server) serveCommand(w http.ResponseWriter, r *http.Request) {
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
	if err := v.orders.begin(id.String()); err != nil {
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
	exit, err := v.config.Host.Runner.Run(ctx, c, stream{e, false}, stream{e, true})
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
