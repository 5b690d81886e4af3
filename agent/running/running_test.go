package running

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
	"moorwatch.example/test/scratch"
	"moorwatch.example/test/wait"
)

// runner runs what a test says.
type runner func(ctx context.Context, c link.Command, stdout io.Writer) (int, error)

func (f runner) Run(ctx context.Context, c link.Command, stdout, _ io.Writer) (int, error) {
	return f(ctx, c, stdout)
}

// device is the runs of a device with the service that hears of them.
type device struct {
	*Runs
	t    *testing.T
	dir  string
	host host.Host
	stop context.CancelFunc
	hang context.CancelFunc

	mu        sync.Mutex
	away      bool
	journals  []string
	results   []link.RunResult
	installed int
}

func begin(t *testing.T, dir string, run runner) *device {
	t.Helper()
	d := &device{t: t, dir: dir, host: host.Host{Runner: run}}
	d.restart()
	return d
}

// restart begins the runs anew, as after a start of the agent.
func (d *device) restart() {
	d.t.Helper()
	ctx, cancel := context.WithCancel(d.t.Context())
	r, err := Open(ctx, Config{Dir: d.dir, Host: d.host, Log: slog.New(slog.DiscardHandler), Seed: bytes.Repeat([]byte{7}, 32),
		Service: &calls.Current{}, Settings: func() health.Agent { return health.Agent{} }, Patched: func() {},
		Installed: func() { d.mu.Lock(); defer d.mu.Unlock(); d.installed++ }})
	if err != nil {
		d.t.Fatal(err)
	}
	d.Runs, d.stop = r, func() { cancel(); r.Close() }
	d.t.Cleanup(d.stop)
}

// connect has results told until the test or the caller ends it.
func (d *device) connect() {
	ctx, cancel := context.WithCancel(d.t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		d.Tell(ctx, calls.By(d))
	}()
	d.hang = func() { cancel(); <-done }
	d.t.Cleanup(d.hang)
}

func (d *device) RoundTrip(r *http.Request) (*http.Response, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	w := httptest.NewRecorder()
	switch {
	case d.away:
		w.WriteHeader(http.StatusServiceUnavailable)
	case r.URL.Path == "/journal":
		var j link.Journal
		json.NewDecoder(r.Body).Decode(&j)
		d.journals = append(d.journals, j.ID)
	case r.URL.Path == "/results":
		var one link.RunResult
		json.NewDecoder(r.Body).Decode(&one)
		d.results = append(d.results, one)
	default:
		d.t.Errorf("the agent calls %s", r.URL.Path)
	}
	return w.Result(), nil
}

// order is an order to run a script; change makes it another.
func (d *device) order(change func(o *link.RunOrder)) link.RunOrder {
	o := link.RunOrder{ID: uuid.NewString(), Journal: d.journal.ID(), Title: "tidy", Seconds: 60,
		Parts: []link.RunPart{{Name: "tidy", Steps: []work.Step{{Do: work.Run, Argv: []string{"tidy"}, Seconds: 50}}}}}
	if change != nil {
		change(&o)
	}
	return o
}

// send gives the device an order, and returns how it answers.
func (d *device) send(o link.RunOrder) (status link.RunStatus, code int, text string) {
	d.t.Helper()
	body, err := json.Marshal(o)
	if err != nil {
		d.t.Fatal(err)
	}
	w := httptest.NewRecorder()
	d.Serve(w, httptest.NewRequestWithContext(d.t.Context(), http.MethodPost, "/runs", bytes.NewReader(body)))
	json.Unmarshal(w.Body.Bytes(), &status)
	return status, w.Code, w.Body.String()
}

// result waits for how a run ended.
func (d *device) result(id string) (out link.RunResult) {
	d.t.Helper()
	wait.Until(d.t, 20*time.Second, "the end of a run is told", func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		for _, r := range d.results {
			if r.ID == id {
				out = r
				return true
			}
		}
		return false
	})
	return out
}

