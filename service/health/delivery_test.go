package health

import (
	"context"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/demo/mail"
	"moorwatch.example/service/post"
	"moorwatch.example/test/database"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// office is a service that tells people by mail, with the sink that takes it.
type office struct {
	*Service
	t       *testing.T
	pool    *pgxpool.Pool
	sink    *mail.Sink
	site    uuid.UUID
	device  uuid.UUID
	channel uuid.UUID
}

func open(t *testing.T) *office {
	t.Helper()
	o := &office{t: t, pool: database.New(t), channel: uuid.New()}
	ring, err := secret.NewRing("webhooks", map[uint32][]byte{1: make([]byte, 32)})
	if err == nil {
		o.sink, err = mail.Start("")
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(o.sink.Stop)
	o.Service = &Service{store: store{o.pool, ring}, post: post.Post{SMTP: o.sink.URL, From: "moorwatch@curlew-sedge.example"},
		url: "https://moor.curlew-sedge.example"}
	devices, site := database.Devices(t, o.pool, "heron")
	o.device, o.site = devices[0], site
	o.add(o.channel, "technicians", "mail", "wren@curlew-sedge.example, crake@curlew-sedge.example", nil)
	return o
}

func (o *office) add(id uuid.UUID, name, kind, target string, secret []byte) {
	o.t.Helper()
	if _, err := o.store.addChannel(o.t.Context(), api.Channel{ID: id, Name: name, Kind: kind, Target: target}, secret,
		"wren"); err != nil {
		o.t.Fatal(err)
	}
}

// tell notes events of an alert about the device, by a rule.
func (o *office) tell(r health.Rule, channel uuid.UUID, kinds ...health.EventKind) {
	o.t.Helper()
	a := &alert{Alert: health.Alert{Check: "disk", Subject: "/", Level: health.Critical, Message: "disk / is 97 % full", Since: time.Now()},
		id: uuid.New(), device: o.device, site: o.site}
	var all []telling
	for _, kind := range kinds {
		all = append(all, telling{rule{Rule: r}, channel, happened{alert: a, kind: kind}})
	}
	if err := pgx.BeginFunc(o.t.Context(), o.pool, func(tx pgx.Tx) error {
		return putDeliveries(o.t.Context(), tx, all, time.Now())
	}); err != nil {
		o.t.Fatal(err)
	}
}

// delivers delivers what is due, and returns how much that was.
func (o *office) delivers() int {
	o.t.Helper()
	n, err := o.deliverDue(o.t.Context())
	if err != nil {
		o.t.Fatal(err)
	}
	return n
}

// dueNow has everything be due that waits.
func (o *office) dueNow() {
	o.t.Helper()
	if _, err := o.pool.Exec(o.t.Context(), "UPDATE deliveries SET due = now() WHERE state IN ('waiting', 'gathering')"); err != nil {
		o.t.Fatal(err)
	}
}

func (o *office) list() []api.Delivery {
	o.t.Helper()
	all, err := o.store.deliveries(o.t.Context(), moment{time.Now().Add(time.Hour), uuid.Max}, 100)
	if err != nil {
		o.t.Fatal(err)
	}
	return all
}

func (o *office) mails() []mail.Message { all, _ := o.sink.Taken(); return all }

func TestAnAlertIsTold(t *testing.T) {
	o := open(t)
	o.tell(health.Rule{Name: "all"}, o.channel, health.Opened)
	if n := o.delivers(); n != 1 {
		t.Fatalf("%d deliveries were due", n)
	}
	if n := o.delivers(); n != 0 {
		t.Errorf("%d are due after it was told", n)
	}
	sent := o.mails()
	if len(sent) != 1 || sent[0].Subject != "[critical] heron: disk / is 97 % full" || len(sent[0].To) != 2 {
		t.Fatalf("sent %+v", sent)
	}
	for _, want := range []string{"heron at Quay, Wader", "https://moor.curlew-sedge.example/alerts/", health.NextStep("disk")} {
		if !strings.Contains(sent[0].Text, want) {
			t.Errorf("the mail does not tell %q: %s", want, sent[0].Text)
		}
	}
	if all := o.list(); len(all) != 1 || all[0].State != "sent" || all[0].SentAt == nil || all[0].Attempts != 1 {
		t.Errorf("listed %+v", all)
	}
}

// What a digest gathers is told once its time has come, as one; what nobody acknowledged waits for no digest.
func TestDigests(t *testing.T) {
	o := open(t)
	digest := health.Rule{Name: "digest", DigestMinutes: 15}
	o.tell(digest, o.channel, health.Opened, health.Ended)
	o.tell(digest, o.channel, health.Opened)
	o.tell(health.Rule{Name: "another digest", DigestMinutes: 15}, o.channel, health.Opened)
	o.tell(digest, o.channel, health.Escalated)
	if n := o.delivers(); n != 1 || len(o.mails()) != 1 || !strings.HasPrefix(o.mails()[0].Subject, "[not acknowledged]") {
		t.Fatalf("%d were due: %+v", n, o.mails())
	}
	o.dueNow()
	if n := o.delivers(); n != 2 {
		t.Errorf("%d digests were due", n)
	}
	subjects := map[string]bool{}
	for _, m := range o.mails() {
		subjects[m.Subject] = true
	}
	if !subjects["3 alerts"] || len(o.mails()) != 3 {
		t.Errorf("sent %v", subjects)
	}
	o.tell(digest, o.channel, health.Opened) // after the digest was told, another begins
	if all := o.list(); len(all) != 4 || all[0].State != "gathering" {
		t.Errorf("listed %+v", all)
	}
}

// A server that takes no mail is tried again, each time later, until it does or everybody gives up.
func TestMailIsTriedAgain(t *testing.T) {
	o := open(t)
	o.sink.Refuse(true)
	o.tell(health.Rule{Name: "all"}, o.channel, health.Opened)
	var waited time.Duration
	for try := 1; try < deliverTries; try++ {
		if n := o.delivers(); n != 1 {
			t.Fatalf("try %d: %d were due", try, n)
		}
		d := o.list()[0]
		if d.State != "waiting" || d.Attempts != try || !strings.Contains(d.Error, "takes no mail") {
			t.Fatalf("try %d: %+v", try, d)
		}
		wait := time.Until(d.Due)
		if wait < waited-time.Minute || wait > longestRetry+time.Minute {
			t.Errorf("try %d comes again after %s, the one before after %s", try, wait, waited)
		}
		waited = wait
		if n := o.delivers(); n != 0 {
			t.Fatalf("try %d: it is tried again at once", try)
		}
		o.dueNow()
	}
	if o.delivers(); o.list()[0].State != "failed" {
		t.Errorf("after the last try: %+v", o.list()[0])
	}
	o.sink.Refuse(false)
	o.dueNow()
	if n := o.delivers(); n != 0 || len(o.mails()) != 0 {
		t.Errorf("what was given up is told: %d", n)
	}
	o.tell(health.Rule{Name: "all"}, o.channel, health.Opened)
	if o.delivers(); len(o.mails()) != 1 {
		t.Errorf("%d mails once the server is back", len(o.mails()))
	}
}

// What one process has claimed no other tells, until its time for that is over.
func TestADeliveryIsClaimedOnce(t *testing.T) {
	o := open(t)
	const all = 60
	for range all {
		o.tell(health.Rule{Name: "all"}, o.channel, health.Opened)
	}
	var mu sync.Mutex
	claimed := map[uuid.UUID]int{}
	var nodes sync.WaitGroup
	for range 4 {
		nodes.Go(func() {
			for {
				due, err := o.store.claim(t.Context(), 7, time.Hour)
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				for _, d := range due {
					claimed[d.id]++
				}
				mu.Unlock()
				if len(due) == 0 {
					return
				}
			}
		})
	}
	nodes.Wait()
	if len(claimed) != all {
		t.Errorf("%d of %d were claimed", len(claimed), all)
	}
	for id, n := range claimed {
		if n > 1 {
			t.Errorf("%s was claimed %d times", id, n)
		}
	}
	o.dueNow() // whoever claimed them did not come back
	if due, err := o.store.claim(t.Context(), all, time.Hour); err != nil || len(due) != all || due[0].attempts != 2 {
		t.Errorf("%d are claimed again, %v", len(due), err)
	}
}

func TestChannelsThatAreGoneOrUnreadable(t *testing.T) {
	o := open(t)
	o.tell(health.Rule{Name: "gone"}, uuid.New(), health.Opened) // removed since the rules were read
	if len(o.list()) != 0 {
		t.Errorf("listed %+v", o.list())
	}
	hook := uuid.New()
	o.add(hook, "hook", "webhook", "https://hooks.curlew-sedge.example/x", []byte("heather"))
	if err := o.store.ring.Set(map[uint32][]byte{2: append(make([]byte, 31), 1)}); err != nil { // the key is lost
		t.Fatal(err)
	}
	o.tell(health.Rule{Name: "all"}, hook, health.Opened)
	o.delivers()
	if d := o.list()[0]; d.State != "waiting" || !strings.Contains(d.Error, "remove the channel, and add it again") {
		t.Errorf("listed %+v", d)
	}
	if _, err := o.pool.Exec(t.Context(), "DELETE FROM channels WHERE id = $1", hook); err != nil {
		t.Fatal(err)
	}
	if len(o.list()) != 0 {
		t.Error("what was to be told to a channel outlives it")
	}
}

func TestOldDeliveriesAreForgotten(t *testing.T) {
	o := open(t)
	for range 3 {
		o.tell(health.Rule{Name: "all"}, o.channel, health.Opened)
	}
	if due, err := o.store.claim(t.Context(), 2, time.Hour); err != nil || len(due) != 2 {
		t.Fatal(due, err)
	} else if err := o.store.sent(t.Context(), due[0].id); err != nil {
		t.Fatal(err)
	} else if err := o.store.failed(t.Context(), due[1].id, nil, "no"); err != nil {
		t.Fatal(err)
	}
	if err := o.expire(t.Context()); err != nil || len(o.list()) != 3 {
		t.Errorf("%d are left of 3 young ones, %v", len(o.list()), err)
	}
	if _, err := o.pool.Exec(t.Context(), "UPDATE deliveries SET created_at = now() - interval '31 days'"); err != nil {
		t.Fatal(err)
	}
	if err := o.expire(t.Context()); err != nil || len(o.list()) != 1 || o.list()[0].State != "waiting" {
		t.Errorf("left: %+v, %v", o.list(), err)
	}
}

func TestADatabaseThatIsAwayTellsNobody(t *testing.T) {
	o := open(t)
	o.tell(health.Rule{Name: "all"}, o.channel, health.Opened)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := o.deliverDue(gone); err == nil || len(o.mails()) != 0 {
		t.Errorf("told %d, %v", len(o.mails()), err)
	}
}
