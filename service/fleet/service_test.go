package fleet

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/part"
	"moorwatch.example/test/database"
	"moorwatch.example/test/wait"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// world is the service over a database, with what it told others.
type world struct {
	*Service
	t    *testing.T
	pool *pgxpool.Pool
	hub  *bus.Bus
	site uuid.UUID // Quay of Wader

	mu      sync.Mutex
	entries []front.Entry
	judged  map[uuid.UUID]int
}

func (w *world) Record(_ context.Context, e front.Entry) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.entries = append(w.entries, e)
	return nil
}
func (w *world) Note(e front.Entry) { w.Record(context.Background(), e) }

func begin(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, pool: database.New(t), hub: &bus.Bus{}, judged: map[uuid.UUID]int{}}
	w.hub.DevicesChanged.Subscribe(func(_ context.Context, all []uuid.UUID) {
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, id := range all {
			w.judged[id]++
		}
	})
	w.Service = New(part.Base{Pool: w.pool, Audit: w, Bus: w.hub}, "hint", func(uuid.UUID) string { return "abcde-fghij" })
	var err error
	if w.site, err = w.store.site(t.Context(), "Wader", "Quay"); err != nil {
		t.Fatal(err)
	}
	if err := w.Part().Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	return w
}

// token adds an enrolment token, and returns its digest.
func (w *world) token(site uuid.UUID, uses int, expires time.Duration) (hash []byte, t api.EnrolmentToken) {
	w.t.Helper()
	hash = access.HashSecret(uuid.NewString())
	t, err := w.store.addToken(w.t.Context(), hash, site, uses, false, time.Now().Add(expires), maker{name: "wren"})
	if err != nil {
		w.t.Fatal(err)
	}
	return hash, t
}

// device enrols a device.
func (w *world) device(name string) uuid.UUID {
	w.t.Helper()
	hash, _ := w.token(w.site, 1, time.Hour)
	e, err := w.store.enrol(w.t.Context(), hash, uuid.New(), name, key(w.t))
	if err == nil {
		_, err = w.enlist(w.t.Context(), []uuid.UUID{e.Device})
	}
	if err != nil {
		w.t.Fatal(err)
	}
	return e.Device
}

// A token of somebody who may not enrol devices any more lets none in without being asked.
func TestTokensOfTheRemoved(t *testing.T) {
	w := begin(t)
	wren, may := uuid.New(), true
	w.hub.PersonMay.Subscribe(func(_ context.Context, asked bus.PersonMay) (bool, error) {
		return may && asked.Person == wren && asked.Permission == access.FleetEnrol && asked.Site == w.site.String() &&
			asked.Organisation != "", nil
	})
	add := func(by maker) (hash []byte) {
		t.Helper()
		hash = access.HashSecret(uuid.NewString())
		if _, err := w.store.addToken(t.Context(), hash, w.site, 10, false, time.Now().Add(time.Hour), by); err != nil {
			t.Fatal(err)
		}
		return hash
	}
	waits := func(hash []byte) bool {
		t.Helper()
		e, err := w.store.enrol(t.Context(), hash, uuid.New(), "heron", key(t))
		if err != nil {
			t.Fatal(err)
		}
		known, err := w.store.known(t.Context(), e.Device)
		if err != nil || e.Waiting == nil || *e.Waiting != known.waiting {
			t.Fatalf("told that it waits: %v; %v", e.Waiting, err)
		}
		return known.waiting
	}
	of, service := add(maker{wren, "wren"}), add(maker{name: "heron"})
	if waits(of) || waits(service) || !waits(add(maker{uuid.New(), "robin"})) {
		t.Error("a device waits though the token's maker may enrol it, or does not though they may not")
	}
	may = false
	if !waits(of) || waits(service) {
		t.Error("a device is let in by a token of somebody who was removed, or waits though the service asked for it")
	}
}

func key(t *testing.T) []byte {
	t.Helper()
	public, _, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	return public
}

// A token admits as many devices as it says, however many come at once.
func TestATokenIsUsedAsOftenAsItAllows(t *testing.T) {
	w := begin(t)
	const uses, comers = 5, 20
	hash, _ := w.token(w.site, uses, time.Hour)
	var mu sync.Mutex
	outcomes := map[error]int{}
	var all sync.WaitGroup
	for i := range comers {
		mine := key(t)
		all.Go(func() {
			_, err := w.store.enrol(t.Context(), hash, uuid.New(), fmt.Sprint("heron-", i), mine)
			mu.Lock()
			defer mu.Unlock()
			outcomes[err]++
		})
	}
	all.Wait()
	if outcomes[nil] != uses || outcomes[errUsedUp] != comers-uses {
		t.Errorf("outcomes %v", outcomes)
	}
}

