package reporting

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"moorwatch.example/agent/calls"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/update"
	"moorwatch.example/test/scratch"
	"moorwatch.example/test/wait"
)

// service stands in for the service at the end of a link.
type service struct {
	mu        sync.Mutex
	t         *testing.T
	away      bool // it answers 503
	reports   []link.Report
	facts     []device.Facts
	settings  link.Settings
	snapshot  inventory.Snapshot
	deltas    int
	forgotten bool // it has lost the inventory, and the updates
	updates   []link.Updates
	digest    string
	refuse    uint64 // a report
}

func (s *service) RoundTrip(r *http.Request) (*http.Response, error) {
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	return w.Result(), r.Context().Err()
}

func (s *service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	read := func(in any) {
		if err := json.NewDecoder(r.Body).Decode(in); err != nil {
			s.t.Errorf("%s: %v", r.URL.Path, err)
		}
	}
	switch r.URL.Path {
	case "/facts":
		var f device.Facts
		read(&f)
		s.facts = append(s.facts, f)
	case "/reports":
		var b link.Batch
		read(&b)
		receipt := link.Receipt{Settings: s.settings.Digest}
		for _, one := range b.Reports {
			receipt.Through = one.Seq
			if one.Seq == s.refuse {
				receipt.Refused = append(receipt.Refused, link.Refused{Seq: one.Seq, Reason: "no device can have it"})
				continue
			}
			s.reports = append(s.reports, one)
		}
		json.NewEncoder(w).Encode(receipt)
	case "/settings":
		json.NewEncoder(w).Encode(s.settings)
	case "/inventory":
		var d inventory.Delta
		read(&d)
		if s.forgotten {
			s.snapshot, s.forgotten = nil, false
		}
		after, err := s.snapshot.Apply(d)
		if err != nil {
			http.Error(w, err.Error(), http.StatusConflict)
			return
		}
		s.snapshot, s.deltas = after, s.deltas+1
		w.WriteHeader(http.StatusNoContent)
	case "/updates":
		var u link.Updates
		read(&u)
		if !u.Whole && u.Digest != s.digest {
			http.Error(w, "tell all of it", http.StatusConflict)
			return
		}
		s.digest, s.updates = u.Digest, append(s.updates, u)
		w.WriteHeader(http.StatusNoContent)
	default:
		s.t.Errorf("the agent calls %s", r.URL.Path)
		http.NotFound(w, r)
	}
}

// do does something while nothing is served.
func (s *service) do(change func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change()
}

// is waits until something holds.
func (s *service) is(what string, holds func() bool) {
	s.t.Helper()
	wait.Until(s.t, 20*time.Second, what, func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return holds()
	})
}

var quiet = slog.New(slog.DiscardHandler)

func desk(t *testing.T) host.Host {
	t.Helper()
	d := sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 7, Address: "192.0.2.10", Dir: scratch.Dir(t)}
	return d.Host(time.Now)
}

// reporter opens a reporter in a folder, which reads the device until the test ends.
func reporter(t *testing.T, dir string, h host.Host) (r *Reporter, stop func()) {
	t.Helper()
	r, err := Open(dir, h, quiet, 20*time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		r.Run(ctx)
	}()
	stop = func() { cancel(); <-done }
	t.Cleanup(stop)
	return r, stop
}

// connect has a reporter send to a service, until the test or the caller ends it.
func connect(t *testing.T, r *Reporter, s *service, anew func()) (hangUp func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		r.Send(ctx, calls.By(s), r.host.Without(r.Settings().Agent().Withhold), anew)
	}()
	hangUp = func() { cancel(); <-done }
	t.Cleanup(hangUp)
	return hangUp
}

// Reports are numbered without gaps, kept while nobody takes them and through a restart of the agent, and sent once.
func TestReportsAreKeptUntilTheyAreTaken(t *testing.T) {
	dir, s := scratch.Dir(t), &service{t: t, away: true}
	r, stop := reporter(t, dir, desk(t))
	hangUp := connect(t, r, s, func() {})
	wait.Until(t, 20*time.Second, "some reports are kept", func() bool { return r.spool.Len() > 3 })
	hangUp()
	stop()
	kept := r.spool.Len()
	r, _ = reporter(t, dir, desk(t))
	s.do(func() { s.away = false })
	hangUp = connect(t, r, s, func() {})
	s.is("what was kept and more has come", func() bool { return len(s.reports) > kept+2 })
	hangUp()
	s.do(func() {
		seen := map[uint64]int{}
		for i, one := range s.reports[:kept] {
			if one.Seq != uint64(i+1) {
				t.Errorf("report %d has the number %d", i+1, one.Seq)
			}
		}
		for _, one := range s.reports[kept:] { // of another epoch
			if seen[one.Seq]++; seen[one.Seq] > 1 {
				t.Errorf("report %d came twice", one.Seq)
			}
		}
		if len(s.facts) != 1 || s.facts[0].AgentVersion == "" || !slices.Contains(s.facts[0].Capabilities, device.CapabilityVitals) {
			t.Errorf("facts: %+v", s.facts)
		}
	})
}

