package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/agent"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
	"moorwatch.example/service"
	"moorwatch.example/service/db/cluster"
	"moorwatch.example/test/wait"
)

// effects counts what a simulated device ran, by run.
type effects struct {
	host.Runner
	mu   *sync.Mutex
	seen map[string]int
}

func (e effects) Run(ctx context.Context, c link.Command, stdout, stderr io.Writer) (int, error) {
	run := filepath.Base(c.Argv[len(c.Argv)-1])
	e.mu.Lock()
	e.seen[strings.TrimSuffix(run, filepath.Ext(run))]++
	e.mu.Unlock()
	return e.Runner.Run(ctx, c, stdout, stderr)
}

// startsWithin is how long the service may take to start once its database is back.
const startsWithin = 2 * time.Minute

// The agents, the service and the database are killed at moments of no choosing while a thousand runs
// go on: each run's effect happens at most once, each result arrives once, and none is unaccounted
// for.
func TestRunsThroughKills(t *testing.T) {
	if testing.Short() {
		t.Skip("kills for half a minute")
	}
	t.Parallel()
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	dir := filepath.Join(scratch, "postgres-jobs")
	base := must(cluster.Start(t.Context(), cluster.Options{Dir: dir}))(t)
	defer func() { base.Stop() }()
	forward := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	defer forward.Close()
	target := make(chan uint16, 1)
	target <- must(pgx.ParseConfig(base.URL))(t).Port
	go relay(forward, target)
	through := func(url string) string {
		return strings.Replace(url, fmt.Sprintf(":%d/", must(pgx.ParseConfig(url))(t).Port),
			fmt.Sprintf(":%d/", forward.Addr().(*net.TCPAddr).Port), 1)
	}
	config := service.Config{Database: through(base.URL), Owner: through(base.Owner), Connections: 6, Listen: freeAddress(t),
		Contents: t.TempDir()}
	var served *exec.Cmd
	start := func() (url, setUp string) {
		for began := time.Now(); ; { // it does not begin while the database is away
			var said bytes.Buffer
			served = exec.Command(os.Args[0])
			served.Stderr = &said
			served.Env = append(os.Environ(), "MOORWATCH_TEST_SERVICE="+config.Database, "MOORWATCH_TEST_OWNER="+config.Owner,
				"MOORWATCH_TEST_LISTEN="+config.Listen, "MOORWATCH_TEST_CONTENTS="+config.Contents)
			out := must(served.StdoutPipe())(t)
			if err := served.Start(); err != nil {
				t.Fatal(err)
			}
			fmt.Fscanln(out, &url, &setUp)
			if url != "" {
				return url, setUp
			}
			served.Process.Kill()
			served.Wait()
			if time.Since(began) > startsWithin {
				t.Fatalf("the service does not start: %s", said.String())
			}
		}
	}
	url, setUp := start()
	defer func() { served.Process.Kill(); served.Wait() }()
	w := &world{Service: &service.Service{URL: url}, config: config}
	w.token = w.setUp(t, url, setUp)
	w.owner = w.client(t, w.token)
	must(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: site}))(t)

	const simulated, real = 200, 3
	token := w.enrolmentToken(t, simulated+real)
	counted := effects{mu: &sync.Mutex{}, seen: map[string]int{}}
	var stops [simulated]func()
	var dirs [simulated]string
	var hosts [simulated]host.Host // a device keeps what was installed
	runs := func(i int) {
		if hosts[i].Informer == nil {
			hosts[i] = sim.Device{Name: fmt.Sprintf("hay-%03d", i), Kind: sim.Board, Seed: uint64(i)}.Host(time.Now)
		}
		h, e := hosts[i], counted
		e.Runner, h.Lister = h.Runner, nil
		h.Runner = e
		a := &agent.Agent{Dir: dirs[i], Host: h, Log: quiet, Every: 10 * time.Second}
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { a.Run(ctx); close(done) }()
		stops[i] = func() { cancel(); <-done }
	}
	for i := range simulated {
		dirs[i], _ = w.enrolWith(t, fmt.Sprintf("hay-%03d", i), token)
		runs(i)
		defer func() { stops[i]() }()
	}
	var machines [real]*exec.Cmd
	var homes [real]string
	for i := range real {
		homes[i], _ = w.enrolWith(t, fmt.Sprintf("real-%d", i), token)
		machines[i] = agentProcess(t, homes[i])
	}
	w.awaitFor(t, 2*time.Minute, "all are online", func() bool {
		n := 0
		for _, err := range w.owner.Devices(t.Context(), "online") {
			if err != nil {
				return false
			}
			n++
		}
		return n == simulated+real
	})
	place := t.TempDir()
	s := w.script(t, "Leaves a mark", "echo \"$0\" >> "+place+"/marks\nsleep 0.2\necho done\n", nil)
	var jobs []uuid.UUID
	for range 5 {
		jobs = append(jobs, w.job(t, api.NewJob{Script: &s.ID, Where: new(""), Limits: &job.Limits{AtOnce: 40, WaitHours: 1}}).ID)
	}
	// And a package of several steps with a file, which is taken up again in the middle.
	mark := work.Step{Do: work.Script, Interpreter: "sh", Body: "hostname\n"}
	deb := w.content(t, "marks_1.0_all.deb", make([]byte, 1<<16))
	p := w.pack(t, pack.Package{Name: "Marks", Version: "1.0", Files: []pack.File{deb},
		There:   pack.There{Condition: work.Condition{Kind: work.OfSoftware, Of: "marks"}},
		Install: []work.Step{mark, {Do: work.Install, File: "marks_1.0_all.deb", Repeatable: true}, mark}})
	packaged := w.job(t, api.NewJob{Package: &p.ID, Where: new("name.startsWith('hay-')"), Limits: &job.Limits{AtOnce: 40, WaitHours: 1}})
	jobs = append(jobs, packaged.ID)
	for round := range 12 {
		wait.Pause(t, time.Duration(200+r.IntN(600))*time.Millisecond) // a moment of no choosing
		switch round % 4 {
		case 0, 2:
			for range 20 {
				i := r.IntN(simulated)
				stops[i]()
				runs(i)
			}
			i := r.IntN(real)
			machines[i].Process.Kill()
			machines[i].Wait()
			machines[i] = agentBegun(t, homes[i])
		case 1:
			served.Process.Kill()
			served.Wait()
			start()
		case 3:
			base.Kill()
			base = must(cluster.Start(t.Context(), cluster.Options{Dir: dir}))(t)
			<-target
			target <- must(pgx.ParseConfig(base.URL))(t).Port
		}
	}
	ended := map[string]int{}
	states := map[string]int{}
	for _, id := range jobs {
		w.awaitFor(t, 6*time.Minute, "a job is over", func() bool {
			j, err := client.Result(w.owner.GetJobWithResponse(t.Context(), id))
			return err == nil && j.EndedAt != nil
		})
		for r, err := range client.Pages(func(cursor *string) (*api.RunPage, error) {
			return client.Result(w.owner.ListRunsWithResponse(t.Context(), id, &api.ListRunsParams{Cursor: cursor, Limit: new(500)}))
		}) {
			if err != nil {
				t.Fatal(err)
			}
			ended[r.ID.String()]++
			states[r.State]++
			if r.State != "succeeded" && r.State != "interrupted" {
				t.Errorf("the run at %s is %s: %s", r.DeviceName, r.State, *r.Reason)
			}
		}
	}
	t.Logf("%v", states)
	if len(ended) != 6*simulated+5*real || states["succeeded"] < len(ended)*3/4 {
		t.Errorf("%d runs of %d are accounted for, of which %d succeeded", len(ended), 6*simulated+5*real, states["succeeded"])
	}
	text, err := os.ReadFile(filepath.Join(place, "marks"))
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Fields(string(text)) {
		counted.seen[strings.TrimSuffix(filepath.Base(line), ".sh")]++
	}
	steps := 0
	for id, n := range counted.seen {
		run := id[:36] // a step of several has its number behind
		if run != id {
			steps++
		}
		if n > 1 || ended[run] != 1 {
			t.Errorf("%s happened %d times, and ended %d times", id, n, ended[run])
		}
	}
	if got := must(client.Result(w.owner.GetJobWithResponse(t.Context(), packaged.ID)))(t).Counts["succeeded"]; steps < 2*got {
		t.Errorf("of %d packages that were installed %d steps happened", got, steps)
	}
	if len(counted.seen) < states["succeeded"] {
		t.Errorf("%d runs succeeded, and %d happened", states["succeeded"], len(counted.seen))
	}
}

// agentBegun runs a real agent in a process of its own, without waiting until it is connected.
func agentBegun(t *testing.T, dir string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "MOORWATCH_TEST_AGENT="+dir)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	return cmd
}
