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

	"moorwatch.example/contract/link"
	jobs "moorwatch.example/core/job"
	"moorwatch.example/core/series"
	"moorwatch.example/service/access"
	"moorwatch.example/service/agents"
	"moorwatch.example/service/authority"
	"moorwatch.example/service/db"
	"moorwatch.example/service/doors"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/health"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/inventory"
	"moorwatch.example/service/job"
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
	hub       *hub.Hub
	pool      *pgxpool.Pool
	jobs      *river.Client[pgx.Tx]
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
			if s.Access != nil {
				s.Access.Close()
			}
			s.pool.Close()
		}
	}()
	keys, err := keyRings(config)
	if err != nil {
		return nil, err
	}
	s.Access = access.New(s.pool, s.URL, config.Post, keys[keySignIn], authority.AuditKey(config.Seal), config.Anchors)
	if config.Keep == (series.Keep{}) {
		config.Keep = series.UsualKeep
	}
	s.Health = health.New(s.pool, s.Access.Log, config.Post, keys[keyWebhooks], s.URL)
	s.Fleet = fleet.New(s.pool, s.Access.Log, s.Health, config.Fingerprint)
	s.Fleet.RemovalCode = removalCode(config.Seal)
	s.Health.RemovalCode = s.Fleet.RemovalCode
	s.Vitals = vitals.New(s.pool, s.Fleet, s.Health, config.Keep)
	s.Inventory = inventory.New(s.pool, s.Fleet, s.Health, s.Access.Log)
	s.Access.Join(s.Fleet)
	s.Health.Join(s.Fleet, s.Vitals, s.Inventory)
	if err := s.Health.Begin(ctx); err != nil {
		return nil, fmt.Errorf("reading the policies: %w", err)
	}
	audience, err := s.Fleet.Audience(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the service's name: %w", err)
	}
	calls := http.NewServeMux()
	calls.HandleFunc("POST /facts", s.Fleet.ServeFacts)
	calls.HandleFunc("POST /reports", s.Vitals.ServeReports)
	calls.HandleFunc("GET /settings", s.Health.ServeSettings)
	calls.HandleFunc("POST /inventory", s.Inventory.ServeInventory)
	if config.Contents == "" {
		if config.Contents, err = os.MkdirTemp("", "moorwatch-contents-"); err != nil {
			return nil, err
		}
		s.contents = config.Contents
	}
	s.Job = job.New(s.pool, s.Fleet, s.Health, s.Access, s.Access.Log, keys[keyJobs], keys[keyContents], config.Contents)
	calls.HandleFunc("POST /journal", s.Job.ServeJournal)
	calls.HandleFunc("POST /results", s.Job.ServeResults)
	calls.HandleFunc("GET "+link.Contents, s.Job.ServeContent)
	s.Patch = patch.New(s.pool, s.Fleet, s.Job, s.Health, s.Access, s.Access.Log, config.Post)
	calls.HandleFunc("POST /updates", s.Patch.ServeUpdates)
	s.Agents = agents.New(config.Releases, s.URL, config.Fingerprint != "")
	calls.HandleFunc("GET /release", s.Agents.ServeRelease)
	calls.HandleFunc("GET /release/program", s.Agents.ServeProgram)
	s.Inventory.Changed = s.Patch.InventoryChanged
	s.hub = hub.New(audience, s.Fleet, calls)
	s.Inventory.Join(s.hub)
	s.Job.Join(s.hub, s.Health.RunEnded)
	s.Health.JoinJobs(s.Job)
	s.Health.Opened = func(id uuid.UUID, check string) { s.Job.Happened(jobs.Checked, id, check) }
	s.Fleet.Enrolled = func(id uuid.UUID) { s.Job.Happened(jobs.Enrolled, id, "") }
	s.Vitals.Join(s.hub)
	s.Fleet.Disconnect = s.hub.Disconnect
	s.Fleet.Moved = s.Access.PlacesChanged
	s.Privacy = privacy.New(s.pool, s.Fleet, s.Access.Log)
	s.Privacy.Disconnect = s.hub.Disconnect
	s.Session = session.New(s.pool, s.Fleet, s.Inventory, s.Access, s.Access.Log, s.hub, config.Seal, keys[keyConsoles],
		keys[keyRecordings])
	s.Fleet.Join([]fleet.Dependent{s.Health}, []fleet.ScopeUser{s.Health, s.Session, s.Access}, s.Access)
	s.Patch.JoinPower(s.Session)
	if err := s.Session.Refresh(ctx); err != nil {
		return nil, fmt.Errorf("reading the rules of consent: %w", err)
	}
	if err := s.Job.Begin(ctx); err != nil {
		return nil, fmt.Errorf("taking up the jobs: %w", err)
	}
	if err := s.reseal(ctx); err != nil {
		slog.Warn("some secrets cannot be sealed under the latest key", "error", err)
	}
	if config.Keys != nil {
		s.running.Go(func() { s.keepKeys(background, config.Keys, keys) })
	}
	if config.Advisories != "" {
		s.running.Go(func() { s.Patch.KeepMirror(background, config.Advisories) })
	}
	for _, run := range []func(context.Context){s.Job.Run, s.Patch.Run, s.Patch.Compare, s.Access.Run, s.Fleet.Run, s.Vitals.Run,
		s.Health.Run, s.Session.Run, s.refresh} {
		s.running.Go(func() { run(background) })
	}
	if err := s.Fleet.Begin(ctx); err != nil {
		return nil, fmt.Errorf("noting that no device is connected yet: %w", err)
	}
	if s.SetUpLink, err = s.Access.FirstOwner(ctx); err != nil {
		return nil, fmt.Errorf("making the first owner: %w", err)
	}
	if s.jobs, err = s.schedule(); err != nil {
		return nil, fmt.Errorf("preparing background work: %w", err)
	}
	if err := s.jobs.Start(background); err != nil {
		return nil, fmt.Errorf("starting background work: %w", err)
	}
	return s, s.serve(background, config, listener,
		columns{s.Access, fleetColumn{s.Fleet}, vitalsColumn{s.Vitals}, healthColumn{s.Health}, inventoryColumn{s.Inventory},
			sessionColumn{s.Session}, jobColumn{s.Job}, patchColumn{s.Patch}, agentsColumn{s.Agents}, privacyColumn{s.Privacy}})
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
			if err := errors.Join(s.Health.Refresh(ctx), s.Session.Refresh(ctx)); err != nil && ctx.Err() == nil {
				slog.Warn("the policies cannot be read; trying again", "error", err)
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

func (s *Service) serve(background context.Context, config Config, listener net.Listener, all columns) error {
	metrics := prometheus.NewRegistry()
	metrics.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "moorwatch_devices_connected",
		Help: "Devices with a live link."},
		func() float64 { return float64(s.hub.Count()) }))
	strangers := doors.New(config.Proxies)
	metrics.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "moorwatch_connections_unproven",
		Help: "Connections on which nobody has proved who they are."},
		func() float64 { return float64(strangers.Unproven()) }))
	router, err := front.NewRouter(front.Parts{API: all, Sessions: s.Access, Places: s.Fleet, Console: config.Console, Metrics: metrics,
		Doors: strangers, Audit: s.Access.Log,
		Ready: func(r *http.Request) error {
			ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
			defer cancel()
			return s.pool.Ping(ctx)
		}})
	if err != nil {
		return err
	}
	for _, told := range []func(context.Context, front.RightsChange){
		func(ctx context.Context, change front.RightsChange) { router.Review(ctx, change.Person) }, s.Session.RightsChanged,
		s.Job.RightsChanged,
	} {
		s.Access.Watch(told)
	}
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
		ConnContext: strangers.ConnContext, TLSConfig: config.TLS, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
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
	if err := s.jobs.StopAndCancel(ctx); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		slog.Warn("background work did not stop", "error", err)
	}
	s.stop()
	s.running.Wait()
	s.Access.Close()
	s.pool.Close()
	if s.contents != "" {
		os.RemoveAll(s.contents)
	}
}

