package inventory

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/inventory"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/part"
	"moorwatch.example/test/database"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// ground is the service over a database.
type ground struct {
	*Service
	Fleet // of which only what is below is asked

	t       *testing.T
	pool    *pgxpool.Pool
	devices []uuid.UUID

	mu        sync.Mutex
	changed   []uuid.UUID
	forgotten []int32
}

func (g *ground) Changed(all []uuid.UUID) {}

func (g *ground) Forget(all []int32) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forgotten = append(g.forgotten, all...)
}

func begin(t *testing.T, names ...string) *ground {
	t.Helper()
	g := &ground{t: t, pool: database.New(t)}
	g.devices, _ = database.Devices(t, g.pool, names...)
	events := &bus.Bus{}
	events.InventoryChanged.Subscribe(func(_ context.Context, id uuid.UUID) {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.changed = append(g.changed, id)
	})
	g.Service = New(part.Base{Pool: g.pool, Bus: events}, g, nil)
	return g
}

// software is a snapshot of programs with their versions.
func software(all ...string) inventory.Snapshot {
	var items []inventory.Item
	for i := 0; i < len(all); i += 2 {
		items = append(items, inventory.Item{Section: inventory.Software, Key: all[i], Name: all[i],
			Fields: map[string]string{"version": all[i+1], "source": "deb"}})
	}
	return inventory.Of(items)
}

// has has a device tell what it consists of.
func (g *ground) has(id uuid.UUID, before, after inventory.Snapshot, at time.Time) error {
	return g.Accept(g.t.Context(), id, inventory.Compare(before, after), at)
}

func (g *ground) must(err error) {
	g.t.Helper()
	if err != nil {
		g.t.Fatal(err)
	}
}

func (g *ground) changes(view []uuid.UUID) []api.Change {
	g.t.Helper()
	all, err := g.store.changes(g.t.Context(), view, api.ListChangesParams{}, place{time.Now().Add(time.Hour), 1 << 62}, 100)
	g.must(err)
	return all
}

func TestDifferencesStartFromWhatIsStored(t *testing.T) {
	g := begin(t, "heron")
	id, began := g.devices[0], time.Now().Add(-time.Hour)
	one, two := software("editor", "1.0"), software("editor", "2.0", "shell", "5.2")
	g.must(g.has(id, nil, one, began))
	if got := g.changes(nil); len(got) != 0 {
		t.Errorf("the first inventory is %d changes", len(got))
	}
	if err := g.has(id, two, one, began.Add(time.Minute)); !errors.Is(err, errBase) {
		t.Errorf("differences from another inventory: %v", err)
	}
	g.must(g.has(id, one, two, began.Add(2*time.Minute)))
	got := g.changes(nil)
	if len(got) != 2 {
		t.Fatalf("%d changes, want 2", len(got))
	}
	items, at, err := g.store.inventory(t.Context(), id)
	if err != nil || inventory.Of(items).Digest() != two.Digest() || at == nil || !at.After(began) {
		t.Errorf("%d items of %v, %v", len(items), at, err)
	}
	if section, err := g.Section(t.Context(), id, inventory.Software); err != nil || len(section) != 2 {
		t.Errorf("%d in the section, %v", len(section), err)
	}
	g.must(g.has(id, two, two, began.Add(3*time.Minute))) // nothing has changed
	if len(g.changed) != 2 || len(g.changes(nil)) != 2 {
		t.Errorf("told %d times, %d changes", len(g.changed), len(g.changes(nil)))
	}
	if err := g.has(uuid.New(), nil, one, began); err == nil {
		t.Error("a device that is not there has an inventory")
	}
	if got := g.changes([]uuid.UUID{uuid.New()}); len(got) != 0 {
		t.Errorf("somebody who does not see the device sees %d changes", len(got))
	}
}

// A device that changes without end is stopped, and can tell what it has once the day is over.
func TestADeviceThatChangesWithoutEnd(t *testing.T) {
	g := begin(t, "heron")
	id, at := g.devices[0], time.Now().Add(-20*time.Hour)
	many := func(version string) inventory.Snapshot {
		var all []string
		for i := range mostChanges {
			all = append(all, fmt.Sprint("tool-", i), version)
		}
		return software(all...)
	}
	before := many("0")
	g.must(g.has(id, nil, before, at))
	var err error
	n := 0
	for ; err == nil && n < 10; n++ {
		after := many(fmt.Sprint(n + 1))
		at = at.Add(time.Minute)
		if err = g.has(id, before, after, at); err == nil {
			before = after
		}
	}
	if !errors.Is(err, errDay) || n != 4 {
		t.Fatalf("after %d inventories: %v", n, err)
	}
	g.must(g.has(id, before, many("last"), at.Add(25*time.Hour)))
}

// The catalogue follows what devices have, and forgets what none has.
func TestTheCatalogue(t *testing.T) {
	g := begin(t, "heron", "crake")
	heron, crake, at := g.devices[0], g.devices[1], time.Now()
	both, one := software("editor", "1.0", "shell", "5.2"), software("shell", "5.2")
	g.must(g.has(heron, nil, both, at))
	g.must(g.has(crake, nil, one, at))
	list := func(view []uuid.UUID, search string) (out []string) {
		t.Helper()
		all, err := g.store.software(t.Context(), view, search, name{}, 100)
		g.must(err)
		for _, s := range all {
			out = append(out, fmt.Sprint(s.Name, " ", s.Devices))
		}
		return out
	}
	if got := list(nil, ""); !slices.Equal(got, []string{"editor 1", "shell 2"}) {
		t.Errorf("listed %q", got)
	}
	if got := list([]uuid.UUID{crake}, ""); !slices.Equal(got, []string{"shell 1"}) {
		t.Errorf("who sees one device is shown %q", got)
	}
	if got := list(nil, "EDIT"); !slices.Equal(got, []string{"editor 1"}) {
		t.Errorf("searched %q", got)
	}
	g.must(g.has(heron, both, one, at.Add(time.Minute)))
	g.must(g.Expire(t.Context()))
	if got := list(nil, ""); !slices.Equal(got, []string{"shell 2"}) || len(g.forgotten) != 1 {
		t.Errorf("listed %q, %d forgotten", got, len(g.forgotten))
	}
}

func TestOldChangesAreForgotten(t *testing.T) {
	g := begin(t, "heron")
	one, two := software("editor", "1.0"), software("editor", "2.0")
	old := time.Now().Add(-keepChanges - time.Hour)
	g.must(g.has(g.devices[0], nil, one, old.Add(-time.Hour)))
	g.must(g.has(g.devices[0], one, two, old))
	g.must(g.has(g.devices[0], two, one, time.Now()))
	g.must(g.Expire(t.Context()))
	if got := g.changes(nil); len(got) != 1 || time.Since(got[0].At) > time.Hour {
		t.Errorf("left: %+v", got)
	}
}
