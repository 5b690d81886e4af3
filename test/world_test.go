// Package test runs the whole of Moorwatch on loopback, as its users do: the service through its
// client, real agents over simulated and real hosts, the console in headless Chromium, and faults
// by killing, cutting and filling things.
package test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/agent"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/native"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service"
	"moorwatch.example/service/authority"
	"moorwatch.example/service/db/cluster"
	"moorwatch.example/test/wait"
	"moorwatch.example/web"
)

var (
	database *cluster.Cluster
	made     atomic.Int64
	scratch  string
	home     string // of whoever runs the tests; shells are given one of their own
)

const (
	organisation = "Larkmoor Libraries"
	site         = "Haywater branch"

	otherOrganisation = "Sphagnum Dairy"
	otherSite         = "Bog end"
	password          = "four quiet moor words"
)

// TestMain starts the database that all tests share; and, started by a test with these variables,
// is the service or an agent in a process of its own, for tests that kill it.
func TestMain(m *testing.M) {
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError + 1})))
	switch {
	case os.Getenv("MOORWATCH_TEST_SERVICE") != "":
		os.Exit(child(serveAlone))
	case os.Getenv("MOORWATCH_TEST_AGENT") != "":
		os.Exit(child(agentAlone))
	}
	os.Exit(run(m))
}

func run(m *testing.M) int {
	for _, name := range []string{"MOOR_URL", "MOOR_TOKEN", "MOOR_CA"} { // of whoever runs the tests beside a demo
		os.Unsetenv(name)
	}
	var err error
	if scratch, err = os.MkdirTemp("", "moorwatch-test-"); err == nil {
		defer os.RemoveAll(scratch)
		// What stands in somebody's profile has no part in the tests.
		home = os.Getenv("HOME")
		err = errors.Join(os.Chmod(scratch, 0o755), os.Mkdir(filepath.Join(scratch, "home"), 0o700),
			os.Setenv("HOME", filepath.Join(scratch, "home")))
		if err == nil {
			database, err = cluster.Start(context.Background(), cluster.Options{Dir: filepath.Join(scratch, "postgres"), Throwaway: true})
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "starting the tests' database:", err)
		return 1
	}
	defer database.Stop()
	return m.Run()
}

func child(work func(ctx context.Context) error) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := work(ctx); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}

// serveAlone serves with the database and the address in the variables, and prints the set-up link.
func serveAlone(ctx context.Context) error {
	config := service.Config{Database: os.Getenv("MOORWATCH_TEST_SERVICE"), Owner: os.Getenv("MOORWATCH_TEST_OWNER"),
		Listen: os.Getenv("MOORWATCH_TEST_LISTEN"), Connections: 6, Console: web.Console(), Contents: os.Getenv("MOORWATCH_TEST_CONTENTS"),
		Seal: ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))} // the same after each start, as a data folder keeps it
	if dir := os.Getenv("MOORWATCH_TEST_AUTHORITY"); dir != "" {
		var err error
		if config.TLS, config.Fingerprint, err = authority.Load(dir, []string{"127.0.0.1"}, time.Now()); err != nil {
			return err
		}
	}
	s, err := service.Start(ctx, config)
	if err != nil {
		return err
	}
	fmt.Printf("%s %s\n", s.URL, s.SetUpLink)
	<-ctx.Done()
	s.Stop()
	return nil
}

// agentAlone runs a real agent over this machine from the folder in the variable.
func agentAlone(ctx context.Context) error {
	a := &agent.Agent{Dir: os.Getenv("MOORWATCH_TEST_AGENT"), Host: native.New(), Log: quiet, Every: 200 * time.Millisecond,
		Connected: func() { fmt.Println("connected") }}
	return a.Run(ctx)
}

var quiet = slog.New(slog.DiscardHandler)

// world is a service with an empty database of its own, and its owner's client.
type world struct {
	*service.Service
	owner  *client.Client
	token  string // an API token of the owner
	config service.Config
	ca     string // file of the service's authority; "" for plain HTTP
}