func TestARefusedReportDoesNotHoldTheOthers(t *testing.T) {
	s := &service{t: t, refuse: 2}
	r, _ := reporter(t, scratch.Dir(t), desk(t))
	connect(t, r, s, func() {})
	s.is("later ones have come", func() bool { return len(s.reports) > 2 })
	s.do(func() {
		if slices.ContainsFunc(s.reports, func(one link.Report) bool { return one.Seq == 2 }) {
			t.Error("the refused one was taken")
		}
	})
}

// What a service asks for is read when its digest is another, holds through a restart, and what is withheld has the
// agent connect anew.
func TestSettings(t *testing.T) {
	dir, s := scratch.Dir(t), &service{t: t}
	s.settings = link.Settings{Digest: "one", Agent: health.Agent{ReportSeconds: 3600},
		Probes: []device.Probe{{Kind: device.ProbePing, Target: "25", Every: 30}}}
	r, stop := reporter(t, dir, desk(t))
	anew := make(chan struct{}, 1)
	hangUp := connect(t, r, s, func() { anew <- struct{}{} })
	wait.Until(t, 20*time.Second, "the settings are there", func() bool { return r.Settings().Agent().ReportSeconds == 3600 })
	if got := r.pace(); got != time.Hour {
		t.Errorf("it reports every %s", got)
	}
	wait.Until(t, 20*time.Second, "the port was probed", func() bool { return len(r.Settings().results()) == 1 })
	if got := r.Settings().results()[0]; got.Kind != device.ProbePing || got.Target != "25" || got.At.IsZero() {
		t.Errorf("probed %+v", got)
	}
	hangUp()
	stop()

	r, _ = reporter(t, dir, desk(t))
	if r.Settings().digest() != "one" || len(r.Settings().results()) != 0 {
		t.Errorf("after a restart: %q, and results %v of before", r.Settings().digest(), r.Settings().results())
	}
	s.do(func() {
		s.settings = link.Settings{Digest: "two", Agent: health.Agent{Withhold: []string{device.CapabilityShell}}}
	})
	r.measured(t)
	connect(t, r, s, func() { anew <- struct{}{} })
	select {
	case <-anew:
	case <-time.After(20 * time.Second):
		t.Fatal("the agent is not told to connect anew")
	}
	if offered := r.host.Without(r.Settings().Agent().Withhold); offered.Offers(device.CapabilityShell) {
		t.Error("what is withheld is offered")
	}
	if len(r.Settings().results()) > 0 {
		t.Error("a probe that nobody asks for any more is told of")
	}
}

// measured has a report kept at once.
func (r *Reporter) measured(t *testing.T) {
	t.Helper()
	v, err := Read(t.Context(), r.host.Meter)
	if err == nil {
		err = r.spool.Add(v)
	}
	if err != nil {
		t.Fatal(err)
	}
	poke(r.fresh)
}