func TestARunIsCarriedOutOnce(t *testing.T) {
	ran := make(chan string, 10)
	d := begin(t, scratch.Dir(t), func(_ context.Context, c link.Command, out io.Writer) (int, error) {
		ran <- c.Argv[0]
		_, err := io.WriteString(out, "all is tidy\n")
		return 0, err
	})
	o := d.order(nil)
	if status, code, text := d.send(o); code != http.StatusOK || status.State == "" {
		t.Fatalf("%d %s", code, text)
	}
	d.connect()
	got := d.result(o.ID)
	if got.State != link.RunSucceeded || !strings.Contains(string(got.Head), "all is tidy") || got.EndedAt.Before(got.BeganAt) {
		t.Errorf("%+v", got)
	}
	if status, _, _ := d.send(o); status.State != link.RunEnded || status.Result == nil || status.Result.State != link.RunSucceeded {
		t.Errorf("sent again it is %+v", status)
	}
	if status, _, _ := d.send(d.order(func(o *link.RunOrder) { o.Journal = uuid.NewString() })); status.State == link.RunBegun {
		t.Error("an order for another journal was begun")
	} else if status.Journal != d.journal.ID() {
		t.Errorf("it is told the journal %q", status.Journal)
	}
	if len(ran) != 1 {
		t.Errorf("it ran %d times", len(ran))
	}
	if len(d.journals) != 1 || d.journals[0] != d.journal.ID() {
		t.Errorf("journals told: %q", d.journals)
	}
}

func TestOrdersThatAreRefused(t *testing.T) {
	d := begin(t, scratch.Dir(t), func(context.Context, link.Command, io.Writer) (int, error) {
		t.Error("it ran")
		return 0, nil
	})
	for name, change := range map[string]func(*link.RunOrder){
		"no identity":     func(o *link.RunOrder) { o.ID = "one" },
		"no time":         func(o *link.RunOrder) { o.Seconds = 0 },
		"no parts":        func(o *link.RunOrder) { o.Parts = nil },
		"no such step":    func(o *link.RunOrder) { o.Parts[0].Steps[0].Do = "sing" },
		"a closed window": func(o *link.RunOrder) { o.Window = -1 },
		"a file of no sum": func(o *link.RunOrder) {
			o.Parts[0].Files = []pack.File{{Name: "a", Size: 1, SHA256: "../../etc/passwd"}}
		},
		"a huge file": func(o *link.RunOrder) {
			o.Parts[0].Files = []pack.File{{Name: "a", Size: pack.MaxFile + 1, SHA256: strings.Repeat("0", 64)}}
		},
	} {
		if _, code, text := d.send(d.order(change)); code != http.StatusBadRequest {
			t.Errorf("%s: %d %s", name, code, text)
		}
	}
	w := httptest.NewRecorder()
	d.Serve(w, httptest.NewRequestWithContext(t.Context(), http.MethodPost, "/runs", strings.NewReader("{")))
	if w.Code != http.StatusBadRequest {
		t.Errorf("a broken order: %d", w.Code)
	}
}

func TestHowRunsEnd(t *testing.T) {
	hangs := func(ctx context.Context, _ link.Command, _ io.Writer) (int, error) {
		<-ctx.Done()
		return 0, context.Cause(ctx)
	}
	tests := []struct {
		name   string
		run    runner
		order  func(*link.RunOrder)
		state  string
		reason string
	}{
		{"another exit status", func(context.Context, link.Command, io.Writer) (int, error) { return 3, nil }, nil, link.RunFailed, ""},
		{"it cannot be started", func(context.Context, link.Command, io.Writer) (int, error) {
			return 0, errors.New("no such program")
		}, nil, link.RunFailed, "no such program"},
		{"a secret in what went wrong", func(_ context.Context, c link.Command, _ io.Writer) (int, error) {
			return 0, errors.New("cannot sign in with heather-1")
		}, func(o *link.RunOrder) { o.Secrets = map[string]string{"WORD": "heather-1"} }, link.RunFailed, "cannot sign in with ******"},
		{"its time is over", hangs, func(o *link.RunOrder) { o.Seconds, o.Parts[0].Steps[0].Seconds = 1, 1 }, link.RunTimedOut, "1s"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			d := begin(t, scratch.Dir(t), test.run)
			d.connect()
			o := d.order(test.order)
			d.send(o)
			got := d.result(o.ID)
			if got.State != test.state || !strings.Contains(got.Reason, test.reason) || (test.reason == "" && got.Reason != "") {
				t.Errorf("%s, %q; want %s, %q", got.State, got.Reason, test.state, test.reason)
			}
		})
	}
}

// Secrets are kept out of what is told, and long output keeps its beginning and its end.
func TestOutput(t *testing.T) {
	long := strings.Repeat("x", 3*(link.RunHead+link.RunTail))
	d := begin(t, scratch.Dir(t), func(_ context.Context, c link.Command, out io.Writer) (int, error) {
		for _, text := range []string{"the word is heather-1\n", long, "\nheather-1 was the word"} {
			if _, err := io.WriteString(out, text); err != nil {
				return 0, err
			}
		}
		return 0, nil
	})
	d.connect()
	o := d.order(func(o *link.RunOrder) { o.Secrets = map[string]string{"WORD": "heather-1", "SHORT": "x"} })
	d.send(o)
	got := d.result(o.ID)
	if all := string(got.Head) + string(got.Tail); strings.Contains(all, "heather-1") || !strings.HasPrefix(all, "the word is ******") ||
		!strings.HasSuffix(all, "****** was the word") {
		t.Errorf("told: %.60q … %q", all, all[len(all)-40:])
	}
	if len(got.Head) > link.RunHead || len(got.Tail) > link.RunTail || got.Dropped <= 0 {
		t.Errorf("%d bytes, %d bytes, %d dropped", len(got.Head), len(got.Tail), got.Dropped)
	}
}

