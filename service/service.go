// Package service joins the columns into the running service. It is the one place that knows them
// all; the main program, the demo and the tests start it from here.
package service

import (
	"context"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"moorwatch.example/core/series"
	"moorwatch.example/service/access"
	"moorwatch.example/service/agents"
	"moorwatch.example/service/authority"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/doors"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/health"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/inventory"
	"moorwatch.example/service/job"
	"moorwatch.example/service/part"
	"moorwatch.example/service/patch"
	"moorwatch.example/service/post"
	"moorwatch.example/service/privacy"
	"moorwatch.example/service/session"
	"moorwatch.example/service/vitals"
	"moorwatch.example/uplink"
)

// Config is what the service needs to start.
type Config struct {
	Database string // address of PostgreSQL, with the service's own role
	// the same with the role that the schema belongs to, which is brought up to date first; "" where
	// moorwatch migrate has done so
	Owner       string
	Connections int32  // to the database, at most; 16 when 0
	Listen      string // host:port; port 0 chooses a free one
	// URL is where people and devices reach the service; made from Listen when empty.
	URL string
	// Certificate and Authority are nil for plain HTTP, which is for loopback alone. Authority is
	// set when the service is its own.
	TLS *tls.Config
	// Proxies are trusted to say whom a request comes from, and whether over TLS.
	Proxies     []netip.Prefix
	Fingerprint string // of the service's own authority; "" when the certificate is of a public one
	Console     fs.FS
	// Seal signs recordings and the audit log; a new one for this run when nil, by which nobody can verify them
	// later.
	Seal ed25519.PrivateKey
	// Keys are those that secrets are sealed under; one derived from Seal when nil.
	Keys authority.Keys
	// Post is how mail leaves the service.
	Post post.Post
	// Anchors are where the head of the audit log is written, as access.CheckAnchor reads them.
	Anchors []string
	// Advisories is a folder that mirrors feeds of advisories; none where it is empty.
	Advisories string
	// Releases is the folder of the agent's releases; none where it is empty.
	Releases string
	// Contents is the folder that keeps the files of packages; one of this run alone when empty.
	Contents string
	// Keep is how long readings are kept in each tier; series.UsualKeep when zero.
	Keep series.Keep
}

// Service is a running service.
type Service struct {
	URL       string
	SetUpLink string // of the first owner, when this start made one
	Access    *access.Service
	Fleet     *fleet.Service
	Vitals    *vitals.Service
	Health    *health.Service
	Inventory *inventory.Service
	Session   *session.Service
	Job       *job.Service
	Patch     *patch.Service
	Agents    *agents.Service
	Privacy   *privacy.Service
	Bus       bus.Bus
	parts     []part.Part
	hub       *hub.Hub
	pool      *pgxpool.Pool
	periodic  *river.Client[pgx.Tx]
	server    *http.Server
	served    chan error
	stop      context.CancelFunc // ends the columns' background work
	running   sync.WaitGroup
	contents  string // a folder that goes when the service stops; "" for none
}

// columns joins what serves the contract: each column serves its part.
type columns struct {
	*access.Service
	fleetColumn
	vitalsColumn
	healthColumn
	inventoryColumn
	sessionColumn
	jobColumn
	patchColumn
	agentsColumn
	privacyColumn
}

// Aliases, since a struct embeds one field of a name.
type (
	fleetColumn     struct{ *fleet.Service }
	vitalsColumn    struct{ *vitals.Service }
	healthColumn    struct{ *health.Service }
	inventoryColumn struct{ *inventory.Service }
	sessionColumn   struct{ *session.Service }
	jobColumn       struct{ *job.Service }
	patchColumn     struct{ *patch.Service }
	privacyColumn   struct{ *privacy.Service }
	agentsColumn    struct{ *agents.Service }
)

// Start opens the database and serves until Stop. ctx bounds the start alone.
func Start(ctx context.Context, config Config) (*Service, error) {
	listener, err := net.Listen("tcp", config.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening: %w", err)
	}
	s, err := start(ctx, config, listener)
	if err != nil {
		listener.Close()
	}
	return s, err
}