func TestTokensThatDoNotHold(t *testing.T) {
	w := begin(t)
	expired, _ := w.token(w.site, 1, -time.Minute)
	revoked, token := w.token(w.site, 1, time.Hour)
	elsewhere, err := w.store.site(t.Context(), "Wader", "Moor")
	if err != nil {
		t.Fatal(err)
	}
	if err := w.store.revokeToken(t.Context(), []uuid.UUID{elsewhere}, token.ID); !db.Missing(err) {
		t.Errorf("somebody of another site revokes it: %v", err)
	}
	if err := w.store.revokeToken(t.Context(), nil, token.ID); err != nil {
		t.Fatal(err)
	}
	if err := w.store.revokeToken(t.Context(), nil, token.ID); !db.Missing(err) {
		t.Errorf("it is revoked twice: %v", err)
	}
	good, _ := w.token(w.site, 2, time.Hour)
	mine := key(t)
	if _, err := w.store.enrol(t.Context(), good, uuid.New(), "heron", mine); err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		hash []byte
		want func(error) bool
	}{
		"expired":            {expired, func(err error) bool { return errors.Is(err, errExpired) }},
		"revoked":            {revoked, func(err error) bool { return errors.Is(err, errRevoked) }},
		"unknown":            {access.HashSecret("no"), func(err error) bool { return errors.Is(err, errUnknown) }},
		"a key of a device":  {good, db.Duplicate},
		"and it is not used": {good, db.Duplicate},
	} {
		if _, err := w.store.enrol(t.Context(), test.hash, uuid.New(), "crake", mine); !test.want(err) {
			t.Errorf("%s: %v", name, err)
		}
	}
	list, err := w.store.tokens(t.Context(), nil, time.Now().Add(time.Hour), 10)
	if err != nil || list[0].Used != 1 {
		t.Errorf("the token was used %d times, %v", list[0].Used, err)
	}
	if list, err := w.store.tokens(t.Context(), []uuid.UUID{elsewhere}, time.Now().Add(time.Hour), 10); err != nil || len(list) != 0 {
		t.Errorf("somebody of another site sees %d tokens, %v", len(list), err)
	}
}

// What others keep of a device goes in the same transaction, or the device stays.
func TestRetiring(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	refused := errors.New("its alerts cannot be ended")
	w.hub.DeviceRetiring.Subscribe(func(ctx context.Context, e bus.DeviceRetiring) error {
		if _, err := e.Tx.Exec(ctx, "UPDATE devices SET name = 'gone' WHERE id = $1", e.Device); err != nil {
			return err
		}
		if refused != nil {
			return refused
		}
		return nil
	})
	if _, err := w.store.retire(t.Context(), id); !errors.Is(err, refused) {
		t.Fatalf("retired: %v", err)
	}
	if d, err := w.Device(t.Context(), id); err != nil || d.Name != "heron" {
		t.Errorf("the device that was not retired is %q, %v", d.Name, err)
	}
	refused = nil
	if name, err := w.store.retire(t.Context(), id); err != nil || name != "heron" {
		t.Errorf("retired %q, %v", name, err)
	}
	if _, err := w.store.retire(t.Context(), id); !db.Missing(err) {
		t.Errorf("retired twice: %v", err)
	}
	if err := w.tell(t.Context(), []uuid.UUID{id}); err != nil {
		t.Fatal(err)
	}
	if _, known := w.Known(id); known {
		t.Error("the roster still has it")
	}
	if _, err := w.Key(t.Context(), id); !isRefusal(err) {
		t.Errorf("its key is %v", err)
	}
}

func isRefusal(err error) bool {
	_, ok := errors.AsType[*link.Refusal](err)
	return ok
}

func TestMoving(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	moor, err := w.store.site(t.Context(), "Wader", "Moor")
	if err != nil {
		t.Fatal(err)
	}
	var told []uuid.UUID
	w.hub.DeviceMoving.Subscribe(func(_ context.Context, e bus.DeviceMoving) error { told = append(told, e.Device, e.Site); return nil })
	if _, err := w.store.move(t.Context(), id, moor); err != nil || !slices.Equal(told, []uuid.UUID{id, moor}) {
		t.Fatalf("told %v, %v", told, err)
	}
	if _, err := w.store.move(t.Context(), uuid.New(), moor); !db.Missing(err) {
		t.Errorf("a device that is not there: %v", err)
	}
	if p, err := w.Place(t.Context(), id); err != nil || p.Site != w.site.String() {
		t.Errorf("the roster moved it before it was told, to %s, %v", p.Site, err)
	}
	if _, err := w.enlist(t.Context(), []uuid.UUID{id}); err != nil {
		t.Fatal(err)
	}
	if p, err := w.Place(t.Context(), id); err != nil || p.Site != moor.String() {
		t.Errorf("it stands at %s, %v", p.Site, err)
	}
	if p, err := w.Place(t.Context(), uuid.New()); err != nil || p.Device != "" {
		t.Errorf("a device that is not there stands at %+v, %v", p, err)
	}
}

