package health

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/response"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
	"moorwatch.example/test/database"
)

var anywhere = health.Scope{Kind: health.Everywhere}

// shop is a store with two devices at a site.
type shop struct {
	store
	t       *testing.T
	site    uuid.UUID
	devices []uuid.UUID
}

func newShop(t *testing.T) *shop {
	t.Helper()
	ring, err := secret.NewRing("webhooks", map[uint32][]byte{1: make([]byte, 32)})
	if err != nil {
		t.Fatal(err)
	}
	s := &shop{store: store{database.New(t), ring}, t: t}
	s.devices, s.site = database.Devices(t, s.pool, "heron", "egret")
	return s
}

// put stores alerts, and fills in what they are of.
func (s *shop) put(alerts ...*alert) {
	s.t.Helper()
	for _, a := range alerts {
		if a.id == uuid.Nil {
			a.id = uuid.New()
		}
		a.site = s.site
		if a.Check == "" {
			a.Check, a.Subject = health.CheckService, a.id.String()
		}
		if a.Level == "" {
			a.Level = health.Warning
		}
		if a.State == "" {
			a.State = health.Open
		}
		if a.OpenedAt.IsZero() {
			a.OpenedAt = time.Now()
		}
		if a.Since.IsZero() {
			a.Since = a.OpenedAt
		}
	}
	if err := pgx.BeginFunc(s.t.Context(), s.pool, func(tx pgx.Tx) error { return putAlerts(s.t.Context(), tx, alerts) }); err != nil {
		s.t.Fatal(err)
	}
}

// listed is all alerts that a filter finds, page by page.
func (s *shop) listed(f alertFilter, each int) (ids []uuid.UUID) {
	s.t.Helper()
	at := moment{At: time.Now().Add(time.Hour)}
	for {
		page, err := s.alerts(s.t.Context(), f, at, each)
		if err != nil {
			s.t.Fatal(err)
		}
		if len(page) == 0 {
			return ids
		}
		for _, a := range page {
			ids = append(ids, a.ID)
			at = moment{a.OpenedAt, a.ID}
		}
	}
}

// Alerts are listed page by page, the latest first, each once, also many of one moment; and only those that are wanted.
func TestAlertsByPages(t *testing.T) {
	s := newShop(t)
	now := time.Now().Truncate(time.Second)
	var all []*alert
	for i := range 23 {
		a := &alert{device: s.devices[i%2]}
		a.OpenedAt = now.Add(-time.Duration(i/6) * time.Minute)
		switch i % 4 {
		case 1:
			a.State, a.ResolvedAt = health.Over, now.Add(-time.Duration(i)*time.Hour)
		case 2:
			a.State, a.SnoozedUntil = health.Snoozed, now.Add(time.Hour)
		}
		if i%5 == 0 {
			a.Check, a.Subject = health.CheckDisk, fmt.Sprint("/", i)
		}
		all = append(all, a)
	}
	all = append(all, &alert{}) // of the site
	all[23].Check = health.CheckSilent
	s.put(all...)
	slices.SortFunc(all, func(a, b *alert) int {
		if d := b.OpenedAt.Compare(a.OpenedAt); d != 0 {
			return d
		}
		return strings.Compare(b.id.String(), a.id.String())
	})
	want := func(holds func(a *alert) bool) (ids []uuid.UUID) {
		for _, a := range all {
			if holds(a) {
				ids = append(ids, a.id)
			}
		}
		return ids
	}
	day := now.Add(-8 * time.Hour)
	for name, k := range map[string]struct {
		filter alertFilter
		holds  func(a *alert) bool
	}{
		"all":               {alertFilter{}, func(*alert) bool { return true }},
		"open ones":         {alertFilter{state: new("open")}, func(a *alert) bool { return a.State == health.Open }},
		"current ones":      {alertFilter{state: new("current")}, func(a *alert) bool { return a.ResolvedAt.IsZero() }},
		"those of a check":  {alertFilter{check: new(health.CheckDisk)}, func(a *alert) bool { return a.Check == health.CheckDisk }},
		"those of a device": {alertFilter{device: &s.devices[1]}, func(a *alert) bool { return a.device == s.devices[1] }},
		"those since a time": {alertFilter{from: &day}, func(a *alert) bool {
			return a.ResolvedAt.IsZero() || !a.ResolvedAt.Before(day)
		}},
		"what somebody sees": {alertFilter{view: []uuid.UUID{s.devices[0]}}, func(a *alert) bool { return a.device == s.devices[0] }},
		"the site's":         {alertFilter{view: []uuid.UUID{s.site}}, func(a *alert) bool { return a.device == uuid.Nil }},
		"nothing":            {alertFilter{view: []uuid.UUID{}}, func(*alert) bool { return false }},
	} {
		for _, each := range []int{1, 5, 100} {
			if got := s.listed(k.filter, each); !slices.Equal(got, want(k.holds)) {
				t.Errorf("%s, %d a page: %d alerts, want %d in order", name, each, len(got), len(want(k.holds)))
			}
		}
	}
}