// begin starts a world on plain HTTP, or with an authority of its own.
func begin(t *testing.T, secure bool) *world {
	t.Helper()
	database, owner := emptyDatabase(t)
	w := &world{config: service.Config{Database: database, Owner: owner, Connections: 6, Listen: "127.0.0.1:0", Console: web.Console(),
		Contents: t.TempDir()}}
	if secure {
		dir := t.TempDir()
		var err error
		if w.config.TLS, w.config.Fingerprint, err = authority.Load(dir, []string{"127.0.0.1", "localhost"}, time.Now()); err != nil {
			t.Fatal(err)
		}
		w.ca = filepath.Join(dir, authority.File)
	}
	w.start(t)
	t.Cleanup(func() { w.Stop() })
	w.token = w.setUp(t, w.Service.URL, w.SetUpLink)
	w.owner = w.client(t, w.token)
	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: site})))(t)
	return w
}

// quick has devices alerted about as soon as they are silent, everywhere.
func (w *world) quick(t *testing.T) {
	t.Helper()
	w.policy(t, "quick", health.Scope{Kind: health.Everywhere}, health.Setting{Check: "silent", Level: health.Warning})
}

// policy adds a policy.
func (w *world) policy(t *testing.T, name string, scope health.Scope, settings ...health.Setting) *api.Policy {
	t.Helper()
	return must(client.Made(w.owner.AddPolicyWithResponse(t.Context(), api.NewPolicy{Name: name, Scope: scope, Settings: settings})))(t)
}

func emptyDatabase(t *testing.T) (address, owner string) {
	t.Helper()
	name := fmt.Sprintf("world_%d", made.Add(1))
	c, err := cluster.Start(t.Context(), cluster.Options{Dir: filepath.Join(scratch, "postgres"), Database: name})
	if err != nil {
		t.Fatal(err)
	}
	return c.URL, c.Owner
}

func (w *world) start(t *testing.T) {
	t.Helper()
	s, err := service.Start(t.Context(), w.config)
	if err != nil {
		t.Fatal(err)
	}
	w.Service = s
	w.config.Listen = strings.TrimPrefix(strings.TrimPrefix(s.URL, "https://"), "http://") // the same port when it is started again
}

func (w *world) setUp(t *testing.T, url, link string) (token string) {
	t.Helper()
	c, err := client.New(client.Options{URL: url, CA: w.ca})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_, secret, _ := strings.Cut(link, "#")
	name, email := "Robin Sedge", "robin@curlew-sedge.example"
	must(c.SetUp(t.Context(), api.SetUp{Link: secret, Password: password, Name: &name, Email: &email}))(t)
	return must(client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "test", Days: 1})))(t).Secret
}

// client makes a client with an API token; "" for one that is not signed in.
func (w *world) client(t *testing.T, token string) *client.Client {
	t.Helper()
	c, err := client.New(client.Options{URL: w.Service.URL, Token: token, CA: w.ca})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

func wholly(role access.Role) api.Grants {
	return api.Grants{{Role: role, Scope: health.Scope{Kind: health.Everywhere}}}
}

// person adds somebody with a role everywhere, and returns a client with a token of theirs.
func (w *world) person(t *testing.T, role access.Role) *client.Client {
	t.Helper()
	return w.client(t, w.personWith(t, wholly(role)))
}

// personWith adds somebody and returns a token of theirs.
func (w *world) personWith(t *testing.T, grants api.Grants) (token string) {
	t.Helper()
	email := fmt.Sprintf("wren-%d@curlew-sedge.example", made.Add(1))
	added := must(client.Made(w.owner.AddPersonWithResponse(t.Context(), api.NewPerson{Name: "Wren", Email: email, Grants: grants})))(t)
	c := w.client(t, "")
	_, secret, _ := strings.Cut(added.Link, "#")
	must(c.SetUp(t.Context(), api.SetUp{Link: secret, Password: password}))(t)
	return must(client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "test", Days: 1})))(t).Secret
}