func TestDamagedSettingsAreReadAnew(t *testing.T) {
	dir := scratch.Dir(t)
	if err := os.WriteFile(dir+"/settings.json", []byte(`{"digest": "one", "probes": [{`), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := openSettings(dir + "/settings.json"); got.digest() != "" || got.due(time.Now()) != nil {
		t.Errorf("damaged settings are %q", got.digest())
	}
}

func TestProbesComeAtTheirPace(t *testing.T) {
	w := openSettings(scratch.Dir(t) + "/settings.json")
	if err := w.set(link.Settings{Probes: []device.Probe{{Kind: device.ProbePing, Target: "25", Every: 60},
		{Kind: device.ProbePing, Target: "80", Every: 1}}}); err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	for _, step := range []struct {
		after time.Duration
		want  int
	}{{0, 2}, {time.Second, 0}, {device.MinProbe * time.Second, 1}, {59 * time.Second, 1}, {60 * time.Second, 1}} {
		if got := w.due(now.Add(step.after)); len(got) != step.want {
			t.Errorf("after %s %d are due, want %d", step.after, len(got), step.want)
		}
	}
	many := make([]device.Probe, device.MaxProbes+5)
	if err := w.set(link.Settings{Probes: many}); err != nil || len(w.settings.Probes) != device.MaxProbes {
		t.Errorf("%d probes are taken, %v", len(w.settings.Probes), err)
	}
}

func TestInventoryGoesAsDifferences(t *testing.T) {
	dir, s := scratch.Dir(t), &service{t: t}
	h := desk(t)
	r, stop := reporter(t, dir, h)
	take := func() {
		t.Helper()
		if err := r.TakeInventory(t.Context(), calls.By(s)); err != nil {
			t.Fatal(err)
		}
	}
	if r.Inventory() != nil {
		t.Error("an inventory is there before it was taken")
	}
	take()
	s.do(func() {
		if len(s.snapshot) == 0 || s.snapshot.Digest() != r.Inventory().Digest() {
			t.Errorf("the service has %d items, the device %d", len(s.snapshot), len(r.Inventory()))
		}
		s.forgotten = true
	})
	take() // the service has lost it, and is sent the whole
	s.do(func() {
		if s.snapshot.Digest() != r.Inventory().Digest() {
			t.Error("the service has another inventory than the device")
		}
	})
	stop()
	r, _ = reporter(t, dir, h) // who remembers what the service has
	before := s.deltas
	connect(t, r, s, func() {})
	r.InventoryChanged()
	s.is("it was taken once more", func() bool { return s.deltas > before })

	broken := h
	broken.Lister = failing{}
	r, _ = reporter(t, scratch.Dir(t), broken)
	if err := r.TakeInventory(t.Context(), calls.By(s)); !errors.Is(err, errFailing) {
		t.Errorf("an inventory that cannot be taken: %v", err)
	}
	s.do(func() { s.away = true })
	r, _ = reporter(t, scratch.Dir(t), h)
	if err := r.TakeInventory(t.Context(), calls.By(s)); err == nil || r.Inventory() != nil {
		t.Errorf("what the service did not take is taken for told: %v", err)
	}
}

var errFailing = errors.New("the list cannot be read")

type failing struct{}

func (failing) Items(context.Context) ([]inventory.Item, error)        { return nil, errFailing }
func (failing) Missing(context.Context, bool) ([]update.Update, error) { return nil, errFailing }

// offering offers what a test says.
type offering struct {
	host.Updates
	all   []update.Update
	err   error
	fresh int
}

func (o *offering) Missing(_ context.Context, fresh bool) ([]update.Update, error) {
	if fresh {
		o.fresh++
	}
	return o.all, o.err
}

func TestUpdatesAreToldOnce(t *testing.T) {
	s, h := &service{t: t}, desk(t)
	offers := &offering{all: []update.Update{{Source: "apt", Name: "editor", To: "2.0"}}}
	h.Updates = offers
	r, _ := reporter(t, scratch.Dir(t), h)
	tell := func(fresh bool) (err error) {
		t.Helper()
		return r.tellUpdates(t.Context(), calls.By(s), fresh)
	}
	last := func() link.Updates { return s.updates[len(s.updates)-1] }
	if err := tell(true); err != nil || !last().Whole || len(last().All) != 1 {
		t.Errorf("first: %v, %+v", err, s.updates)
	}
	if err := tell(false); err != nil || last().Whole || len(last().All) != 0 {
		t.Errorf("the same once more: %v, %+v", err, last())
	}
	offers.err = errors.New("the mirror is away")
	if err := tell(true); err != nil || last().Failed != "the mirror is away" || !last().Whole {
		t.Errorf("with a source away: %v, %+v", err, last())
	}
	offers.all, offers.err = []update.Update{}, nil
	if err := tell(true); err != nil || !last().Whole || len(last().All) != 0 {
		t.Errorf("nothing is missing: %v, %+v", err, last())
	}
	offers.all, offers.err = nil, errFailing
	before := len(s.updates)
	if err := tell(true); !errors.Is(err, errFailing) || len(s.updates) != before {
		t.Errorf("nothing is known, and it is told: %v", err)
	}
	if offers.fresh != 4 {
		t.Errorf("the sources were asked %d times, want 4", offers.fresh)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := r.tellUpdates(ctx, calls.By(s), false); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
	offers.all, offers.err = []update.Update{{Source: "apt", Name: "shell", To: "6"}}, nil
	connect(t, r, s, func() {})
	r.UpdatesChanged()
	s.is("they are told after a change", func() bool {
		return len(s.updates) > before && len(last().All) == 1 && last().All[0].Name == "shell"
	})
}

func TestRemovalNeedsTheCode(t *testing.T) {
	dir := scratch.Dir(t)
	if err := MayLeave(dir, ""); err != nil {
		t.Errorf("an agent that nobody protects: %v", err)
	}
	w := openSettings(dir + "/settings.json")
	// SHA-256 of abcde-fghij
	if err := w.set(link.Settings{Agent: health.Agent{Protect: true,
		RemovalDigest: "741f4888fea1b7bb34e148c8ed6a7f8203f5885c65ddce0243e68bf786210ba4"}}); err != nil {
		t.Fatal(err)
	}
	if err := MayLeave(dir, " ABCDE-fghij\n"); err != nil {
		t.Errorf("the code itself: %v", err)
	}
	for _, code := range []string{"", "abcde-fghik", "741f4888fea1b7bb34e148c8ed6a7f8203f5885c65ddce0243e68bf786210ba4"} {
		if err := MayLeave(dir, code); err == nil {
			t.Errorf("the code %q is taken", code)
		}
	}
}