// What a person does to an alert is done to its parts where it ends, and told in its history; what is over is over.
func TestAlertsAreHandled(t *testing.T) {
	s := newShop(t)
	whole := &alert{}
	whole.Check = health.CheckSilent
	part, other := &alert{device: s.devices[0]}, &alert{device: s.devices[1]}
	s.put(whole)
	part.parent = whole.id
	s.put(part, other)
	now := time.Now().Truncate(time.Microsecond)
	var wren, gone uuid.UUID
	for _, p := range []struct {
		id      *uuid.UUID
		removed *time.Time
	}{{&gone, &now}, {&wren, nil}} {
		if err := s.pool.QueryRow(t.Context(),
			"INSERT INTO people (email, name, created_at, removed_at) VALUES ('wren@moor.example', 'Wren', "+
				"now(), $1) RETURNING id", p.removed).Scan(p.id); err != nil {
			t.Fatal(err)
		}
	}
	if id, err := s.person(t.Context(), "Wren@Moor.example"); err != nil || id != wren {
		t.Errorf("an alert would be given to somebody who was removed: %v", err)
	}
	do := func(id uuid.UUID, d action) {
		t.Helper()
		if err := s.handle(t.Context(), id, d, "robin", now); err != nil {
			t.Fatal(err)
		}
	}
	do(part.id, action{kind: health.Assigned, assign: true, assignee: &wren, detail: "wren"})
	if a, err := s.alert(t.Context(), part.id); err != nil || a.Assignee == nil || *a.Assignee != "wren@moor.example" {
		t.Errorf("%+v, %v", a.Assignee, err)
	}
	later := now.Add(time.Hour)
	do(other.id, action{kind: health.Snooze, state: new(health.Snoozed), until: &later})
	if a, err := s.alert(t.Context(), other.id); err != nil || a.State != api.AlertState(health.Snoozed) || !a.SnoozedUntil.Equal(later) {
		t.Errorf("%+v, %v", a, err)
	}
	do(whole.id, action{kind: health.Ended, state: new(health.Over)})
	for _, id := range []uuid.UUID{whole.id, part.id} {
		if a, err := s.alert(t.Context(), id); err != nil || a.ResolvedAt == nil || !a.ResolvedAt.Equal(now) {
			t.Errorf("with a whole its parts end: %v, %v", a.ResolvedAt, err)
		}
	}
	if a, _ := s.alert(t.Context(), other.id); a.ResolvedAt != nil {
		t.Error("what is no part of it ended too")
	}
	if err := s.handle(t.Context(), whole.id, action{kind: health.Snooze, state: new(health.Snoozed)}, "robin", now); !db.Missing(err) {
		t.Errorf("what is over was changed: %v", err)
	}
	do(whole.id, action{kind: health.Noted, detail: "the cable"}) // a note may follow
	events, err := s.events(t.Context(), whole.id)
	if err != nil || len(events) != 2 || string(events[0].Kind) != string(health.Ended) || events[1].Detail != "the cable" ||
		events[1].Actor != "robin" {
		t.Errorf("its history is %+v, %v", events, err)
	}
	if parts, err := s.parts(t.Context(), whole.id); err != nil || len(parts) != 1 || parts[0].ID != part.id {
		t.Errorf("its parts are %+v, %v", parts, err)
	}
}

