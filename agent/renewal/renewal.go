// Package renewal brings the agent itself to a newer release: it is offered like any other update, and
// installed by the same rings and windows. A release is believed by its signature; the new program is
// tried before it takes the place of the old one, and gives it back when it does not connect in time.
package renewal

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/setup"
	"moorwatch.example/core/release"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// Source is the source of the update that is the agent, and Name what it calls it.
const (
	Source = "agent"
	Name   = "moor-agent"
)

// Within is how long a new program has to connect before the old one is put back, as time.ParseDuration
// reads it. Tests are built with less.
var Within = "5m"

func within() time.Duration {
	d, err := time.ParseDuration(Within)
	if err != nil {
		return 5 * time.Minute
	}
	return d
}

// mostStarts is how often a new program may be started without ever connecting.
const mostStarts = 4

// tryWithin is how long a new program has to show that it runs here and reaches the service.
const tryWithin = time.Minute

// Arch names the architecture that this program is built for, as releases do.
func Arch() string {
	if runtime.GOARCH == "arm" {
		return "arm7"
	}
	return runtime.GOARCH
}

// Service is where releases come from.
type Service interface {
	// Release returns the signed manifest of the release that this device is offered; none where there
	// is none.
	Release(ctx context.Context) ([]byte, error)
	// Program writes the bytes of a release's file from an offset on.
	Program(ctx context.Context, sha256 string, offset int64, w io.Writer) error
}

// Renewal implements host.Updates over those of the host, to which it adds the agent.
type Renewal struct {
	host.Updates // nil where the host has none
	Service      Service
	Place        setup.Place
	Version      string
	Keys         []ed25519.PublicKey
	Log          *slog.Logger
	// Again has the new program run in place of this one.
	Again func()
	// Connected is closed when this program has connected.
	Connected <-chan struct{}
}

var _ host.Updates = (*Renewal)(nil)

// offered returns the program that a service offers, where it is newer than this one.
func (r *Renewal) offered(ctx context.Context) (m release.Manifest, p release.Program, ok bool, err error) {
	signed, err := r.Service.Release(ctx)
	if err != nil || len(signed) == 0 {
		return m, p, false, err
	}
	if m, err = release.Open(signed, r.Keys); err != nil {
		return m, p, false, err
	}
	p, ok = m.For(runtime.GOOS, Arch())
	return m, p, ok && release.Newer(m.Version, r.Version), nil
}

// Missing implements host.Updates.
func (r *Renewal) Missing(ctx context.Context, fresh bool) (all []update.Update, err error) {
	all = []update.Update{}
	if r.Updates != nil {
		if all, err = r.Updates.Missing(ctx, fresh); all == nil {
			return nil, err
		}
	}
	m, p, ok, wrong := r.offered(ctx)
	if wrong != nil {
		r.Log.Warn("which release of the agent there is cannot be told", "error", wrong)
	}
	if ok {
		all = append(all, update.Update{Source: Source, Name: Name, Title: "Moorwatch agent " + m.Version, From: r.Version, To: m.Version,
			Class: update.Feature, Size: p.Size, Released: m.Made})
	}
	return all, err
}

// split parts the agent's own versions from the others.
func split(all []work.Version) (own, others []work.Version) {
	for _, v := range all {
		if v.Source == Source {
			own = append(own, v)
		} else {
			others = append(others, v)
		}
	}
	return own, others
}

// Fetch implements host.Updates.
func (r *Renewal) Fetch(ctx context.Context, all []work.Version, log io.Writer) error {
	own, others := split(all)
	if len(others) > 0 && r.Updates != nil {
		if err := r.Updates.Fetch(ctx, others, log); err != nil {
			return err
		}
	}
	for _, v := range own {
		if r.Version == v.Version {
			continue
		}
		if _, err := r.fetch(ctx, v.Version, log); err != nil {
			return err
		}
	}
	return nil
}

// Install implements host.Updates. The agent comes last: it does not return then, as the new program
// takes the run up again and finds that it is there.
func (r *Renewal) Install(ctx context.Context, all []work.Version, log io.Writer) error {
	own, others := split(all)
	if len(others) > 0 && r.Updates != nil {
		if err := r.Updates.Install(ctx, others, log); err != nil {
			return err
		}
	}
	for _, v := range own {
		if err := r.renew(ctx, v.Version, log); err != nil {
			return fmt.Errorf("the agent stays at %s: %w", r.Version, err)
		}
	}
	return nil
}

