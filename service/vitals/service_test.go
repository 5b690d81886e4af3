package vitals

import (
	"context"
	"errors"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/part"
	"moorwatch.example/test/database"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// ground is the service over a database, without links.
type ground struct {
	*Service
	t       *testing.T
	pool    *pgxpool.Pool
	devices []uuid.UUID

	mu     sync.Mutex
	judged map[uuid.UUID]int
}

func (g *ground) SettingsDigest(id uuid.UUID) string { return "settings of " + id.String() }

func begin(t *testing.T, names ...string) *ground {
	t.Helper()
	g := &ground{t: t, pool: database.New(t), judged: map[uuid.UUID]int{}}
	g.devices, _ = database.Devices(t, g.pool, names...)
	events := &bus.Bus{}
	events.DevicesChanged.Subscribe(func(_ context.Context, all []uuid.UUID) {
		g.mu.Lock()
		defer g.mu.Unlock()
		for _, id := range all {
			g.judged[id]++
		}
	})
	g.Service = New(part.Base{Pool: g.pool, Bus: events}, nil, g, nil, series.UsualKeep)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); g.Part().Run[0](ctx) }()
	t.Cleanup(func() { cancel(); <-done })
	return g
}

// epoch is of the spool of these tests' devices.
const epoch = "0b5a2f9e-3d6c-4a58-9a59-0d8a6e2b7c11"

// reports are readings of a device, a minute apart, with numbers from first on.
func reports(first uint64, n int, change func(i int, v *device.Vitals)) (all []link.Report) {
	for i := range n {
		v := device.Vitals{At: time.Now().Add(time.Duration(i-n) * time.Minute), CPU: float64(10 + i), Memory: 40, MemoryBytes: 8 << 30,
			MemoryUsedBytes: 3 << 30, UptimeSeconds: int64(1000 + 60*i)}
		if change != nil {
			change(i, &v)
		}
		all = append(all, link.Report{Seq: first + uint64(i), Vitals: v})
	}
	return all
}

// sends sends reports as a device does, and returns what it is answered.
func (g *ground) sends(id uuid.UUID, batch []link.Report) (link.Receipt, error) {
	g.t.Helper()
	w := waiting{g.t.Context(), id, link.Batch{Epoch: epoch, Sent: time.Now(), Reports: batch}, time.Now(), make(chan answer, 1)}
	g.queue <- w
	select {
	case a := <-w.done:
		return a.receipt, a.err
	case <-time.After(30 * time.Second):
		g.t.Fatal("no answer")
		return link.Receipt{}, nil
	}
}

// stored counts what is kept of a device's reports.
func (g *ground) stored(id uuid.UUID) (n int) {
	g.t.Helper()
	if err := g.pool.QueryRow(g.t.Context(), "SELECT count(*) FROM readings WHERE device_id = $1", id).Scan(&n); err != nil {
		g.t.Fatal(err)
	}
	return n
}