// A name is changed where devices are seen at once by expressions, and no two are called the same.
func TestRenaming(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	if _, err := w.store.site(t.Context(), "Wader", "Moor"); err != nil {
		t.Fatal(err)
	}
	var of uuid.UUID
	if err := w.store.sites(t.Context(), func(site, organisation uuid.UUID) { of = organisation }); err != nil {
		t.Fatal(err)
	}
	if before, devices, err := w.store.renameSite(t.Context(), w.site, "Old quay"); err != nil || before != "Quay" ||
		!slices.Equal(devices, []uuid.UUID{id}) {
		t.Errorf("%q with %v, %v", before, devices, err)
	}
	if before, devices, err := w.store.renameOrganisation(t.Context(), of, "Waders"); err != nil || before != "Wader" ||
		!slices.Equal(devices, []uuid.UUID{id}) {
		t.Errorf("%q with %v, %v", before, devices, err)
	}
	if _, _, err := w.store.renameSite(t.Context(), w.site, "Moor"); !db.Duplicate(err) {
		t.Errorf("two sites of one name: %v", err)
	}
	if _, _, err := w.store.renameSite(t.Context(), uuid.New(), "Fen"); !db.Missing(err) {
		t.Errorf("a site that is not there: %v", err)
	}
	if _, _, err := w.store.renameOrganisation(t.Context(), uuid.New(), "Fen"); !db.Missing(err) {
		t.Errorf("an organisation that is not there: %v", err)
	}
	if _, err := w.store.setNote(t.Context(), id, "Front desk", "Its screen flickers."); err != nil {
		t.Fatal(err)
	}
	if _, err := w.store.setNote(t.Context(), uuid.New(), "x", "y"); !db.Missing(err) {
		t.Errorf("a note about a device that is not there: %v", err)
	}
	if _, err := w.enlist(t.Context(), []uuid.UUID{id}); err != nil {
		t.Fatal(err)
	}
	caller := &front.Caller{Rights: access.Rights{{Role: access.Owner, Scope: health.Scope{Kind: health.Everywhere}}}}
	for where, n := range map[string]int{`site == "Old quay" && organisation == "Waders"`: 1, `site == "Quay"`: 0, `text.contains("flickers")`: 1,
		`alias == "Front desk"`: 1} {
		if found, err := w.Targets(caller, access.FleetRead, &where, nil); err != nil || len(found) != n {
			t.Errorf("%s: %d, %v", where, len(found), err)
		}
	}
	if d, err := w.store.detail(t.Context(), id); err != nil || d.Device.Alias == nil || *d.Device.Alias != "Front desk" {
		t.Errorf("%+v, %v", d.Device, err)
	}
}

// Presence is written together, the latest counts, and what was told before the end is on disk after it.
func TestPresence(t *testing.T) {
	w := begin(t)
	heron, crake := w.device("heron"), w.device("crake")
	online := func(id uuid.UUID) bool {
		t.Helper()
		d, err := w.Device(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return d.Online
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); w.Part().Run[0](ctx) }()
	w.Up(ctx, heron, "192.0.2.1")
	for range 20 {
		w.Down(ctx, crake)
		w.Up(ctx, crake, "192.0.2.2")
	}
	wait.Until(t, 20*time.Second, "both are online", func() bool { return online(heron) && online(crake) })
	w.Down(ctx, heron)
	cancel()
	<-done
	if online(heron) || !online(crake) {
		t.Errorf("after the end heron is online: %v, crake: %v", online(heron), online(crake))
	}
	w.mu.Lock()
	if w.judged[heron] < 2 || w.judged[crake] < 1 {
		t.Errorf("judged %v", w.judged)
	}
	w.mu.Unlock()
	if err := w.Part().Begin(t.Context()); err != nil || online(crake) { // nobody is connected yet after a start
		t.Errorf("after a start crake is online, %v", err)
	}
}