// Back implements host.Updates. The agent is not taken back by others: it takes itself back.
func (r *Renewal) Back(ctx context.Context, all []work.Version, log io.Writer) error {
	own, others := split(all)
	for _, v := range own {
		fmt.Fprintf(log, "The agent stays at %s: it goes back to no older release, such as %s.\n", r.Version, v.Version)
	}
	if len(others) == 0 || r.Updates == nil {
		return nil
	}
	return r.Updates.Back(ctx, others, log)
}

// Refresh implements host.Updates.
func (r *Renewal) Refresh(ctx context.Context, log io.Writer) error {
	if r.Updates == nil {
		return nil
	}
	return r.Updates.Refresh(ctx, log)
}

// Restart implements host.Updates.
func (r *Renewal) Restart(ctx context.Context) (bool, error) {
	if r.Updates == nil {
		return false, nil
	}
	return r.Updates.Restart(ctx)
}

// freshPath is where a new program lies until it is put in place; systems that know programs by the end of
// their names are to know it.
func (r *Renewal) freshPath() string {
	ext := filepath.Ext(r.Place.Program)
	if ext != ".exe" {
		ext = ""
	}
	return strings.TrimSuffix(r.Place.Program, ext) + ".new" + ext
}

// fetch has the program of a version lie beside the one that runs, whole and believed.
func (r *Renewal) fetch(ctx context.Context, version string, log io.Writer) (path string, err error) {
	m, p, ok, err := r.offered(ctx)
	switch {
	case err != nil:
		return "", err
	case m.Version == "":
		return "", errors.New("the service offers no release")
	case !release.Newer(version, r.Version):
		return "", fmt.Errorf("%s is not newer than what runs: a downgrade is refused", version)
	case m.Version != version:
		return "", fmt.Errorf("the service offers %s by now", m.Version)
	case !ok:
		return "", fmt.Errorf("the release has no program for %s/%s", runtime.GOOS, Arch())
	}
	path = r.freshPath()
	if sum, err := sumOf(path); err == nil && sum == p.SHA256 {
		return path, nil
	}
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_RDWR, 0o700)
	if err != nil {
		return "", err
	}
	defer f.Close()
	at, err := f.Seek(0, io.SeekEnd)
	if err == nil && at > p.Size {
		at, err = 0, f.Truncate(0)
	}
	if err != nil {
		return "", err
	}
	fmt.Fprintf(log, "Fetching moor-agent %s, %d bytes\n", version, p.Size)
	if at < p.Size {
		if err := r.Service.Program(ctx, p.SHA256, at, &bounded{f, p.Size - at}); err != nil {
			return "", fmt.Errorf("fetching it: %w", err)
		}
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return "", err
	}
	if sum, err := sumOf(part); err != nil || sum != p.SHA256 {
		os.Remove(part)
		return "", errors.Join(errors.New("what came is not what the release says: it is fetched again next time"), err)
	}
	return path, errors.Join(os.Chmod(part, 0o755), atomicfile.Rename(part, path))
}

// bounded takes no more bytes than are expected.
type bounded struct {
	w    io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= int64(len(p)); b.left < 0 {
		return 0, errors.New("more came than the release says")
	}
	return b.w.Write(p)
}

func sumOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// renew puts a version in place of this one, and does not return where that goes well; in the new program
// it returns once that has connected.
func (r *Renewal) renew(ctx context.Context, version string, log io.Writer) error {
	if s, err := load(r.Place.Dir); err == nil && s.To == version && s.TakenBack != "" {
		forget(r.Place.Dir)
		return fmt.Errorf("%s was taken back: %s", version, s.TakenBack)
	}
	if r.Version == version {
		select {
		case <-r.Connected:
			fmt.Fprintf(log, "moor-agent %s runs and is connected.\n", version)
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	path, err := r.fetch(ctx, version, log)
	if err != nil {
		return err
	}
	if err := try(ctx, path, r.Place.Dir, version); err != nil {
		os.Remove(path)
		return fmt.Errorf("the new program was tried, and does not do: %w", err)
	}
	fmt.Fprintf(log, "moor-agent %s was tried; it takes the place of %s.\n", version, r.Version)
	s := state{From: r.Version, To: version, Until: time.Now().Add(within())}
	if err := s.save(r.Place.Dir); err != nil {
		return err
	}
	if err := setup.Replace(path, r.Place.Program); err != nil {
		forget(r.Place.Dir)
		return fmt.Errorf("putting it in place: %w", err)
	}
	r.Again()
	<-ctx.Done()
	return context.Cause(ctx)
}

// try has a program say its version, and reach the service, before it takes the place of this one.
func try(ctx context.Context, path, dir, version string) error {
	ctx, cancel := context.WithTimeout(ctx, tryWithin)
	defer cancel()
	for _, args := range [][]string{{"--version"}, {"try", "--dir", dir}} {
		cmd := exec.CommandContext(ctx, path, args...)
		cmd.WaitDelay = time.Second
		out, err := cmd.CombinedOutput()
		if said := strings.TrimSpace(string(out)); err != nil {
			return fmt.Errorf("%w: %s", err, said[:min(len(said), 300)])
		}
		if args[0] == "--version" && !slices.Contains(strings.Fields(string(out)), version) {
			return fmt.Errorf("it says that it is %q", strings.TrimSpace(string(out)))
		}
	}
	return nil
}

// state is what is remembered across the programs.
type state struct {
	From      string    `json:"from"`
	To        string    `json:"to"`
	Until     time.Time `json:"until"`
	Starts    int       `json:"starts,omitempty"`
	TakenBack string    `json:"taken_back,omitempty"` // why
}

const stateFile = "renewal.json"

func load(dir string) (s state, err error) {
	text, err := os.ReadFile(filepath.Join(dir, stateFile))
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	return s, err
}

func (s state) save(dir string) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(dir, stateFile), text, atomicfile.OnDisk)
}

func forget(dir string) { os.Remove(filepath.Join(dir, stateFile)) }

// Guard looks after a new program from its start on. Its methods are called by the program that runs.
type Guard struct {
	place   setup.Place
	version string

	mu    sync.Mutex
	state *state // of a renewal to this version that is not sure yet; nil otherwise
	timer *time.Timer
}

// ErrBack is returned where the old program was put back: it is to be started in place of this one.
var ErrBack = errors.New("the older release was put back, and runs next")

// Watch is called first of all. When this program is new, and was started too often or too late without
// ever connecting, the old one is put back at once; when it is not sure by its time, back is called once
// it was put back.
func Watch(place setup.Place, version string, back func()) (*Guard, error) {
	g := &Guard{place: place, version: version}
	s, err := load(place.Dir)
	if err != nil || s.TakenBack != "" {
		return g, nil
	}
	if s.To != version {
		if s.From == version { // the new one never came to itself
			s.TakenBack = "it could not be started"
			return g, s.save(place.Dir)
		}
		forget(place.Dir)
		return g, nil
	}
	if s.Starts++; s.Starts > mostStarts || time.Now().After(s.Until) {
		return g, g.restore(s, fmt.Sprintf("it was started %d times and did not connect", s.Starts-1))
	}
	if err := s.save(place.Dir); err != nil {
		return g, err
	}
	g.state = &s
	g.timer = time.AfterFunc(time.Until(s.Until), func() {
		g.mu.Lock()
		mine := g.state
		g.state = nil
		g.mu.Unlock()
		if mine != nil && errors.Is(g.restore(*mine, "it did not connect within "+within().String()), ErrBack) {
			back()
		}
	})
	return g, nil
}

// restore puts the old program back.
func (g *Guard) restore(s state, why string) error {
	s.TakenBack = why
	if err := s.save(g.place.Dir); err != nil {
		return err
	}
	bad := g.place.Program + ".bad"
	os.Remove(bad)
	if err := atomicfile.Rename(g.place.Program, bad); err != nil {
		return err
	}
	if err := atomicfile.Rename(setup.Previous(g.place.Program), g.place.Program); err != nil {
		return errors.Join(err, atomicfile.Rename(bad, g.place.Program))
	}
	return ErrBack
}

// Connected makes a new program sure.
func (g *Guard) Connected() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.state != nil {
		g.timer.Stop()
		g.state = nil
		forget(g.place.Dir)
	}
}