func start(ctx context.Context, config Config, listener net.Listener) (_ *Service, err error) {
	address := listener.Addr().(*net.TCPAddr)
	if config.TLS == nil && !address.IP.IsLoopback() {
		return nil, fmt.Errorf("plain HTTP is for loopback alone, and %s is not: give a certificate, or have the service make its own",
			config.Listen)
	}
	s := &Service{URL: config.URL, served: make(chan error, 1)}
	if s.URL == "" {
		s.URL = map[bool]string{false: "http://", true: "https://"}[config.TLS != nil] + reachable(address)
	}
	if config.TLS != nil {
		config.TLS = authority.Harden(config.TLS.Clone())
	}
	if config.Seal == nil {
		if _, config.Seal, err = ed25519.GenerateKey(nil); err != nil {
			return nil, err
		}
	}
	if config.Connections == 0 {
		config.Connections = 16
	}
	if config.Owner != "" {
		if err := db.Prepare(ctx, config.Database, config.Owner); err != nil {
			return nil, err
		}
	}
	if s.pool, err = db.Open(ctx, config.Database, config.Connections); err != nil {
		return nil, err
	}
	background, stop := context.WithCancel(context.Background())
	s.stop = stop
	defer func() {
		if err != nil {
			stop()
			s.running.Wait()
			s.close()
		}
	}()
	keys, err := keyRings(config)
	if err != nil {
		return nil, err
	}
	log := access.NewLog(s.pool, authority.AuditKey(config.Seal))
	if err := s.join(ctx, config, keys, log); err != nil {
		log.Close()
		return nil, err
	}
	if err := s.begin(ctx, background, config, keys); err != nil {
		return nil, err
	}
	return s, s.serve(background, config, log, listener)
}

// join makes the services, each after those that it needs. What they hear of each other else goes over the bus.
func (s *Service) join(ctx context.Context, config Config, keys rings, log *access.Log) (err error) {
	if config.Keep == (series.Keep{}) {
		config.Keep = series.UsualKeep
	}
	if config.Contents == "" {
		if config.Contents, err = os.MkdirTemp("", "moorwatch-contents-"); err != nil {
			return err
		}
		s.contents = config.Contents
	}
	base := part.Base{Pool: s.pool, Audit: log, Bus: &s.Bus}
	removal := removalCode(config.Seal)
	s.Fleet = fleet.New(base, config.Fingerprint, removal)
	audience, err := s.Fleet.Audience(ctx)
	if err != nil {
		return fmt.Errorf("reading the service's name: %w", err)
	}
	calls := http.NewServeMux()
	s.hub = hub.New(audience, s.Fleet, calls, &s.Bus)
	s.Access = access.New(base, log, s.Fleet, s.URL, config.Post, keys[keySignIn], config.Anchors)
	rules := health.NewRules(s.pool)
	s.Vitals = vitals.New(base, s.Fleet, rules, s.hub, config.Keep)
	s.Inventory = inventory.New(base, s.Fleet, s.hub)
	s.Job = job.New(base, s.Fleet, rules, s.Access, s.hub, keys[keyJobs], keys[keyContents], config.Contents)
	s.Health = health.New(base, rules, s.Fleet, s.Vitals, s.Inventory, s.Job, config.Post, keys[keyWebhooks], s.URL, removal)
	s.Session = session.New(base, s.Fleet, s.Inventory, s.Access, s.hub, config.Seal, keys[keyConsoles], keys[keyRecordings])
	s.Patch = patch.New(base, s.Fleet, s.Job, rules, s.Access, s.Session, config.Post, config.Advisories)
	s.Agents = agents.New(config.Releases, s.URL, config.Fingerprint != "")
	s.Privacy = privacy.New(base, s.Fleet)
	s.parts = []part.Part{s.Access.Part(), s.Health.Part(), s.Fleet.Part(), s.Vitals.Part(), s.Inventory.Part(), s.Session.Part(),
		s.Job.Part(), s.Patch.Part(), s.Agents.Part()}
	for _, p := range s.parts {
		for pattern, answer := range p.Links {
			calls.HandleFunc(pattern, answer)
		}
	}
	return nil
}