// However often a report is sent, it is stored once, and its receipt says up to which it is.
func TestReportsAreStoredOnce(t *testing.T) {
	g := begin(t, "heron")
	id := g.devices[0]
	all := reports(1, 6, nil)
	for _, step := range []struct {
		name    string
		batch   []link.Report
		through uint64
		stored  int
	}{
		{"some", all[:3], 3, 3},
		{"the same again", all[:3], 3, 3},
		{"half of them again", all[1:5], 5, 5},
		{"older ones alone", all[:2], 5, 5},
		{"the rest", all[5:], 6, 6},
	} {
		r, err := g.sends(id, step.batch)
		if err != nil || r.Through != step.through || len(r.Refused) > 0 || r.Settings != "settings of "+id.String() {
			t.Errorf("%s: %+v, %v; want through %d", step.name, r, err, step.through)
		}
		if got := g.stored(id); got != step.stored {
			t.Errorf("%s: %d are stored, want %d", step.name, got, step.stored)
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.judged[id] != 5 {
		t.Errorf("judged %d times", g.judged[id])
	}
}

// Who was signed in last is known after they went, also when they came and went between two batches.
func TestLastPeople(t *testing.T) {
	g := begin(t, "heron")
	id := g.devices[0]
	const both = "Ines Marlowe, Robin Quill"
	there := func(at int, names ...string) func(int, *device.Vitals) {
		return func(i int, v *device.Vitals) {
			for _, name := range names {
				if i == at {
					v.People = append(v.People, device.SignedIn{Name: name})
				}
			}
		}
	}
	for _, step := range []struct {
		name      string
		batch     []link.Report
		now, last string
		ago       time.Duration // of the last
	}{
		{"nobody yet", reports(1, 2, nil), "", "", -1},
		{"two, now", reports(3, 2, there(1, "Ines Marlowe", "Robin Quill")), both, both, time.Minute},
		{"they went", reports(5, 2, nil), "", both, time.Minute},
		{"one came and went", reports(7, 5, there(2, "Nell Harrow")), "", "Nell Harrow", 3 * time.Minute},
	} {
		if _, err := g.sends(id, step.batch); err != nil {
			t.Fatal(err)
		}
		var now, last []string
		var at *time.Time
		if err := g.pool.QueryRow(t.Context(), "SELECT people, last_people, last_people_at FROM devices WHERE id = $1", id).
			Scan(&now, &last, &at); err != nil {
			t.Fatal(err)
		}
		if strings.Join(now, ", ") != step.now || strings.Join(last, ", ") != step.last {
			t.Errorf("%s: %q are there, last were %q", step.name, now, last)
		}
		if step.ago < 0 != (at == nil) || at != nil && (time.Since(*at)-step.ago).Abs() > time.Minute {
			t.Errorf("%s: last at %v", step.name, at)
		}
	}
}

// What no device can have is refused by its number, and does not hold the others.
func TestImpossibleReportsAreRefused(t *testing.T) {
	g := begin(t, "heron")
	batch := reports(1, 4, func(i int, v *device.Vitals) {
		if i == 1 {
			v.CPU = 4000
		}
	})
	r, err := g.sends(g.devices[0], batch)
	if err != nil || r.Through != 4 || len(r.Refused) != 1 || r.Refused[0].Seq != 2 || r.Refused[0].Reason == "" {
		t.Errorf("%+v, %v", r, err)
	}
	if got := g.stored(g.devices[0]); got != 3 {
		t.Errorf("%d are stored, want 3", got)
	}
}

func TestReportsOfADeviceThatIsNotThere(t *testing.T) {
	g := begin(t, "heron")
	if r, err := g.sends(uuid.New(), reports(1, 2, nil)); !errors.Is(err, errUnknown) {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err := g.sends(g.devices[0], reports(1, 2, nil)); err != nil || r.Through != 2 {
		t.Errorf("another device's beside it: %+v, %v", r, err)
	}
}

// Many devices at once, each with several batches: all are stored, in order, and each is answered for itself.
func TestManyDevicesReportAtOnce(t *testing.T) {
	names := make([]string, 30)
	for i := range names {
		names[i] = "heron"
	}
	g := begin(t, names...)
	var all sync.WaitGroup
	for _, id := range g.devices {
		for batch := range 4 {
			all.Go(func() {
				first := uint64(1 + 5*batch)
				r, err := g.sends(id, reports(first, 5, nil))
				if err != nil || r.Through < first+4 || r.Settings != "settings of "+id.String() {
					t.Errorf("batch %d: %+v, %v", batch, r, err)
				}
			})
		}
	}
	all.Wait()
	for _, id := range g.devices {
		// A batch that came before an earlier one has passed it over: its device sends no later number first.
		if got := g.stored(id); got < 5 || got > 20 {
			t.Errorf("%d reports are stored", got)
		}
	}
}

// A device whose clock is wrong is put right by when its batch came, and a gap between two of its readings stays.
func TestAWrongClock(t *testing.T) {
	g := begin(t, "heron")
	const ahead = 48 * time.Hour
	batch := reports(1, 3, func(_ int, v *device.Vitals) { v.At = v.At.Add(ahead) })
	w := waiting{t.Context(), g.devices[0], link.Batch{Epoch: epoch, Sent: time.Now().Add(ahead), Reports: batch}, time.Now(),
		make(chan answer, 1)}
	g.queue <- w
	if a := <-w.done; a.err != nil {
		t.Fatal(a.err)
	}
	var first, last time.Time
	if err := g.pool.QueryRow(t.Context(), "SELECT min(at), max(at) FROM readings WHERE device_id = $1", g.devices[0]).Scan(&first,
		&last); err != nil {
		t.Fatal(err)
	}
	if off := time.Since(last); off < 0 || off > 3*time.Minute || last.Sub(first).Round(time.Second) != 2*time.Minute {
		t.Errorf("from %s to %s", first, last)
	}
}

// What is compressed can be read back, and what was compressed once is not compressed again.
func TestReadingsAreCompressed(t *testing.T) {
	g := begin(t, "heron")
	id := g.devices[0]
	if _, err := g.sends(id, reports(1, 30, nil)); err != nil {
		t.Fatal(err)
	}
	later := time.Now().Add(48 * time.Hour) // whatever the time of day, the window is over
	for range 2 {
		if err := g.CompactBefore(t.Context(), later); err != nil {
			t.Fatal(err)
		}
		if got := g.stored(id); got != 0 {
			t.Errorf("%d rows are left", got)
		}
		n := 0
		if err := g.Past(t.Context(), id, time.Now().Add(-time.Hour), time.Now(), func(string) bool { return true },
			func(table *series.Table, _ time.Duration) { n += table.Rows() }); err != nil {
			t.Fatal(err)
		}
		if n != 30 {
			t.Errorf("%d readings come back of 30", n)
		}
	}
}

func TestADatabaseThatIsAway(t *testing.T) {
	g := begin(t, "heron")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	w := waiting{t.Context(), g.devices[0], link.Batch{Epoch: epoch, Sent: time.Now(), Reports: reports(1, 1, nil)}, time.Now(),
		make(chan answer, 1)}
	g.write(gone, []waiting{w})
	if a := <-w.done; a.err == nil {
		t.Error("reports that could not be stored are received")
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.judged) > 0 {
		t.Error("a device is judged by what was not stored")
	}
}
