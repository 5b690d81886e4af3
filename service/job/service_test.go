package job

import (
	"context"
	"errors"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/secret"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/part"
	"moorwatch.example/test/database"
	"moorwatch.example/test/wait"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// grounds are what the service stands on in these tests: a real database, and devices that are never connected.
type grounds struct {
	hub.Registry // of which nothing is asked
	front.Visibility

	pool *pgxpool.Pool
	bus  bus.Bus

	mu      sync.Mutex
	devices []fleet.Target
	rights  map[uuid.UUID]access.Rights
	entries []front.Entry
	ended   []bus.RunEnded
}

func (g *grounds) Exceeded(uuid.UUID, string) {}

func (g *grounds) Targets(*front.Caller, access.Permission, *string, *uuid.UUID) ([]fleet.Target, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.devices), nil
}

func (g *grounds) Known(id uuid.UUID) (fleet.Target, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	i := slices.IndexFunc(g.devices, func(d fleet.Target) bool { return d.ID == id })
	if i < 0 {
		return fleet.Target{}, false
	}
	return g.devices[i], true
}

func (g *grounds) Trusted(context.Context, string, *string, *uuid.UUID) error { return nil }
func (g *grounds) Publish(string, any)                                        {}

func (g *grounds) WindowUntil(*health.Place, string, time.Time) time.Time { return time.Time{} }
func (g *grounds) WindowNext(*health.Place, string, time.Time) time.Time  { return time.Time{} }

func (g *grounds) RightsOf(_ context.Context, person uuid.UUID) (access.Rights, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.rights[person], nil
}

func (g *grounds) Record(_ context.Context, e front.Entry) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.entries = append(g.entries, e)
	return nil
}
func (g *grounds) Note(e front.Entry) { g.Record(context.Background(), e) }

// add adds a device.
func (g *grounds) add(name string) fleet.Target {
	g.mu.Lock()
	defer g.mu.Unlock()
	id := uuid.New()
	t := fleet.Target{ID: id, Subject: &selector.Subject{ID: id.String(), Name: name, OS: "linux", Organisation: "Wader", Site: "Quay"},
		Place: &health.Place{Device: id.String(), Site: uuid.NewString(), Organisation: uuid.NewString()}}
	g.devices = append(g.devices, t)
	return t
}

// wren is who owns the jobs of these tests.
var wren = uuid.MustParse("6ba7b810-9dad-11d1-80b4-00c04fd430c8")

func ground(t *testing.T, devices ...string) *grounds {
	t.Helper()
	g := &grounds{pool: database.New(t), rights: map[uuid.UUID]access.Rights{wren: everybody}}
	g.person(t, wren)
	for _, name := range devices {
		g.add(name)
	}
	g.bus.RunEnded.Subscribe(func(_ context.Context, e bus.RunEnded) {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.ended = append(g.ended, e)
	})
	return g
}

func (g *grounds) person(t *testing.T, id uuid.UUID) {
	t.Helper()
	if _, err := g.pool.Exec(t.Context(), "INSERT INTO people (id, email, name, created_at) VALUES ($1, $2, 'Wren', now())", id,
		id.String()+"@curlew-sedge.example"); err != nil {
		t.Fatal(err)
	}
}

// service makes the service over the grounds, as a start does.
func (g *grounds) service(t *testing.T) *Service {
	t.Helper()
	ring, err := secret.NewRing("jobs", map[uint32][]byte{1: make([]byte, 32)})
	if err != nil {
		t.Fatal(err)
	}
	base := part.Base{Pool: g.pool, Audit: g, Bus: &g.bus}
	c := New(base, g, g, g, hub.New("test", g, http.NewServeMux(), &g.bus), ring, ring, t.TempDir())
	if err := c.Part().Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	return c
}

// begin begins a job of a script, as a person does.
func (g *grounds) begin(t *testing.T, c *Service, when job.When) uuid.UUID {
	t.Helper()
	j := newJob{id: uuid.New(), name: "tidy", work: job.Work{Name: "tidy", Action: job.RunIt}, state: job.JobRunning, origin: "person",
		beginAt: time.Now(), by: "wren@curlew-sedge.example", owner: wren, when: when, limits: job.Limits{WaitHours: 1},
		values: map[string]string{}, deadline: time.Now().Add(time.Hour)}
	if !when.Standing() {
		j.runs = once(j.work, g.devices, j.beginAt, j.deadline)
	}
	if err := c.put(t.Context(), j, front.Entry{Actor: j.by, Action: "job.begin", Result: "begun"}); err != nil {
		t.Fatal(err)
	}
	return j.id
}