// begin has the parts begin, and starts what they do in the background.
func (s *Service) begin(ctx, background context.Context, config Config, keys rings) (err error) {
	for _, p := range s.parts {
		if p.Begin == nil {
			continue
		}
		if err := p.Begin(ctx); err != nil {
			return fmt.Errorf("beginning %s: %w", p.Name, err)
		}
	}
	if err := s.reseal(ctx); err != nil {
		slog.Warn("some secrets cannot be sealed under the latest key", "error", err)
	}
	if s.SetUpLink, err = s.Access.FirstOwner(ctx); err != nil {
		return fmt.Errorf("making the first owner: %w", err)
	}
	if config.Keys != nil {
		s.running.Go(func() { s.keepKeys(background, config.Keys, keys) })
	}
	s.running.Go(func() { s.refresh(background) })
	for _, p := range s.parts {
		for _, run := range p.Run {
			s.running.Go(func() { run(background) })
		}
	}
	if s.periodic, err = s.schedule(); err != nil {
		return fmt.Errorf("preparing background work: %w", err)
	}
	if err := s.periodic.Start(background); err != nil {
		return fmt.Errorf("starting background work: %w", err)
	}
	return nil
}

// refreshEvery is how often this node reads again what another may have changed.
const refreshEvery = time.Minute

// refresh reads policies, rules and windows again, until ctx ends.
func (s *Service) refresh(ctx context.Context) {
	tick := time.NewTicker(refreshEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			for _, p := range s.parts {
				if p.Refresh == nil {
					continue
				}
				if err := p.Refresh(ctx); err != nil && ctx.Err() == nil {
					slog.Warn("what another node may have changed cannot be read; trying again", "service", p.Name, "error", err)
				}
			}
		}
	}
}

// reachable is how others may reach an address that is listened on: by this machine's name where
// that is every address.
func reachable(a *net.TCPAddr) string {
	if name, err := os.Hostname(); err == nil && a.IP.IsUnspecified() {
		return net.JoinHostPort(name, strconv.Itoa(a.Port))
	}
	return a.String()
}

func (s *Service) serve(background context.Context, config Config, log *access.Log, listener net.Listener) error {
	all := columns{s.Access, fleetColumn{s.Fleet}, vitalsColumn{s.Vitals}, healthColumn{s.Health}, inventoryColumn{s.Inventory},
		sessionColumn{s.Session}, jobColumn{s.Job}, patchColumn{s.Patch}, agentsColumn{s.Agents}, privacyColumn{s.Privacy}}
	metrics := prometheus.NewRegistry()
	metrics.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "moorwatch_devices_connected",
		Help: "Devices with a live link."},
		func() float64 { return float64(s.hub.Count()) }))
	strangers := doors.New(config.Proxies)
	metrics.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "moorwatch_connections_unproven",
		Help: "Connections on which nobody has proved who they are."},
		func() float64 { return float64(strangers.Unproven()) }))
	router, err := front.NewRouter(front.Parts{API: all, Sessions: s.Access, Places: s.Fleet, Console: config.Console, Metrics: metrics,
		Doors: strangers, Audit: log,
		Ready: func(r *http.Request) error {
			ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
			defer cancel()
			return s.pool.Ping(ctx)
		}})
	if err != nil {
		return err
	}
	s.Bus.RightsChanged.Subscribe(func(ctx context.Context, change bus.RightsChanged) { router.Review(ctx, change.Person) })
	s.running.Go(func() { router.Run(background) })
	mux := http.NewServeMux()
	mux.Handle("GET "+uplink.Path, s.hub)
	mux.Handle("GET /install/", s.Agents)
	mux.Handle("/", router)
	// Who may go on for longer sets another deadline once they have proved who they are.
	s.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 32 << 10,
		HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 100, SendPingTimeout: time.Minute, PingTimeout: 30 * time.Second,
			WriteByteTimeout: time.Minute},
		ConnContext: strangers.ConnContext, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	if config.TLS != nil {
		s.server.TLSConfig = strangers.TLS(config.TLS)
	}
	listener = strangers.Listen(listener)
	go func() {
		if config.TLS != nil {
			s.served <- s.server.ServeTLS(listener, "", "")
		} else {
			s.served <- s.server.Serve(listener)
		}
	}()
	return nil
}