// Policies, windows, rules and channels are listed by name, page by page; one name stands for one; what is removed is gone.
func TestSettingsByPages(t *testing.T) {
	s := newShop(t)
	channel, err := s.addChannel(t.Context(), api.Channel{ID: uuid.New(), Name: "channel 00", Kind: "mail", Target: "wren@moor.example"},
		nil,
		"robin")
	if err != nil {
		t.Fatal(err)
	}
	spec := func(name string) []byte {
		text, err := json.Marshal(health.Rule{Name: name, Scope: anywhere, Channel: channel.ID.String()})
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	for name, k := range map[string]struct {
		table string
		add   func(name string) error
		list  func(after string) (names []string, err error)
	}{
		"policies": {"policies", func(name string) error {
			_, err := s.setPolicy(t.Context(), nil, api.NewPolicy{Name: name, Scope: anywhere, Settings: []health.Setting{}}, "robin")
			return err
		}, func(after string) (names []string, err error) {
			all, err := s.policies(t.Context(), after, 4)
			for _, x := range all {
				names = append(names, x.Name)
			}
			return names, err
		}},
		"windows": {"maintenance_windows", func(name string) error {
			_, err := s.setWindow(t.Context(), nil, api.NewWindow{Name: name, Scope: anywhere}, "robin")
			return err
		}, func(after string) (names []string, err error) {
			all, err := s.windows(t.Context(), after, 4)
			for _, x := range all {
				names = append(names, x.Name)
			}
			return names, err
		}},
		"rules": {"rules", func(name string) error {
			_, err := s.setRule(t.Context(), nil, name, spec(name), "robin")
			return err
		}, func(after string) (names []string, err error) {
			all, err := s.rules(t.Context(), after, 4)
			for _, x := range all {
				names = append(names, x.Rule.Name)
				if x.ChannelName != channel.Name {
					t.Errorf("a rule tells over %q", x.ChannelName)
				}
			}
			return names, err
		}},
	} {
		var want []string
		for i := range 11 {
			want = append(want, fmt.Sprintf("%s %02d", name, i))
		}
		for _, i := range []int{3, 9, 0, 10, 1, 8, 2, 7, 4, 6, 5} {
			if err := k.add(want[i]); err != nil {
				t.Fatal(name, err)
			}
		}
		if err := k.add(want[3]); !db.Duplicate(err) {
			t.Errorf("two %s have one name: %v", name, err)
		}
		var got []string
		for {
			page, err := k.list(append([]string{""}, got...)[len(got)])
			if err != nil {
				t.Fatal(name, err)
			}
			if len(page) == 0 {
				break
			}
			got = append(got, page...)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s are listed as %q", name, got)
		}
		var id uuid.UUID
		if err := s.pool.QueryRow(t.Context(), "SELECT id FROM "+k.table+" WHERE name = $1", want[5]).Scan(&id); err != nil {
			t.Fatal(err)
		}
		if scope, err := s.scopeOf(t.Context(), k.table, id); k.table != "rules" && (err != nil || scope != anywhere) {
			t.Errorf("%s: set for %+v, %v", name, scope, err)
		}
		for round := range 2 {
			gone, err := s.remove(t.Context(), k.table, id)
			if round == 0 && (err != nil || gone != want[5]) || round == 1 && !db.Missing(err) {
				t.Errorf("%s: removed %q, %v", name, gone, err)
			}
		}
	}
	// What was set is what devices are judged by.
	r := NewRules(s.pool)
	if err := r.read(t.Context()); err != nil || len(r.policies) != 10 || len(r.windows) != 10 || len(r.rules) != 10 {
		t.Errorf("%d policies, %d windows and %d rules are read, %v", len(r.policies), len(r.windows), len(r.rules), err)
	}
}

// The secret of a webhook is kept sealed, for that webhook alone, and is sealed anew under the newest key.
func TestSecretsOfWebhooks(t *testing.T) {
	s := newShop(t)
	var ids []uuid.UUID
	for _, name := range []string{"one", "two"} {
		x, err := s.addChannel(t.Context(), api.Channel{ID: uuid.New(), Name: name, Kind: "webhook", Target: "https://moor.example/" +
			name},
			[]byte("secret of "+name), "robin")
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, x.ID)
	}
	holds := func(when string) {
		t.Helper()
		for i, name := range []string{"one", "two"} {
			if x, err := s.channel(t.Context(), ids[i]); err != nil || string(x.secret) != "secret of "+name {
				t.Errorf("%s: %q, %v", when, x.secret, err)
			}
		}
	}
	holds("at first")
	var plain int
	if err := s.pool.QueryRow(t.Context(),
		"SELECT count(*) FROM channels WHERE strpos(encode(sealed, 'escape'), 'secret') > 0 OR secret IS "+
			"NOT NULL").Scan(&plain); err != nil || plain != 0 {
		t.Errorf("%d secrets are in plain text, %v", plain, err)
	}
	if err := s.ring.Set(map[uint32][]byte{1: make([]byte, 32), 2: []byte(strings.Repeat("2", 32))}); err != nil {
		t.Fatal(err)
	}
	for _, want := range []int{2, 0} {
		if n, err := s.reseal(t.Context()); err != nil || n != want {
			t.Errorf("%d were sealed anew, want %d: %v", n, want, err)
		}
	}
	holds("under another key")
	if _, err := s.pool.Exec(t.Context(), "UPDATE channels SET sealed = (SELECT sealed FROM channels WHERE id = $1) WHERE id = $2", ids[0],
		ids[1]); err != nil {
		t.Fatal(err)
	}
	if x, err := s.channel(t.Context(), ids[1]); err != nil || len(x.secret) != 0 {
		t.Errorf("the secret of another webhook is read as its own: %q, %v", x.secret, err)
	}
}

