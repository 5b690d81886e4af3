package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/demo/fleet"
	"moorwatch.example/service/db/cluster"
)

// world is a service in a process of its own, with TLS and an authority of its own, on a database
// that is as safe as in production.
type world struct {
	dir      string
	database *cluster.Cluster
	bin      string
	listen   string
	service  *exec.Cmd
	client   *client.Client
	url      string
	token    string
	children []func()
	seen     map[uuid.UUID]bool
	pids     map[uuid.UUID]int // of agents
}

const (
	organisation = "Tarnhead Weather Trust"
	site         = "Valley office"
)

func (b *bench) begin() (*world, error) {
	if b.world != nil {
		return b.world, nil
	}
	dir, err := os.MkdirTemp("", "moorwatch-bench-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	w := &world{dir: dir, bin: b.bin, listen: "127.0.0.1:8571", seen: map[uuid.UUID]bool{}, pids: map[uuid.UUID]int{}}
	b.world = w
	if w.database, err = cluster.Start(b.ctx, cluster.Options{Dir: filepath.Join(dir, "postgres")}); err != nil {
		return nil, err
	}
	if err := w.start(); err != nil {
		return nil, err
	}
	return w, w.setUp(b.ctx)
}

func (w *world) start() error {
	w.url = "https://" + w.listen
	prepare := exec.Command(filepath.Join(w.bin, "moorwatch"), "migrate")
	prepare.Env = append(os.Environ(), "MOORWATCH_DATABASE="+w.database.URL, "MOORWATCH_DATABASE_OWNER="+w.database.Owner)
	if text, err := prepare.CombinedOutput(); err != nil {
		return fmt.Errorf("preparing the database: %w: %s", err, text)
	}
	w.service = exec.Command(filepath.Join(w.bin, "moorwatch"), "serve", "--listen", w.listen, "--data", filepath.Join(w.dir, "data"),
		"--log", "error")
	w.service.Env = append(os.Environ(), "MOORWATCH_DATABASE="+w.database.URL)
	w.service.Stderr = os.Stderr
	w.service.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := w.service.Start(); err != nil {
		return err
	}
	return w.ready()
}

// ready waits for the service to answer at all.
func (w *world) ready() error {
	for range 300 {
		if c, err := client.New(client.Options{URL: w.url, CA: w.ca()}); err == nil {
			answer, err := c.GetMeWithResponse(context.Background())
			c.Close()
			if err == nil && answer.StatusCode() == 401 {
				return nil
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.New("the service does not answer")
}

func (w *world) ca() string { return filepath.Join(w.dir, "data", "authority.pem") }

func (w *world) setUp(ctx context.Context) error {
	var link []byte
	for range 100 { // it is written once the service serves
		var err error
		if link, err = os.ReadFile(filepath.Join(w.dir, "data", "set-up-link")); err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	_, secret, ok := strings.Cut(strings.TrimSpace(string(link)), "#")
	if !ok {
		return errors.New("there is no set-up link")
	}
	c, err := client.New(client.Options{URL: w.url, CA: w.ca()})
	if err != nil {
		return err
	}
	name, email := "Bench", "bench@curlew-sedge.example"
	if _, err := c.SetUp(ctx, api.SetUp{Link: secret, Password: "four quiet moor words", Name: &name, Email: &email}); err != nil {
		return err
	}
	t, err := client.Made(c.AddTokenWithResponse(ctx, api.NewToken{Name: "bench", Days: 1}))
	if err != nil {
		return err
	}
	w.token = t.Secret
	if w.client, err = client.New(client.Options{URL: w.url, Token: t.Secret, CA: w.ca()}); err != nil {
		return err
	}
	_, err = client.Made(w.client.AddSiteWithResponse(ctx, api.NewSite{Organisation: organisation, Site: site}))
	return err
}

func (w *world) enrolmentToken(ctx context.Context, uses int) (string, error) {
	t, err := client.Made(w.client.AddEnrolmentTokenWithResponse(ctx,
		api.NewEnrolmentToken{Organisation: organisation, Site: site, Uses: &uses, Approval: new(bool)}))
	if err != nil {
		return "", err
	}
	return t.Secret, nil
}

// agent enrols this machine and runs its agent in a process of its own, for as long as the world is there.
func (w *world) agent(ctx context.Context) (uuid.UUID, error) {
	id, end, err := w.agentAt(ctx, w.url)
	if err == nil {
		w.children = append(w.children, end)
	}
	return id, err
}

// fleet runs n simulated devices of a kind in a process of their own, and returns once all are connected.
func (w *world) fleet(ctx context.Context, name string, kind sim.Kind, n int) error {
	return w.fleetIn(ctx, filepath.Join(w.dir, name), name, kind, n)
}

// fleetIn is fleet with the devices' folders below another.
func (w *world) fleetIn(ctx context.Context, dir, name string, kind sim.Kind, n int) error {
	token, err := w.enrolmentToken(ctx, n)
	if err != nil {
		return err
	}
	plan := fleet.Plan{URL: w.url, Dir: dir}
	for i := range n {
		d := sim.Device{Name: fmt.Sprintf("%s-%05d", name, i), Kind: kind, Seed: uint64(i), Address: fmt.Sprintf("203.0.113.%d", i%250)}
		plan.Devices = append(plan.Devices, fleet.Device{Device: d, Token: token})
	}
	cmd := exec.Command(filepath.Join(w.bin, "moor-fleet"))
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	w.children = append(w.children, func() {
		in.Close()
		cmd.Wait()
		os.RemoveAll(dir)
	})
	if err := json.NewEncoder(in).Encode(plan); err != nil {
		return err
	}
	connected := map[string]bool{}
	lines := bufio.NewScanner(out)
	for len(connected) < n && lines.Scan() {
		var e fleet.Event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return err
		}
		if e.Failed != "" {
			return errors.New(e.Failed)
		}
		if e.Connected != "" {
			connected[e.Connected] = true
		}
	}
	go io.Copy(io.Discard, out)
	if len(connected) < n {
		return fmt.Errorf("%d of %d devices connected", len(connected), n)
	}
	return nil
}

// metric reads one of the service's own metrics.
func (w *world) metric(name string) (float64, error) {
	text, err := w.get("/metrics")
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(text, "\n") {
		if value, ok := strings.CutPrefix(line, name+" "); ok {
			return strconv.ParseFloat(value, 64)
		}
	}
	return 0, fmt.Errorf("the service has no metric %s", name)
}

func (w *world) get(path string) (string, error) {
	pem, err := os.ReadFile(w.ca())
	if err != nil {
		return "", err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pem)
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, DisableKeepAlives: true}
	r, err := http.NewRequest(http.MethodGet, w.url+path, nil)
	if err != nil {
		return "", err
	}
	r.Header.Set("Authorization", "Bearer "+w.token)
	answer, err := (&http.Client{Transport: transport}).Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	return string(text), err
}

// hear opens the console's stream of events, and tells of each that alerts changed.
func (w *world) hear(ctx context.Context) (heard chan struct{}, stop func(), err error) {
	ctx, stop = context.WithCancel(ctx)
	answer, err := w.client.StreamEvents(ctx)
	if err != nil {
		stop()
		return nil, nil, err
	}
	heard = make(chan struct{}, 1000)
	go func() {
		defer answer.Body.Close()
		lines := bufio.NewScanner(answer.Body)
		lines.Buffer(make([]byte, 64<<10), 64<<20)
		for lines.Scan() {
			if lines.Text() == "event: alerts" {
				select {
				case heard <- struct{}{}:
				default:
				}
			}
		}
	}()
	return heard, stop, nil
}

func (w *world) close() {
	for _, end := range w.children {
		end()
	}
	if w.service != nil && w.service.Process != nil {
		w.service.Process.Signal(os.Interrupt)
		w.service.Wait()
	}
	if w.database != nil {
		w.database.Stop()
	}
	os.RemoveAll(w.dir)
}