// Failed gives the error that ended serving, if it was not Stop.
func (s *Service) Failed() <-chan error { return s.served }

// Online counts the connected devices.
func (s *Service) Online() int { return s.hub.Count() }

// Stop ends the service: no new requests, then the links, then the background work, each told and
// awaited. Requests still running after 5 s, such as streams, are cut.
func (s *Service) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	quick, stop := context.WithTimeout(ctx, time.Second)
	defer stop()
	if s.server.Shutdown(quick) != nil { // streams do not end by themselves
		s.server.Close()
	}
	s.hub.Close()
	if err := s.periodic.StopAndCancel(ctx); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		slog.Warn("background work did not stop", "error", err)
	}
	s.stop()
	s.running.Wait()
	s.close()
}

// close closes what the parts and their work needed until they ended.
func (s *Service) close() {
	for _, p := range s.parts {
		if p.Close != nil {
			p.Close()
		}
	}
	s.pool.Close()
	if s.contents != "" {
		os.RemoveAll(s.contents)
	}
}

// periodicArgs is periodic work of one of the parts, by its name.
type periodicArgs struct {
	Name string `json:"name"`
}

func (periodicArgs) Kind() string { return "periodic" }

// expireEvery is how often what is kept no longer is deleted.
const expireEvery = time.Hour

// periodicWork is what the parts have done periodically, expiry too.
func (s *Service) periodicWork() []part.Periodic {
	var all []part.Periodic
	for _, p := range s.parts {
		all = append(all, p.Periodic...)
		if p.Expire != nil {
			all = append(all, part.Periodic{Name: "expire " + p.Name, Every: expireEvery, Do: p.Expire})
		}
	}
	return all
}

func (s *Service) schedule() (*river.Client[pgx.Tx], error) {
	by := map[string]func(context.Context) error{}
	var when []*river.PeriodicJob
	for _, p := range s.periodicWork() {
		if by[p.Name] != nil {
			return nil, fmt.Errorf("two parts have work called %q", p.Name)
		}
		by[p.Name] = p.Do
		when = append(when, river.NewPeriodicJob(river.PeriodicInterval(p.Every), func() (river.JobArgs, *river.InsertOpts) {
			return periodicArgs{p.Name}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: waiting}}
		}, &river.PeriodicJobOpts{RunOnStart: true}))
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[periodicArgs]) error {
		do := by[j.Args.Name]
		if do == nil {
			return river.JobCancel(fmt.Errorf("no part has work called %q any more", j.Args.Name))
		}
		return do(ctx)
	}))
	return river.NewClient(riverpgxv5.New(s.pool), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 4}},
		Workers:           workers,
		PeriodicJobs:      when,
		ReindexerSchedule: river.NeverSchedule(), // it would need to own the tables
		Logger:            slog.New(slog.DiscardHandler),
		JobTimeout:        10 * time.Minute,
	})
}

// waiting are the states of periodic work in which another of its kind is not added.
var waiting = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable,
	rivertype.JobStateRunning, rivertype.JobStateScheduled}

// removalCode makes the code of each device from the service's own secret, so that none is kept.
func removalCode(seal ed25519.PrivateKey) func(device uuid.UUID) string {
	return func(device uuid.UUID) string {
		h := hmac.New(sha256.New, seal.Seed())
		h.Write([]byte("removal of the agent of "))
		h.Write(device[:])
		text := strings.ToLower(base32.StdEncoding.EncodeToString(h.Sum(nil)))
		return text[:5] + "-" + text[5:10]
	}
}