// A response goes on where it stood, is done once, and ends with its job; what it came to is counted.
func TestResponsesAreKept(t *testing.T) {
	s := newShop(t)
	now := time.Now().Truncate(time.Microsecond)
	r := response.Response{Name: "Start it again", Check: health.CheckService, Steps: []response.Step{{Do: response.RestartService},
		{Do: response.Wait}}}
	policy, err := s.setPolicy(t.Context(), nil, api.NewPolicy{Name: "Spoolers", Scope: anywhere, Settings: []health.Setting{},
		Responses: &[]response.Response{r}}, "robin")
	if err != nil {
		t.Fatal(err)
	}
	var all []*responding
	for i := range 7 {
		x := &responding{Progress: response.Begin(r, 0, now), id: uuid.New(), device: s.devices[i%2], check: r.Check,
			subject: fmt.Sprint(i),
			policy:  health.Source{Policy: policy.ID.String(), Name: policy.Name}, began: now.Add(-time.Duration(i) * time.Minute),
			isNew: true}
		all = append(all, x)
	}
	put := func() error {
		return pgx.BeginFunc(t.Context(), s.pool, func(tx pgx.Tx) error {
			return putResponses(t.Context(), tx, map[uuid.UUID]*judged{s.devices[0]: {responses: all}})
		})
	}
	if err := put(); err != nil {
		t.Fatal(err)
	}
	due, err := s.dueResponses(t.Context(), 5)
	if err != nil || len(due) != 5 || due[0].id != all[6].id {
		t.Fatalf("%d are due, %v", len(due), err)
	}
	x, job := due[0], uuid.New()
	x.State, x.job = response.Doing, job
	if err := errors.Join(s.moveResponse(t.Context(), x), s.moveResponse(t.Context(), x)); err != nil {
		t.Fatal(err)
	}
	if doing, err := s.doingResponses(t.Context()); err != nil || !slices.Equal(doing, []uuid.UUID{job}) {
		t.Errorf("it waits for the jobs %v, %v", doing, err)
	}
	if device, err := s.didResponse(t.Context(), uuid.New(), true, "", now); err != nil || device != uuid.Nil {
		t.Errorf("a job that is no response's is one of %s: %v", device, err)
	}
	if device, err := s.didResponse(t.Context(), job, true, "", now.Add(-time.Hour)); err != nil || device != x.device {
		t.Errorf("the job is one of %s: %v", device, err)
	}
	if watched, err := s.watchedResponses(t.Context()); err != nil || !slices.Equal(watched, []uuid.UUID{x.device}) {
		t.Errorf("watched long enough are %v, %v", watched, err)
	}
	if again, err := s.didResponse(t.Context(), job, false, "failed", now); err != nil || again != uuid.Nil {
		t.Errorf("a job ends a step twice: %v", err)
	}
	// The others end.
	for i, to := range []response.State{response.Healed, response.Healed, response.GaveUp, response.Held} {
		all[i].State, all[i].ended, all[i].isNew, all[i].touched = to, now, false, true
	}
	all = all[:4]
	if err := put(); err != nil {
		t.Fatal(err)
	}
	listed, err := s.policies(t.Context(), "", 10)
	if err != nil || listed[0].Outcomes == nil || len(*listed[0].Outcomes) != 1 ||
		(*listed[0].Outcomes)[0] != (api.ResponseOutcome{Name: r.Name,
			Healed: 2, GaveUp: 1, Held: 1, UnderWay: 3}) {
		t.Errorf("they came to %+v, %v", listed[0].Outcomes, err)
	}
	count := func(view []uuid.UUID, device *uuid.UUID, open bool) int {
		t.Helper()
		n, at := 0, moment{At: time.Now().Add(time.Hour)}
		for {
			page, err := s.responses(t.Context(), view, device, &policy.ID, open, at, 2)
			if err != nil {
				t.Fatal(err)
			}
			if len(page) == 0 {
				return n
			}
			for _, p := range page {
				n++
				at = moment{p.BeganAt, p.ID}
			}
		}
	}
	if a, b, c, d := count(nil, nil, false), count(nil, nil, true), count(nil, &s.devices[1], false),
		count([]uuid.UUID{s.devices[0]}, nil, false); a != 7 || b != 3 || c != 3 || d != 4 {
		t.Errorf("listed %d, %d open, %d of a device, %d of what is seen", a, b, c, d)
	}
	a := &alert{device: s.devices[0]}
	a.Check, a.Subject, a.OpenedAt = r.Check, "0", now.Add(-time.Second)
	s.put(a)
	if got, err := s.alert(t.Context(), a.id); err != nil || got.Response == nil || got.Response.ID != all[0].id {
		t.Errorf("what was done about an alert is %+v, %v", got.Response, err)
	}
}
