package test

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/patch"
	"moorwatch.example/test/wait"
)

// releaseOf makes a release of the agent for this machine, and for more, in a folder of releases.
func releaseOf(t *testing.T, version, out, key string, more ...string) {
	t.Helper()
	cmd := exec.Command("go", "run", "./tools/release", "-version", version, "-out", out, "-key", key, "-targets",
		strings.Join(append(more, runtime.GOOS+"/"+runtime.GOARCH), ","), "-archives=false",
		"-ldflags", "-X moorwatch.example/agent/renewal.Within=6s")
	cmd.Env = append(os.Environ(), "HOME="+home)
	cmd.Dir = ".."
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("release %s: %v: %s", version, err, out)
	}
}

// gate passes connections on to the service until it is shut, and those that are open are cut then.
type gate struct {
	net.Listener
	mu   sync.Mutex
	shut bool
	open map[net.Conn]bool
}

func (w *world) gate(t *testing.T) *gate {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	g := &gate{Listener: l, open: map[net.Conn]bool{}}
	t.Cleanup(func() { l.Close(); g.set(true) })
	to := strings.TrimPrefix(w.Service.URL, "http://")
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			g.mu.Lock()
			shut := g.shut
			g.open[c] = true
			g.mu.Unlock()
			if shut {
				c.Close()
				continue
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			go func() { io.Copy(far, c); far.Close() }()
			go func() { io.Copy(c, far); c.Close() }()
		}
	}()
	return g
}

func (g *gate) set(shut bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut = shut; shut {
		for c := range g.open {
			c.Close()
		}
		clear(g.open)
	}
}

// managed runs an agent as a service manager does: it is started again whenever it ends.
func managed(t *testing.T, program, dir string) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		defer close(ended)
		for ctx.Err() == nil {
			cmd := exec.CommandContext(ctx, program, "run", "--managed", "--verbose", "--dir", dir)
			cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
			cmd.WaitDelay = 20 * time.Second
			cmd.Stdout, cmd.Stderr = log, log
			err := cmd.Run()
			var exit *exec.ExitError
			if ctx.Err() == nil && !(errors.As(err, &exit) && exit.ExitCode() == 75) {
				t.Logf("the agent ended: %v", err)
				wait.Pause(t, time.Second) // as a service manager does
			}
		}
	}()
	t.Cleanup(func() {
		cancel()
		<-ended
		if t.Failed() {
			text, _ := os.ReadFile(log.Name())
			t.Logf("the agent: %s", text[max(len(text)-3000, 0):])
		}
	})
}

// The agent is brought to a newer release by a rollout; to one that cannot connect afterwards it goes and comes
// back by itself, and the rollout is told; one that is signed by another key is not even offered by it.
func TestAgentRenewsItself(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	key := w.withReleases(t)
	releases := w.config.Releases
	g := w.gate(t)
	dir, place := t.TempDir(), t.TempDir()
	program := filepath.Join(place, "moor-agent")
	b, err := os.ReadFile(filepath.Join(releases, "1.0.0", "moor-agent_1.0.0_"+runtime.GOOS+"_"+runtime.GOARCH))
	if err == nil {
		err = os.WriteFile(program, b, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	enrol := exec.Command(program, "enrol", "--dir", dir, "--service", "http://"+g.Addr().String())
	enrol.Env = append(os.Environ(), "MOOR_AGENT_TOKEN="+w.enrolmentToken(t, 1))
	out, errs, exit := ran(t, enrol)
	if exit != 0 {
		t.Fatal(out, errs)
	}
	_, rest, _ := strings.Cut(out, "(")
	text, _, _ := strings.Cut(rest, ")")
	id := must(uuid.Parse(text))(t)
	managed(t, program, dir)
	runs := func(version string) {
		t.Helper()
		w.await(t, "release "+version+" is connected", func() bool {
			d := w.device(t, id)
			return d.Device.Online && d.Device.AgentVersion == version
		})
	}
	runs("1.0.0")
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: "The agent", Do: patch.Approve, Scope: everywhere, Sources: []string{"agent"}})))(t)
	rollout := func(name, version string) uuid.UUID {
		t.Helper()
		w.awaitFor(t, 2*time.Minute, version+" is missing", func() bool {
			one := must(client.Result(w.owner.GetDeviceUpdatesWithResponse(t.Context(), id)))(t)
			for _, u := range one.Missing {
				if u.Update.Source == "agent" && u.Update.To == version {
					return true
				}
			}
			return false
		})
		return must(client.Made(w.owner.AddRolloutWithResponse(t.Context(),
			api.NewRollout{Where: new(""), Spec: patch.Rollout{Name: name, Names: []string{"moor-agent"}, Restart: patch.RestartNever,
				WaitHours: 1, Rings: []patch.Ring{{Name: "all"}}}})))(t).ID
	}
	renew := func() { // the device asks what there is when it connects
		t.Helper()
		g.set(true)
		w.await(t, "it is away", func() bool { return !w.device(t, id).Device.Online })
		g.set(false)
	}

	releaseOf(t, "1.1.0", releases, key)
	renew()
	first := rollout("Better", "1.1.0")
	w.rolloutIs(t, first, patch.Done)
	runs("1.1.0")

	releaseOf(t, "1.2.0", releases, key)
	renew()
	second := rollout("Worse", "1.2.0")
	w.awaitFor(t, 2*time.Minute, "1.2.0 is put in place", func() bool {
		b, err := os.ReadFile(filepath.Join(dir, "renewal.json"))
		if err == nil && strings.Contains(string(b), `"to":"1.2.0"`) {
			g.set(true) // and reaches nobody
			return true
		}
		return false
	})
	w.awaitFor(t, 2*time.Minute, "it is taken back", func() bool {
		b, _ := os.ReadFile(filepath.Join(dir, "renewal.json"))
		return strings.Contains(string(b), "taken_back")
	})
	g.set(false)
	runs("1.1.0")
	w.awaitFor(t, 2*time.Minute, "the rollout is told", func() bool {
		for _, d := range w.rolloutDevices(t, second) {
			return d.State == "failed"
		}
		return false
	})

	other := filepath.Join(t.TempDir(), "key")
	pub, _ := os.ReadFile(filepath.Join(releases, "release.pub"))
	releaseOf(t, "1.3.0", releases, other)
	theirs, _ := os.ReadFile(filepath.Join(releases, "release.pub"))
	if err := os.WriteFile(filepath.Join(releases, "release.pub"), []byte(strings.TrimSpace(string(pub))+","+string(theirs)),
		0o644); err != nil {
		t.Fatal(err)
	}
	renew()
	w.await(t, "it refuses a release that another key signed", func() bool {
		b, _ := os.ReadFile(filepath.Join(dir, "log"))
		return strings.Contains(string(b), "not signed by a key that this program knows")
	})
}