func (w *world) enrolmentToken(t *testing.T, uses int) string {
	t.Helper()
	return must(client.Made(w.owner.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: organisation, Site: site, Uses: &uses, Approval: new(bool)})))(t).Secret
}

// enrol makes a device and returns the folder of its agent.
func (w *world) enrol(t *testing.T, name string) (dir string, id uuid.UUID) {
	t.Helper()
	return w.enrolWith(t, name, w.enrolmentToken(t, 1))
}

func (w *world) enrolWith(t *testing.T, name, token string) (dir string, id uuid.UUID) {
	t.Helper()
	dir = t.TempDir()
	i := must(identity.Enrol(t.Context(), dir, w.Service.URL, token, device.Facts{HostName: name}))(t)
	return dir, uuid.MustParse(i.Device)
}

// siteScope is the scope of a site.
func (w *world) siteScope(t *testing.T, organisation, site string) health.Scope {
	t.Helper()
	for _, o := range must(client.Result(w.owner.ListOrganisationsWithResponse(t.Context(), &api.ListOrganisationsParams{})))(t).Items {
		for _, s := range o.Sites {
			if o.Name == organisation && s.Name == site {
				return health.Scope{Kind: health.Site, ID: s.ID.String()}
			}
		}
	}
	t.Fatalf("there is no site %s of %s", site, organisation)
	return health.Scope{}
}

// running is a running agent.
type running struct {
	id   uuid.UUID
	dir  string
	stop func() // ends it and waits
}

// simulated enrols and runs a simulated device, and waits until the service shows it online.
func (w *world) simulated(t *testing.T, name string) *running {
	t.Helper()
	return w.agent(t, name, sim.Device{Name: name, Kind: sim.Desk, Seed: 7, Address: "192.0.2.10",
		People: []string{"Wren Ashdown"}}.Host(time.Now), nil)
}

// machine enrols and runs a real agent over this machine.
func (w *world) machine(t *testing.T, name string) *running {
	t.Helper()
	h := native.New()
	h.Informer = named{h.Informer, name}
	return w.agent(t, name, h, nil)
}

func (w *world) agent(t *testing.T, name string, h host.Host, change func(*agent.Agent)) *running {
	t.Helper()
	dir, id := w.enrol(t, name)
	return w.runs(t, name, dir, id, h, change)
}

// elsewhere is simulated at a site of another organisation.
func (w *world) elsewhere(t *testing.T, name string) *running {
	t.Helper()
	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: otherOrganisation, Site: otherSite})))(t)
	token := must(client.Made(w.owner.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: otherOrganisation, Site: otherSite})))(t)
	dir, id := w.enrolWith(t, name, token.Secret)
	return w.runs(t, name, dir, id, sim.Device{Name: name, Kind: sim.Desk, Seed: 8, Address: "192.0.2.11"}.Host(time.Now), nil)
}

