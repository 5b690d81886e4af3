package patch

import (
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/service/db"
	"moorwatch.example/test/database"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// ground is the store over a database with some devices.
type ground struct {
	*testing.T
	store
	devices []uuid.UUID
	owner   uuid.UUID
}

func begin(t *testing.T, names ...string) *ground {
	t.Helper()
	g := &ground{T: t, store: store{database.New(t)}}
	g.devices, _ = database.Devices(t, g.pool, names...)
	g.must(g.pool.QueryRow(t.Context(), "INSERT INTO people (id, email, name, created_at) "+
		"VALUES (gen_random_uuid(), 'robin@moor.example', 'Robin', now()) RETURNING id").Scan(&g.owner))
	return g
}

func (g *ground) must(err error) {
	g.Helper()
	if err != nil {
		g.Fatal(err)
	}
}

func security(name, from, to string) update.Update {
	return update.Update{Source: "apt", Name: name, From: from, To: to, Class: update.Security, Severity: "high"}
}

// missing are what devices miss, by the names of the updates.
func (g *ground) missing(view []uuid.UUID) map[uuid.UUID][]string {
	g.Helper()
	all, err := g.catalogue(g.Context())
	g.must(err)
	out := map[uuid.UUID][]string{}
	g.must(g.briefly(g.Context(), view, nil, func(b brief) {
		for _, id := range b.updates {
			out[b.device] = append(out[b.device], all[id].Name+" "+all[id].To)
		}
		slices.Sort(out[b.device])
	}))
	return out
}

func TestMissingIsWhatWasToldLast(t *testing.T) {
	g := begin(t, "heron", "knot")
	heron, knot := g.devices[0], g.devices[1]
	blocked := security("kernel", "6.1", "6.2")
	blocked.Blocked = "it is held there"
	g.must(g.setMissing(t.Context(), heron, "d1", "", []update.Update{security("ssl", "3.0", "3.1"), blocked}))
	g.must(g.setMissing(t.Context(), knot, "d1", "no source answers", []update.Update{security("ssl", "2.9", "3.1")}))
	if got := fmt.Sprint(g.missing(nil)[heron], g.missing(nil)[knot]); got != "[kernel 6.2 ssl 3.1] [ssl 3.1]" {
		t.Errorf("missing %s", got)
	}
	if got := g.missing([]uuid.UUID{knot}); len(got) != 1 {
		t.Errorf("who sees one device is told of %d", len(got))
	}
	all, err := g.catalogue(t.Context())
	if err != nil || len(all) != 2 {
		t.Errorf("%d updates for two devices that miss the same, %v", len(all), err)
	}
	g.must(g.wholly(t.Context(), []uuid.UUID{heron}, func(b brief, details map[int32]detail) {
		for id, d := range details {
			want := map[string]detail{"ssl": {From: "3.0"}, "kernel": {From: "6.1", Blocked: "it is held there"}}[all[id].Name]
			if d != want || slices.Contains(b.blocked, id) != (want.Blocked != "") {
				t.Errorf("%s at heron: %+v, want %+v", all[id].Name, d, want)
			}
		}
	}))
	for digest, want := range map[string]bool{"d1": true, "d2": false} {
		if known, err := g.told(t.Context(), heron, digest); err != nil || known != want {
			t.Errorf("%s is known: %t, %v", digest, known, err)
		}
	}
	g.must(g.setMissing(t.Context(), heron, "d2", "", nil))
	if got := g.missing(nil); len(got[heron]) != 0 || len(got[knot]) != 1 {
		t.Errorf("after heron got all: %v", got)
	}
	if err := g.setMissing(t.Context(), uuid.New(), "d", "", nil); !db.Missing(err) {
		t.Errorf("a device that is not there: %v", err)
	}
	// What nobody misses any more is forgotten after a while, and not before.
	g.must(g.expire(t.Context()))
	if all, err = g.catalogue(t.Context()); err != nil || len(all) != 2 {
		t.Errorf("%d updates are left at once, %v", len(all), err)
	}
	_, err = g.pool.Exec(t.Context(), "UPDATE updates SET first_seen = now() - interval '31 days'")
	g.must(err)
	g.must(g.expire(t.Context()))
	if all, err = g.catalogue(t.Context()); err != nil || len(all) != 1 {
		t.Errorf("%d updates are left after a month, %v", len(all), err)
	}
}

func TestApprovals(t *testing.T) {
	g := begin(t)
	everywhere := health.Scope{Kind: health.Everywhere}
	var ids []uuid.UUID
	for _, name := range []string{"monthly", "at once", "drivers"} {
		a, err := g.setApproval(t.Context(), nil, patch.Rule{Name: name, Do: patch.Approve, Scope: everywhere, ID: "given by the caller"},
			"robin@moor.example")
		g.must(err)
		id, err := uuid.Parse(a.Rule.ID)
		g.must(err)
		ids = append(ids, id)
		if a.Rule.Name != name || a.ChangedBy != "robin@moor.example" || a.ScopeName != "everywhere" && a.ScopeName != "" {
			t.Errorf("made %+v", a)
		}
	}
	var names []string
	var after named
	for { // in pages of one
		page, err := g.approvals(t.Context(), after, 1)
		g.must(err)
		if len(page) == 0 {
			break
		}
		names = append(names, page[0].Rule.Name)
		after = named{page[0].Rule.Name, page[0].Rule.ID}
	}
	if fmt.Sprint(names) != "[at once drivers monthly]" {
		t.Errorf("listed %v", names)
	}
	a, err := g.setApproval(t.Context(), &ids[0], patch.Rule{Name: "weekly", Do: patch.Hold, Scope: everywhere}, "ines@moor.example")
	if err != nil || a.Rule.ID != ids[0].String() || a.Rule.Do != patch.Hold || a.ChangedBy != "ines@moor.example" {
		t.Errorf("changed to %+v, %v", a, err)
	}
	if name, err := g.removeApproval(t.Context(), ids[1]); err != nil || name != "at once" {
		t.Errorf("removed %q, %v", name, err)
	}
	if _, err := g.removeApproval(t.Context(), ids[1]); !db.Missing(err) {
		t.Errorf("removed twice: %v", err)
	}
	if _, err := g.setApproval(t.Context(), &ids[1], patch.Rule{Name: "x", Scope: everywhere}, ""); !db.Missing(err) {
		t.Errorf("what was removed is changed: %v", err)
	}
	rules, err := g.rules(t.Context())
	if err != nil || len(rules) != 2 || rules[0].Name != "drivers" || rules[1].Name != "weekly" {
		t.Errorf("the rules are %+v, %v", rules, err)
	}
}

// rollout begins one on all devices, the first in ring 0 and the others in ring 1.
func (g *ground) rollout(name string, at time.Time) rollout {
	g.Helper()
	r := rollout{id: uuid.New(), spec: patch.Rollout{Name: name, Rings: []patch.Ring{{Name: "first"}, {Name: "rest"}}},
		begunAt: at.UTC().Truncate(time.Microsecond), begunBy: "robin@moor.example", owner: g.owner}
	rings := make([]int, len(g.devices))
	for i := range rings {
		rings[i] = min(i, 1)
	}
	r.state = r.spec.Begun([]int{1, len(g.devices) - 1})
	g.must(g.addRollout(g.Context(), r, g.devices, rings))
	return r
}

// job makes a job with a run at each of devices, in states.
func (g *ground) job(states map[uuid.UUID]string) uuid.UUID {
	g.Helper()
	id := uuid.New()
	_, err := g.pool.Exec(g.Context(), `INSERT INTO jobs (id, name, work, values, limits, state, begin_at, deadline, created_by)
		VALUES ($1, 'patch', '{}', '{}', '{}', 'running', now(), now() + interval '1 day', 'rollout')`, id)
	g.must(err)
	for device, state := range states {
		_, err := g.pool.Exec(g.Context(),
			`INSERT INTO runs (id, job_id, device_id, device_name, site, place, until, state, sent_at, began_at,
			ended_at, reason) VALUES ($1, $2, $3, 'd', 's', 0, now(), $4, now(), now(), CASE WHEN $4 IN ('waiting', 'sent') THEN NULL ELSE
			now() END, CASE WHEN $4 = 'failed' THEN 'no room' ELSE '' END)`, uuid.New(), id, device, state)
		g.must(err)
	}
	return id
}

// runs sets the state of a job's run.
func (g *ground) runs(job, device uuid.UUID, state string) {
	g.Helper()
	_, err := g.pool.Exec(g.Context(), "UPDATE runs SET state = $3, ended_at = now() WHERE job_id = $1 AND device_id = $2", job, device,
		state)
	g.must(err)
}

// states are those of a rollout's devices, by ring, as a view sees them.
func (g *ground) states(r rollout, view []uuid.UUID) string {
	g.Helper()
	all, err := g.ringStates(g.Context(), r.id, view)
	g.must(err)
	return fmt.Sprint(all)
}

func TestRolloutFromPlanToTakenBack(t *testing.T) {
	g := begin(t, "heron", "knot", "plover")
	heron, knot, plover := g.devices[0], g.devices[1], g.devices[2]
	ssl := security("ssl", "3.0", "3.1")
	for _, d := range g.devices {
		g.must(g.setMissing(t.Context(), d, "d", "", []update.Update{ssl}))
	}
	r := g.rollout("November", time.Now())
	if got := g.states(r, nil); got != "map[0:map[planned:1] 1:map[planned:2]]" {
		t.Errorf("at first %s", got)
	}

	// Of ring 1 knot has something to install; plover is current.
	job := g.job(map[uuid.UUID]string{knot: "waiting"})
	g.must(g.plan(t.Context(), r.id, 1, job, []plannedFor{{knot, []update.Update{ssl}}}))
	if got := g.states(r, nil); got != "map[0:map[planned:1] 1:map[current:1 planned:1]]" {
		t.Errorf("planned %s", got)
	}
	g.must(g.settle(t.Context(), r.id)) // nothing has happened
	g.runs(job, knot, "sent")
	g.must(g.settle(t.Context(), r.id))
	if got := g.states(r, nil); got != "map[0:map[planned:1] 1:map[current:1 running:1]]" {
		t.Errorf("sent %s", got)
	}
	g.must(g.because(t.Context(), r.id, knot, "it restarts"))
	mid, err := g.midway(t.Context(), r.id)
	if err != nil || len(mid) != 1 || mid[0].device != knot || mid[0].reason != "it restarts" {
		t.Errorf("in the middle: %+v, %v", mid, err)
	}
	g.runs(job, knot, "succeeded")
	g.must(g.settle(t.Context(), r.id))
	g.must(g.settle(t.Context(), r.id)) // once more changes nothing
	if got := g.states(r, nil); got != "map[0:map[planned:1] 1:map[current:1 patched:1]]" {
		t.Errorf("succeeded %s", got)
	}
	if got := g.missing(nil); len(got[knot]) != 0 || len(got[plover]) != 1 {
		t.Errorf("what knot got is still missing there, or elsewhere not: %v", got)
	}

	// Ring 0 fails; that what it tells next does not hold the update shows that it is there all the same.
	job = g.job(map[uuid.UUID]string{heron: "failed"})
	g.must(g.plan(t.Context(), r.id, 0, job, []plannedFor{{heron, []update.Update{ssl}}}))
	g.must(g.settle(t.Context(), r.id))
	f, patched, others, err := g.facts(t.Context(), r.id, 0, time.Now().Add(-time.Hour))
	if err != nil || f.Installs.Bad != 1 || f.Installs.Of != 1 || len(patched) != 1 || len(others) != 0 {
		t.Errorf("the facts are %+v, %v, %v, %v", f, patched, others, err)
	}
	at, err := g.patchedAt(t.Context(), heron, 10)
	if err != nil || len(at) != 1 || at[0].State != "failed" || at[0].Reason == nil || *at[0].Reason != "no room" {
		t.Errorf("heron was patched with %+v, %v", at, err)
	}
	g.must(g.setMissing(t.Context(), heron, "d2", "", nil))
	if at, err = g.patchedAt(t.Context(), heron, 10); err != nil || at[0].State != "installed" {
		t.Errorf("heron then was patched with %+v, %v", at, err)
	}

	// Taking back what ring 1 installed.
	back := g.job(map[uuid.UUID]string{knot: "waiting"})
	all, err := g.planBack(t.Context(), r.id, 1, back)
	if err != nil || len(all) != 1 || all[0].device != knot || all[0].updates[0].From != "3.0" {
		t.Fatalf("to be taken back: %+v, %v", all, err)
	}
	if late, err := g.late(t.Context()); err != nil || len(late) != 0 {
		t.Errorf("late while it runs: %v, %v", late, err)
	}
	g.runs(back, knot, "succeeded")
	g.must(g.settle(t.Context(), r.id))
	if got := g.missing(nil)[knot]; len(got) != 1 {
		t.Errorf("what was taken back is missing again at once: %v", got)
	}
	brought, err := g.brought(t.Context(), r.id, nil)
	if err != nil || len(brought) != 1 || brought[0].Devices != 2 || brought[0].States["reverted"] != 1 ||
		brought[0].States["installed"] != 1 {
		t.Errorf("it brought %+v, %v", brought, err)
	}
	if brought, err = g.brought(t.Context(), r.id, []uuid.UUID{plover}); err != nil || len(brought) != 0 {
		t.Errorf("who sees plover alone is told of %+v, %v", brought, err)
	}

	// Again: the ring stands as before it began.
	g.must(g.again(t.Context(), r.id, 1))
	if got := g.states(r, []uuid.UUID{knot, plover}); got != "map[1:map[planned:2]]" {
		t.Errorf("again, as two of them are seen: %s", got)
	}
}

func TestRolloutsAreSeenByTheirDevices(t *testing.T) {
	g := begin(t, "heron", "knot", "plover")
	now := time.Now()
	first, second := g.rollout("October", now.Add(-time.Hour)), g.rollout("November", now)
	before, ids := latest, []uuid.UUID{}
	for {
		page, err := g.rollouts(t.Context(), nil, nil, before, 1)
		g.must(err)
		if len(page) == 0 {
			break
		}
		ids, before = append(ids, page[0].id), moment{page[0].begunAt, page[0].id}
	}
	if !slices.Equal(ids, []uuid.UUID{second.id, first.id}) {
		t.Errorf("listed %v", ids)
	}
	for name, c := range map[string]struct {
		view []uuid.UUID
		want int
	}{"all": {nil, 2}, "one device of it": {g.devices[:1], 2}, "another's": {[]uuid.UUID{uuid.New()}, 0}, "none": {[]uuid.UUID{}, 0}} {
		found, err := g.rollouts(t.Context(), c.view, nil, latest, 10)
		if err != nil || len(found) != c.want {
			t.Errorf("who sees %s is told of %d, %v; want %d", name, len(found), err, c.want)
		}
	}
	if n, err := g.outside(t.Context(), first.id, g.devices[:1]); err != nil || n != 2 {
		t.Errorf("%d devices are outside of a view of one, %v", n, err)
	}
	if n, err := g.outside(t.Context(), first.id, nil); err != nil || n != 0 {
		t.Errorf("%d devices are outside of a view of all, %v", n, err)
	}
	devices, at, err := g.store.devices(t.Context(), first.id, nil, nil, standing{Ring: -1}, 2)
	if err != nil || len(devices) != 2 || devices[0].Device != "heron" || devices[1].Device != "knot" {
		t.Fatalf("its devices: %+v, %v", devices, err)
	}
	devices, _, err = g.store.devices(t.Context(), first.id, nil, nil, at[1], 2)
	if err != nil || len(devices) != 1 || devices[0].Device != "plover" {
		t.Errorf("the next page: %+v, %v", devices, err)
	}
	devices, _, err = g.store.devices(t.Context(), first.id, g.devices[:1], new(1), standing{Ring: -1}, 9)
	if err != nil || len(devices) != 0 {
		t.Errorf("of ring 1 who sees heron is told of %+v, %v", devices, err)
	}

	// One that is over is open no more; who adopts it owns it.
	first.state.Phase = patch.Done
	g.must(g.save(t.Context(), first))
	g.must(g.adopt(t.Context(), second.id, g.owner, "ines@moor.example"))
	open, err := g.open(t.Context())
	if err != nil || len(open) != 1 || open[0].id != second.id || open[0].adopted == nil || *open[0].adopted != "ines@moor.example" {
		t.Errorf("open are %+v, %v", open, err)
	}
	if in, err := g.inRing(t.Context(), second.id, 1); err != nil || len(in) != 2 {
		t.Errorf("in ring 1 are %v, %v", in, err)
	}
	rings, err := g.ringOf(t.Context())
	if err != nil || rings[g.devices[0]] != "first" || rings[g.devices[2]] != "rest" {
		t.Errorf("the rings are %v, %v", rings, err)
	}
	outcomes, err := g.outcomes(t.Context(), g.devices, now.Add(-24*time.Hour), now.Add(time.Minute))
	if err != nil || len(outcomes) != 2 || outcomes[0].Devices["planned"] != 3 {
		t.Errorf("a report tells of %+v, %v", outcomes, err)
	}
}

// A device is woken once for its ring, and shut down once that is over.
func TestWoken(t *testing.T) {
	g := begin(t, "heron", "knot")
	now := time.Now()
	r := g.rollout("November", now)
	ssl := security("ssl", "3.0", "3.1")
	g.must(g.setMissing(t.Context(), g.devices[0], "d", "", []update.Update{ssl}))
	g.must(g.plan(t.Context(), r.id, 0, g.job(map[uuid.UUID]string{g.devices[0]: "waiting"}), []plannedFor{{g.devices[0],
		[]update.Update{ssl}}}))
	asleep := func(since time.Time) int {
		t.Helper()
		all, err := g.asleep(t.Context(), r.id, 0, since)
		g.must(err)
		return len(all)
	}
	if asleep(now) != 1 {
		t.Error("the device is not to be woken")
	}
	g.must(g.woke(t.Context(), r.id, g.devices[:1], now))
	g.must(g.woke(t.Context(), r.id, nil, now))
	if asleep(now.Add(-time.Minute)) != 0 || asleep(now.Add(time.Minute)) != 1 {
		t.Error("it is woken twice, or never again")
	}
	if shut, err := g.toShut(t.Context(), 10); err != nil || len(shut) != 0 {
		t.Errorf("shut while its ring runs: %+v, %v", shut, err)
	}
	r.state.At = 1
	g.must(g.save(t.Context(), r))
	shut, err := g.toShut(t.Context(), 10)
	if err != nil || len(shut) != 1 || shut[0].device != g.devices[0] || shut[0].by != "robin@moor.example" {
		t.Fatalf("to be shut: %+v, %v", shut, err)
	}
	g.must(g.wasShut(t.Context(), shut[0]))
	if shut, err = g.toShut(t.Context(), 10); err != nil || len(shut) != 0 {
		t.Errorf("shut twice: %+v, %v", shut, err)
	}
}

// What is due is sent by one alone, also where two look at once; what fails is tried again so many times.
func TestReportsAreClaimedOnce(t *testing.T) {
	g := begin(t)
	now := time.Now().UTC().Truncate(time.Second)
	due := now.Add(-time.Minute)
	in := api.NewReportSchedule{Name: "weekly", Days: 7, To: []string{"duty@moor.example"},
		When: calendar.Window{Start: "2026-11-30T07:00", Rule: "FREQ=WEEKLY"}}
	made, err := g.setSchedule(t.Context(), nil, in, &due, "robin@moor.example", g.owner)
	g.must(err)
	if _, err := g.setSchedule(t.Context(), nil, in, &due, "", g.owner); !db.Duplicate(err) {
		t.Errorf("two of one name: %v", err)
	}
	type claimed struct {
		ids []uuid.UUID
		err error
	}
	both := make(chan claimed, 2)
	for range 2 {
		go func() {
			ids, _, err := g.claim(t.Context(), now, time.Hour)
			both <- claimed{ids, err}
		}()
	}
	one, other := <-both, <-both
	if one.err != nil || other.err != nil || len(one.ids)+len(other.ids) != 1 {
		t.Fatalf("claimed %+v and %+v", one, other)
	}
	if ids, _, err := g.claim(t.Context(), now, time.Hour); err != nil || len(ids) != 0 {
		t.Errorf("claimed again: %v, %v", ids, err)
	}
	next := now.Add(7 * 24 * time.Hour)
	for try, want := range []time.Time{now.Add(time.Minute), now.Add(time.Minute), next} {
		g.must(g.notSent(t.Context(), made.ID, "no server", now.Add(time.Minute), 3, &next))
		s, err := g.scheduleOf(t.Context(), made.ID)
		if err != nil || s.NextAt == nil || !s.NextAt.Equal(want) || s.Problem == nil {
			t.Errorf("after try %d the next is at %v, %v; want %v", try+1, s.NextAt, err, want)
		}
	}
	g.must(g.sent(t.Context(), made.ID, now, &next))
	s, err := g.scheduleOf(t.Context(), made.ID)
	if err != nil || s.Problem != nil || s.SentAt == nil || !s.SentAt.Equal(now) {
		t.Errorf("once it is sent: %+v, %v", s, err)
	}
	if owner, err := g.ownerOf(t.Context(), made.ID); err != nil || owner != g.owner {
		t.Errorf("it is sent with the rights of %s, %v", owner, err)
	}
	if name, err := g.removeSchedule(t.Context(), made.ID); err != nil || name != "weekly" {
		t.Errorf("removed %q, %v", name, err)
	}
	if all, err := g.schedules(t.Context(), named{}, 10); err != nil || len(all) != 0 {
		t.Errorf("left are %+v, %v", all, err)
	}
}

// A day is counted anew as often as it is counted, and organisations are added up for who sees several.
func TestComplianceByDay(t *testing.T) {
	g := begin(t, "heron")
	var wader, other uuid.UUID
	g.must(g.pool.QueryRow(t.Context(), "SELECT id FROM organisations WHERE name = 'Wader'").Scan(&wader))
	g.must(g.pool.QueryRow(t.Context(), "INSERT INTO organisations (name) VALUES ('Fell') RETURNING id").Scan(&other))
	day := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	count := func(day time.Time, current int) {
		t.Helper()
		g.must(g.setCompliance(t.Context(), day, map[ringed]patch.Tally{
			{wader.String(), "first"}: {Devices: 4, Current: current}, {wader.String(), ""}: {Devices: 6, Current: 6},
			{other.String(), ""}: {Devices: 1}}))
	}
	count(day, 1)
	count(day, 2)
	count(day.AddDate(0, 0, 1), 4)
	got, err := g.compliance(t.Context(), []uuid.UUID{wader}, day)
	if err != nil || len(got) != 2 || !got[0].Day.Equal(day) || got[0].Tally.Devices != 10 || got[0].Tally.Current != 8 ||
		got[1].Tally.Current != 10 {
		t.Errorf("by day %+v, %v", got, err)
	}
	if got, err = g.compliance(t.Context(), []uuid.UUID{wader, other}, day.AddDate(0, 0, 1)); err != nil || len(got) != 1 ||
		got[0].Tally.Devices != 11 {
		t.Errorf("of both %+v, %v", got, err)
	}
	if got, err = g.compliance(t.Context(), nil, day); err != nil || len(got) != 0 {
		t.Errorf("of none %+v, %v", got, err)
	}
}