// The service's periodic work, each run on one node at a time.
type (
	expireArgs  struct{}
	compactArgs struct{}
	trendArgs   struct{}
	suspectArgs struct{}
	recordArgs  struct{}
	reportArgs  struct{}
)

func (expireArgs) Kind() string  { return "expire" }
func (compactArgs) Kind() string { return "compact" }
func (trendArgs) Kind() string   { return "trend" }
func (suspectArgs) Kind() string { return "suspect" }
func (recordArgs) Kind() string  { return "record" }
func (reportArgs) Kind() string  { return "report" }

func work[T river.JobArgs](workers *river.Workers, do func(ctx context.Context) error) {
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[T]) error { return do(ctx) }))
}

func (s *Service) schedule() (*river.Client[pgx.Tx], error) {
	workers := river.NewWorkers()
	work[expireArgs](workers, func(ctx context.Context) error {
		return errors.Join(s.Vitals.Expire(ctx), s.Access.Expire(ctx), s.Health.Expire(ctx), s.Session.Expire(ctx), s.Job.Expire(ctx),
			s.Patch.Expire(ctx),
			s.Inventory.Expire(ctx))
	})
	work[compactArgs](workers, s.Vitals.Compact)
	work[trendArgs](workers, func(ctx context.Context) error { return s.Vitals.FindTrends(ctx) })
	work[suspectArgs](workers, s.Health.Suspect)
	work[recordArgs](workers, func(ctx context.Context) error { return s.Patch.Record(ctx, time.Now()) })
	work[reportArgs](workers, s.Patch.SendReports)
	every := func(d time.Duration, args river.JobArgs, atStart bool) *river.PeriodicJob {
		return river.NewPeriodicJob(river.PeriodicInterval(d), func() (river.JobArgs, *river.InsertOpts) {
			return args, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByState: waiting}}
		}, &river.PeriodicJobOpts{RunOnStart: atStart})
	}
	return river.NewClient(riverpgxv5.New(s.pool), &river.Config{
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 4}},
		Workers: workers,
		PeriodicJobs: []*river.PeriodicJob{every(time.Hour, expireArgs{}, true), every(10*time.Minute, compactArgs{}, true),
			every(time.Hour, trendArgs{}, true), every(time.Minute, suspectArgs{}, true), every(time.Hour, recordArgs{}, true),
			every(time.Minute, reportArgs{}, true)},
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