func TestCancelling(t *testing.T) {
	began := make(chan struct{}, mostRuns+1)
	d := begin(t, scratch.Dir(t), func(ctx context.Context, _ link.Command, _ io.Writer) (int, error) {
		began <- struct{}{}
		<-ctx.Done()
		return 0, context.Cause(ctx)
	})
	d.connect()
	var all []link.RunOrder
	for range mostRuns + 1 {
		o := d.order(nil)
		d.send(o)
		all = append(all, o)
		if len(all) <= mostRuns {
			<-began
		}
	}
	for i := len(all) - 1; i >= 0; i-- { // the last has not begun
		status, err := d.Cancel(t.Context(), link.RunCancel{ID: all[i].ID})
		if err != nil || status.State == "" {
			t.Errorf("cancelling: %+v, %v", status, err)
		}
		want := "it was cancelled while it ran"
		if i == mostRuns {
			want = "it was cancelled before it began"
		}
		if got := d.result(all[i].ID); got.State != link.RunCancelled || got.Reason != want {
			t.Errorf("run %d: %s, %q; want %q", i, got.State, got.Reason, want)
		}
	}
	if len(began) > 0 {
		t.Error("the run that was cancelled before it began has begun")
	}
	if status, err := d.Cancel(t.Context(), link.RunCancel{ID: uuid.NewString()}); err != nil || status.State == link.RunBegun {
		t.Errorf("a run that nobody ordered: %+v, %v", status, err)
	}
}

// A result is kept until the service has it, through a restart of the agent; what was under way then is interrupted.
func TestResultsAreKept(t *testing.T) {
	release, began := make(chan struct{}), make(chan struct{}, 10)
	d := begin(t, scratch.Dir(t), func(ctx context.Context, c link.Command, _ io.Writer) (int, error) {
		if began <- struct{}{}; c.Argv[0] == "tidy" {
			return 0, nil
		}
		select {
		case <-release:
			return 0, nil
		case <-ctx.Done():
			return 0, context.Cause(ctx)
		}
	})
	defer close(release)
	d.away = true
	d.connect()
	quick, slow := d.order(nil), d.order(func(o *link.RunOrder) { o.Parts[0].Steps[0].Argv[0] = "slow" })
	d.send(quick)
	d.send(slow)
	<-began
	<-began
	wait.Until(t, 20*time.Second, "the quick one is over", func() bool { return len(d.journal.Waiting(5)) == 1 })
	d.hang()
	d.stop()
	d.restart()
	d.away = false
	d.connect()
	if got := d.result(quick.ID); got.State != link.RunSucceeded {
		t.Errorf("the one that was over is %s", got.State)
	}
	if got := d.result(slow.ID); got.State != string(job.Interrupted) {
		t.Errorf("the one that was under way is %s", got.State)
	}
	wait.Until(t, 20*time.Second, "nothing waits", func() bool { return len(d.journal.Waiting(5)) == 0 })
}

func TestWhatIsInstalledIsLookedAtAnew(t *testing.T) {
	d := begin(t, scratch.Dir(t), func(context.Context, link.Command, io.Writer) (int, error) { return 0, nil })
	d.connect()
	plain := d.order(nil)
	d.send(plain)
	d.result(plain.ID)
	if d.installed != 0 {
		t.Error("a script changed what is installed")
	}
	o := d.order(func(o *link.RunOrder) { o.Parts[0].Steps = []work.Step{{Do: work.CheckUpdates, Seconds: 5}} })
	d.send(o)
	d.result(o.ID)
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.installed != 1 {
		t.Errorf("after a look for updates the inventory is taken %d times", d.installed)
	}
}

func TestAJournalThatCannotBeWritten(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("a journal that is open keeps its folder there")
	}
	d := begin(t, scratch.Dir(t), func(context.Context, link.Command, io.Writer) (int, error) { return 0, nil })
	runs := filepath.Join(d.dir, "runs")
	if err := errors.Join(os.RemoveAll(runs), os.WriteFile(runs, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	if _, code, text := d.send(d.order(nil)); code != http.StatusInsufficientStorage {
		t.Errorf("%d %s", code, text)
	}
}