func TestGroupsThatAreUsedStay(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	g, err := w.store.setGroup(t.Context(), nil, nil, "linux", `name == "heron"`, nil, "wren")
	if err == nil {
		err = w.readGroups(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	if p, err := w.Place(t.Context(), id); err != nil || !slices.Equal(p.Groups, []string{g.ID.String()}) {
		t.Errorf("it is in %q, %v", p.Groups, err)
	}
	scope := health.Scope{Kind: health.Group, ID: g.ID.String()}
	if devices, err := w.Scopes(t.Context(), scope); err != nil || len(devices) != 1 || devices[0].Groups == nil {
		t.Errorf("the group covers %+v, %v", devices, err)
	}
	if err := w.KnownScope(t.Context(), scope); err != nil {
		t.Error(err)
	}
	if err := w.KnownScope(t.Context(), health.Scope{Kind: health.Group, ID: uuid.NewString()}); err == nil {
		t.Error("a group that there is none of is known")
	}
	holder := ""
	w.hub.RoleHolder.Subscribe(func(context.Context, health.Scope) (string, error) { return holder, nil })
	if err := w.mayRest(t.Context(), g.ID, `os == "linux"`); err != nil {
		t.Errorf("nobody holds a role there: %v", err)
	}
	holder = "wren"
	var problem *front.Error
	if err := w.mayRest(t.Context(), g.ID, `os == "linux"`); !errors.As(err, &problem) || !strings.Contains(problem.Detail, "wren") {
		t.Errorf("a role rests on what a device says: %v", err)
	}
	if err := w.mayRest(t.Context(), g.ID, `site == "Quay"`); err != nil {
		t.Errorf("what the service knows is refused: %v", err)
	}
}

// Lists of a caller show what they may see, page after page, and nothing twice.
func TestDevicesArePaged(t *testing.T) {
	w := begin(t)
	const n = 23
	want := map[uuid.UUID]bool{}
	for i := range n {
		want[w.device(fmt.Sprintf("heron-%02d", i/2))] = true // two of each name
	}
	caller := &front.Caller{Rights: access.Rights{{Role: access.Owner, Scope: health.Scope{Kind: health.Everywhere}}}}
	seen := map[uuid.UUID]bool{}
	var after place
	for pages := 0; ; pages++ {
		rows, err := w.chosen(t.Context(), caller, nil, nil, after, 5)
		if err != nil || pages > n {
			t.Fatal(pages, err)
		}
		if len(rows) == 0 {
			break
		}
		for _, d := range rows {
			if seen[d.ID] || !want[d.ID] {
				t.Errorf("%s came twice, or from nowhere", d.Name)
			}
			seen[d.ID] = true
		}
		last := rows[len(rows)-1]
		after = place{last.Name, last.ID}
	}
	if len(seen) != n {
		t.Errorf("%d of %d were listed", len(seen), n)
	}
	nobody := &front.Caller{}
	if rows, err := w.chosen(t.Context(), nobody, nil, nil, place{}, 5); err != nil || len(rows) != 0 {
		t.Errorf("who may see nothing sees %d, %v", len(rows), err)
	}
	broken := "name =="
	if _, err := w.chosen(t.Context(), caller, &broken, nil, place{}, 5); err == nil {
		t.Error("a broken expression lists devices")
	}
	unknown := uuid.New()
	if _, err := w.chosen(t.Context(), caller, nil, &unknown, place{}, 5); err == nil {
		t.Error("a group that there is none of lists devices")
	}
}

func TestFactsChangeWhatExpressionsSee(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	facts := device.Facts{HostName: "heron", OS: "linux", Cores: 4, Capabilities: []string{device.CapabilityVitals}}
	if err := w.store.setFacts(t.Context(), id, facts.Clean()); err != nil {
		t.Fatal(err)
	}
	where := `os == "linux" && cores == 4`
	caller := &front.Caller{Rights: access.Rights{{Role: access.Owner, Scope: health.Scope{Kind: health.Everywhere}}}}
	if found, err := w.Targets(caller, access.FleetRead, &where, nil); err == nil && len(found) > 0 {
		t.Error("the roster knows before it is told")
	}
	if err := w.tell(t.Context(), []uuid.UUID{id}); err != nil {
		t.Fatal(err)
	}
	if found, err := w.Targets(caller, access.FleetRead, &where, nil); err != nil || len(found) != 1 || found[0].ID != id {
		t.Errorf("found %d, %v", len(found), err)
	}
	if err := w.Trusted(t.Context(), "A secret", &where, nil); err == nil {
		t.Error("a secret goes where a device says that it is")
	}
	site := `site == "Quay"`
	if err := w.Trusted(t.Context(), "A secret", &site, nil); err != nil {
		t.Errorf("what the service knows is not trusted: %v", err)
	}
}