// states counts a job's runs in the database by their states.
func (g *grounds) states(t *testing.T, id uuid.UUID) map[string]int {
	t.Helper()
	rows, err := g.pool.Query(t.Context(), "SELECT state, count(*)::int FROM runs WHERE job_id = $1 GROUP BY state", id)
	if err != nil {
		t.Fatal(err)
	}
	out, state, n := map[string]int{}, "", 0
	if _, err := pgx.ForEachRow(rows, []any{&state, &n}, func() error { out[state] = n; return nil }); err != nil {
		t.Fatal(err)
	}
	return out
}

func (g *grounds) jobState(t *testing.T, id uuid.UUID) (state string, over bool) {
	t.Helper()
	if err := g.pool.QueryRow(t.Context(), "SELECT state, ended_at IS NOT NULL FROM jobs WHERE id = $1", id).Scan(&state,
		&over); err != nil {
		t.Fatal(err)
	}
	return state, over
}

// A start of the service takes up what is not over, and a job that is cancelled ends with its last run.
func TestJobsGoOnAfterAStart(t *testing.T) {
	g := ground(t, "heron", "crake", "wren")
	first := g.service(t)
	id := g.begin(t, first, job.When{})
	for range 2 { // the second time it was begun before
		if err := first.Carry(t.Context(), uuid.NewSHA1(id, []byte("ring")), "ring", wren, "wren", nil, []uuid.UUID{g.devices[0].ID}, false,
			job.Limits{}); err != nil {
			t.Fatal(err)
		}
	}
	c := g.service(t)
	if all, over, away, err := c.Progress(t.Context(), id); err != nil || all != 3 || over != 0 || away != 3 {
		t.Fatalf("%d runs, %d over, %d away, %v", all, over, away, err)
	}
	if err := c.End(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	if got := g.states(t, id); got["cancelled"] != 3 || len(got) != 1 {
		t.Errorf("runs: %v", got)
	}
	c.settle(t.Context())
	if state, over := g.jobState(t, id); state != "cancelled" || !over {
		t.Errorf("the job is %s, over: %v", state, over)
	}
	if all, over, away, err := c.Progress(t.Context(), id); err != nil || all != 3 || over != 3 || away != 0 {
		t.Errorf("from the database: %d runs, %d over, %d away, %v", all, over, away, err)
	}
	if err := c.End(t.Context(), id); err != nil {
		t.Errorf("a job that is over is ended: %v", err)
	}
	if again := g.service(t); again.schedule.Job(id) != nil {
		t.Error("a job that is over was taken up")
	}
}

// How a run ended is written once, by its own device alone, and told to others once.
func TestResultsAreWrittenOnce(t *testing.T) {
	g := ground(t, "heron")
	c := g.service(t)
	id := uuid.New()
	if err := c.Carry(t.Context(), id, "ring", wren, "wren", nil, []uuid.UUID{g.devices[0].ID}, false, job.Limits{}); err != nil {
		t.Fatal(err)
	}
	r := c.schedule.At(g.devices[0].ID)[0]
	exit := 3
	end := outcome{End: job.End{Run: r.ID, Device: r.Device, State: job.Failed, At: time.Now()}, exit: &exit, head: []byte("no\n")}
	foreign := end
	foreign.Device = uuid.New()
	for _, o := range []outcome{foreign, end, end} {
		if err := c.end(t.Context(), []outcome{o}); err != nil {
			t.Fatal(err)
		}
	}
	if got := g.states(t, id); got["failed"] != 1 {
		t.Errorf("runs: %v", got)
	}
	if len(g.ended) != 1 || g.ended[0].Job != id || g.ended[0].Reason != "exit status 3" || g.ended[0].Succeeded {
		t.Errorf("told: %+v", g.ended)
	}
	c.settle(t.Context())
	if state, over := g.jobState(t, id); state != "done" || !over {
		t.Errorf("the job is %s, over: %v", state, over)
	}
}

// What cannot be put on record has not happened: the job is as it was, and can be steered later.
func TestADatabaseThatIsAway(t *testing.T) {
	g := ground(t, "heron")
	c := g.service(t)
	id := g.begin(t, c, job.When{})
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if err := c.steer(gone, id, job.JobPaused); err == nil {
		t.Error("a job was paused that could not be put on record")
	}
	if err := c.steer(gone, id, job.JobCancelled); err == nil {
		t.Error("a job was cancelled that could not be put on record")
	}
	if state, _ := g.jobState(t, id); state != "running" || c.schedule.Job(id).State != job.JobRunning {
		t.Errorf("the job is %s, and %s in memory", state, c.schedule.Job(id).State)
	}
	if err := c.steer(t.Context(), id, job.JobPaused); err != nil {
		t.Fatal(err)
	}
	if state, _ := g.jobState(t, id); state != "paused" {
		t.Errorf("the job is %s", state)
	}
	if c := g.service(t); c.schedule.Job(id).State != job.JobPaused {
		t.Error("a start resumed it")
	}
	var problem *front.Error
	if err := c.steer(t.Context(), uuid.New(), job.JobPaused); !errors.As(err, &problem) {
		t.Errorf("a job that there is none of: %v", err)
	}
}

// A job that follows devices runs once on each, whenever it comes to be meant and however often the service starts.
func TestJobsFollowDevices(t *testing.T) {
	g := ground(t, "heron")
	c := g.service(t)
	id := g.begin(t, c, job.When{Follow: true})
	due := func(c *Service) {
		t.Helper()
		if err := c.beginDue(t.Context(), c.open[id], time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	due(c)
	due(c)
	if got := g.states(t, id); got["waiting"] != 1 {
		t.Fatalf("runs: %v", got)
	}
	g.add("crake")
	c = g.service(t)
	due(c)
	due(c)
	if got := g.states(t, id); got["waiting"] != 2 {
		t.Errorf("with one more device: %v", got)
	}
	turns := 0
	for _, e := range g.entries {
		if e.Action == "job.turn" {
			turns++
		}
	}
	if turns != 2 {
		t.Errorf("%d turns are on record, want 2", turns)
	}
}

// What happens to a device reaches the jobs that wait for it over the bus.
func TestJobsAnswerWhatHappens(t *testing.T) {
	g := ground(t, "heron", "crake")
	c := g.service(t)
	any, disk := g.begin(t, c, job.When{Event: job.Checked}), g.begin(t, c, job.When{Event: job.Checked, Check: "disk"})
	enrolled := g.begin(t, c, job.When{Event: job.Enrolled})
	ctx, cancel := context.WithCancel(t.Context())
	var standing sync.WaitGroup
	standing.Go(func() { c.stand(ctx) })
	defer standing.Wait()
	defer cancel()
	g.bus.AlertOpened.Publish(ctx, bus.AlertOpened{Device: g.devices[0].ID, Check: "memory"})
	g.bus.AlertOpened.Publish(ctx, bus.AlertOpened{Device: g.devices[1].ID, Check: "disk"})
	g.bus.DeviceEnrolled.Publish(ctx, g.devices[1].ID)
	wait.Until(t, 20*time.Second, "all have answered", func() bool {
		return g.states(t, any)["waiting"] == 2 && g.states(t, disk)["waiting"] == 1 && g.states(t, enrolled)["waiting"] == 1
	})
	g.bus.AlertOpened.Publish(ctx, bus.AlertOpened{Device: g.devices[1].ID, Check: "disk"}) // beside a run that is not over
	g.bus.AlertOpened.Publish(ctx, bus.AlertOpened{Device: g.devices[0].ID, Check: "disk"})
	wait.Until(t, 20*time.Second, "the other device's is there", func() bool { return g.states(t, disk)["waiting"] == 2 })
	if got := g.states(t, any)["waiting"]; got != 2 {
		t.Errorf("%d runs, and one at a time is enough", got)
	}
}

// What whoever began a job may do no longer waits until somebody adopts it.
func TestJobsWaitForAnOwner(t *testing.T) {
	g := ground(t, "heron")
	c := g.service(t)
	id := g.begin(t, c, job.When{})
	r := c.schedule.At(g.devices[0].ID)[0]
	waits := func(want string) {
		t.Helper()
		c.mu.Lock()
		defer c.mu.Unlock()
		if why, _ := c.schedule.Obstacle(r, time.Now()); why != want {
			t.Errorf("it waits %q, want %q", why, want)
		}
	}
	waits("for the device, which is not connected")
	crake := uuid.New()
	g.person(t, crake)
	g.mu.Lock()
	g.rights = map[uuid.UUID]access.Rights{crake: everybody}
	g.mu.Unlock()
	g.bus.RightsChanged.Publish(t.Context(), bus.RightsChanged{Person: wren})
	waits("until somebody adopts the job: whoever began it may not do this here any more")
	seen := api.Job{ID: id}
	if c.tellOwned(&seen); seen.Unowned == nil || !*seen.Unowned {
		t.Error("nobody is told that it is to be adopted")
	}
	if err := c.Adopt(t.Context(), id, crake, "crake@curlew-sedge.example"); err != nil {
		t.Fatal(err)
	}
	waits("for the device, which is not connected")
	if c = g.service(t); c.open[id].owner != crake || c.whose(id) != "crake@curlew-sedge.example" {
		t.Error("after a start it belongs to somebody else")
	}
}

// Secrets are sealed under the latest key, and read again after that.
func TestSecretsOfJobsAreSealedAnew(t *testing.T) {
	g := ground(t, "heron")
	c := g.service(t)
	id := uuid.New()
	sealed, err := c.hide(id, map[string]string{"WORD": "heather"})
	if err != nil {
		t.Fatal(err)
	}
	j := newJob{id: id, name: "tidy", state: job.JobRunning, origin: "person", beginAt: time.Now(), deadline: time.Now(), owner: wren,
		values: map[string]string{}, secrets: sealed, runs: once(job.Work{}, g.devices, time.Now(), time.Now())}
	if err := c.store.addJob(t.Context(), j); err != nil {
		t.Fatal(err)
	}
	if n, err := c.Part().Reseal(t.Context()); n != 0 || err != nil {
		t.Errorf("%d sealed anew though the key is the latest, %v", n, err)
	}
	if err := c.box.Set(map[uint32][]byte{1: make([]byte, 32), 2: append(make([]byte, 31), 1)}); err != nil {
		t.Fatal(err)
	}
	if n, err := c.Part().Reseal(t.Context()); n != 1 || err != nil {
		t.Errorf("%d sealed anew, %v", n, err)
	}
	all, err := c.store.unended(t.Context())
	if err != nil || len(all) != 1 || slices.Equal(all[0].secrets, sealed) {
		t.Fatalf("%d jobs, %v", len(all), err)
	}
	if got, err := c.reveal(id, all[0].secrets); err != nil || got["WORD"] != "heather" {
		t.Errorf("read again: %v, %v", got, err)
	}
	if _, err := c.reveal(uuid.New(), all[0].secrets); err == nil {
		t.Error("another job's secrets are read")
	}
}

func TestJobsThatEndedLongAgoAreForgotten(t *testing.T) {
	g := ground(t, "heron")
	c := g.service(t)
	old, young := g.begin(t, c, job.When{}), g.begin(t, c, job.When{})
	for _, id := range []uuid.UUID{old, young} {
		if err := c.End(t.Context(), id); err != nil {
			t.Fatal(err)
		}
	}
	c.settle(t.Context())
	if _, err := g.pool.Exec(t.Context(), "UPDATE jobs SET ended_at = now() - interval '3 years' WHERE id = $1", old); err != nil {
		t.Fatal(err)
	}
	if err := c.Part().Expire(t.Context()); err != nil {
		t.Fatal(err)
	}
	var left []uuid.UUID
	rows, err := g.pool.Query(t.Context(), "SELECT id FROM jobs WHERE id = ANY($1)", []uuid.UUID{old, young})
	if err == nil {
		left, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	}
	if err != nil || !slices.Equal(left, []uuid.UUID{young}) {
		t.Errorf("left: %v, %v", left, err)
	}
}

// A device is given the files of a run once it was told of it, also by the service that started since.
func TestFilesAreForWhoWasTold(t *testing.T) {
	g := ground(t, "heron", "crake")
	c := g.service(t)
	digest := strings.Repeat("ab", 32)
	p := pack.Package{Name: "tool", Version: "1", Files: []pack.File{{Name: "tool.deb", SHA256: digest, Size: 1}}}
	j := newJob{id: uuid.New(), name: "tool", work: job.OfParts("tool", pack.Part{Package: p}), state: job.JobRunning, origin: "person",
		beginAt: time.Now(), by: "wren", owner: wren, values: map[string]string{}, deadline: time.Now().Add(time.Hour)}
	j.runs = once(j.work, g.devices, j.beginAt, j.deadline)
	if err := c.put(t.Context(), j, front.Entry{Action: "job.begin"}); err != nil {
		t.Fatal(err)
	}
	heron, crake := g.devices[0].ID, g.devices[1].ID
	for _, c := range []*Service{c, g.service(t)} {
		if c.brings(heron, digest) || c.brings(crake, digest) {
			t.Error("a device is given the files of a run that it was not told of")
		}
	}
	told := c.schedule.At(heron)
	if err := c.store.sent(t.Context(), []uuid.UUID{told[0].ID}, []string{"a journal"}); err != nil {
		t.Fatal(err)
	}
	c.schedule.Sent(told, time.Now())
	for _, c := range []*Service{c, g.service(t)} {
		if !c.brings(heron, digest) || c.brings(crake, digest) || c.brings(heron, strings.Repeat("cd", 32)) {
			t.Error("who was told of a run, and of which files, is not who is given them")
		}
	}
}