func (w *world) runs(t *testing.T, name, dir string, id uuid.UUID, h host.Host, change func(*agent.Agent)) *running {
	t.Helper()
	d := &running{id: id, dir: dir}
	a := &agent.Agent{Dir: dir, Host: h, Log: quiet, Every: 500 * time.Millisecond}
	if change != nil {
		change(a)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	d.stop = sync.OnceFunc(func() {
		cancel()
		if err := <-done; err != nil {
			t.Errorf("the agent of %s ended: %v", name, err)
		}
	})
	t.Cleanup(d.stop)
	w.await(t, name+" is online with facts", func() bool {
		got := must(w.owner.Device(t.Context(), id))(t)
		return got.Device.Online && got.Facts != nil && got.Facts.OS != ""
	})
	return d
}

// again runs the agent of a simulated device that was stopped.
func (w *world) again(t *testing.T, d *running, name string) {
	t.Helper()
	w.back(t, d, sim.Device{Name: name, Kind: sim.Desk, Seed: 7}.Host(time.Now))
}

// back runs the agent of a device that was stopped, on a host.
func (w *world) back(t *testing.T, d *running, h host.Host) {
	t.Helper()
	a := &agent.Agent{Dir: d.dir, Host: h, Log: quiet, Every: 500 * time.Millisecond}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	t.Cleanup(func() { cancel(); <-done })
}

// rerun runs the agent of a real device that was stopped, and returns what ends it.
func (w *world) rerun(t *testing.T, d *running, name string) (stop func()) {
	t.Helper()
	h := native.New()
	h.Informer = named{h.Informer, name}
	a := &agent.Agent{Dir: d.dir, Host: h, Log: quiet, Every: 500 * time.Millisecond}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	return func() { cancel(); <-done }
}

// later has everything that waits for a time in the database happened that much longer ago.
func (w *world) later(t *testing.T, d time.Duration) {
	t.Helper()
	db := must(pgx.Connect(t.Context(), w.config.Database))(t)
	defer db.Close(context.Background())
	for _, query := range []string{"UPDATE alerts SET opened_at = opened_at - $1::interval",
		"UPDATE deliveries SET due = due - $1::interval WHERE state = 'gathering'"} {
		must(db.Exec(t.Context(), query, d))(t)
	}
}

func decode64(s string) ([]byte, error) { return base64.StdEncoding.DecodeString(s) }

// named is a host under another name.
type named struct {
	host.Informer
	name string
}

func (n named) Facts(ctx context.Context) (f api.Facts, err error) {
	f, err = n.Informer.Facts(ctx)
	f.HostName = n.name
	return f, err
}

// soon is within what everything happens that takes next to no time of its own. It is long, as a machine that does much
// else is slow; how long things may take is measured by the bench.
const soon = 75 * time.Second

// await waits until something holds, and fails where it does not soon. What it waits for is state behind the API, which
// tells of no event. It returns how long it took.
func (w *world) await(t *testing.T, what string, holds func() bool) time.Duration {
	t.Helper()
	return w.awaitFor(t, soon, what, holds)
}

// awaitFor waits for what takes a time of its own.
func (w *world) awaitFor(t *testing.T, within time.Duration, what string, holds func() bool) time.Duration {
	t.Helper()
	began := time.Now()
	wait.Until(t, within, what, holds)
	return time.Since(began)
}

// must takes what a call returned and gives its value, or fails the test.
func must[T any](v T, err error) func(t *testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// refused fails unless err is a problem of that status that tells text.
func refused(t *testing.T, err error, status int, text string) {
	t.Helper()
	p, ok := err.(*client.Problem)
	if !ok || p.Status != status || !strings.Contains(p.Error(), text) {
		t.Errorf("got %v, want a problem of status %d with %q", err, status, text)
	}
}

// manyDevices puts devices into the database that no agent stands behind.
func (w *world) manyDevices(t *testing.T, n int) {
	t.Helper()
	db := must(pgx.Connect(t.Context(), w.config.Database))(t)
	defer db.Close(context.Background())
	must(db.Exec(t.Context(), `INSERT INTO devices (id, site_id, name, public_key, enrolled_at, presence_since, os, os_name, os_version,
		addresses, serial, cpu, memory, disk, online, condition)
		SELECT gen_random_uuid(), (SELECT id FROM sites LIMIT 1), 'many-' || lpad(i::text, 5, '0'), decode(md5(i::text), 'hex'), now(), now(), 'windows', 'Windows 11 Pro', '24H2',
			ARRAY['192.0.2.' || i % 250], 'CS-' || i, i % 100, i % 90, i % 80, i % 7 > 0, CASE WHEN i % 7 > 0 THEN 'healthy' ELSE 'silent' END FROM generate_series(1, $1) i`, n))(t)
}

func jsonBody(t *testing.T, v any) io.Reader {
	t.Helper()
	return bytes.NewReader(must(json.Marshal(v))(t))
}
