package test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/demo/mail"
	"moorwatch.example/service/post"
)

var everywhere = health.Scope{Kind: health.Everywhere}

// vitals sends one report of a reporter that was just taken.
func (r *reporter) vitals(t *testing.T, v device.Vitals) link.Receipt {
	t.Helper()
	v.At = time.Now()
	status, receipt, text := r.send(t, batch(t, uuid.NewString(), v.At, link.Report{Seq: 1, Vitals: v}))
	if status != http.StatusOK {
		t.Fatal(text)
	}
	return receipt
}

func diskAt(percent int64) device.Vitals {
	return device.Vitals{CPU: 5, Memory: 40, Disks: []device.Disk{{Mount: "/srv", TotalBytes: 100e9, UsedBytes: percent * 1e9}}}
}

func (w *world) attention(t *testing.T) *api.AttentionPage {
	t.Helper()
	return must(client.Result(w.owner.ListAttentionWithResponse(t.Context(), &api.ListAttentionParams{})))(t)
}

func (w *world) alerts(t *testing.T, state string) []api.Alert {
	t.Helper()
	return must(client.Result(w.owner.ListAlertsWithResponse(t.Context(), &api.ListAlertsParams{State: &state})))(t).Items
}

// told makes a channel to a mail sink, and a rule that tells it of everything from a level.
func told(t *testing.T, w *world, least health.Level, change func(*health.Rule)) {
	t.Helper()
	c := must(client.Made(w.owner.AddChannelWithResponse(t.Context(),
		api.NewChannel{Name: "Duty", Kind: "email", Target: "duty@curlew-sedge.example"})))(t)
	r := health.Rule{Name: "All", Scope: everywhere, Least: least, Ends: true, Channel: c.ID.String()}
	if change != nil {
		change(&r)
	}
	must(client.Made(w.owner.AddRuleWithResponse(t.Context(), r)))(t)
}

// withMail begins a world whose mail goes to a sink.
func withMail(t *testing.T) (*world, *mail.Sink) {
	t.Helper()
	sink := must(mail.Start(""))(t)
	t.Cleanup(sink.Stop)
	w := begin(t, false)
	w.Stop()
	w.config.Post = post.Post{SMTP: sink.URL, From: "moorwatch@curlew-sedge.example"}
	w.start(t)
	w.owner = w.client(t, w.token)
	return w, sink
}

// mailed waits until the sink has taken so many mails.
func mailed(t *testing.T, sink *mail.Sink, n int) []mail.Message {
	t.Helper()
	limit := time.After(soon)
	for {
		taken, more := sink.Taken()
		if len(taken) >= n {
			return taken
		}
		select {
		case <-more:
		case <-limit:
			t.Fatalf("%d of %d mails: %+v", len(taken), n, taken)
		}
	}
}

// An alert opens once, is told, handled, and ends by itself; each step is on record.
func TestAlertLife(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	told(t, w, health.Warning, nil)
	r := w.reporter(t, "sal-records")
	r.vitals(t, diskAt(50))
	r.vitals(t, diskAt(96))
	w.await(t, "an alert", func() bool { return w.attention(t).Total == 1 })
	first := w.attention(t).Items[0]
	if first.Alert.Level != health.Critical || first.NextStep == "" || first.Device == nil ||
		!strings.Contains(first.Alert.Message, "Disk /srv is 96 % full: 4.0 GB of 100 GB left.") {
		t.Errorf("the first page shows %+v", first)
	}
	r.vitals(t, diskAt(96))
	r.vitals(t, diskAt(97))
	taken := mailed(t, sink, 1)
	if m := taken[0]; !strings.Contains(m.Subject, "[critical] ") || !strings.Contains(m.Text, "Next step  See what fills it") ||
		m.To[0] != "duty@curlew-sedge.example" {
		t.Errorf("the mail is %+v", m)
	}
	id := first.Alert.ID
	do := func(in api.AlertAction) *api.Alert {
		return must(client.Result(w.owner.HandleAlertWithResponse(t.Context(), id, in)))(t)
	}
	note, me := "The log is not rotated.", "robin@curlew-sedge.example"
	if a := do(api.AlertAction{Action: "acknowledge"}); a.State != health.Acknowledged {
		t.Errorf("%+v", a)
	}
	do(api.AlertAction{Action: "note", Text: &note})
	if a := do(api.AlertAction{Action: "assign", Assignee: &me}); a.Assignee == nil || *a.Assignee != me {
		t.Errorf("%+v", a)
	}
	until := time.Now().Add(time.Hour)
	do(api.AlertAction{Action: "snooze", Until: &until})
	if page := w.attention(t); page.Total != 0 || page.Quiet != 1 {
		t.Errorf("a snoozed alert is shown: %+v", page)
	}
	far := time.Now().AddDate(1, 0, 0)
	_, err := client.Result(w.owner.HandleAlertWithResponse(t.Context(), id, api.AlertAction{Action: "snooze", Until: &far}))
	refused(t, err, http.StatusBadRequest, "within the next 30 days")
	_, err = client.Result(w.owner.HandleAlertWithResponse(t.Context(), id, api.AlertAction{Action: "note"}))
	refused(t, err, http.StatusBadRequest, "The note is empty.")
	r.vitals(t, diskAt(50))
	w.await(t, "the alert ends", func() bool { return len(w.alerts(t, "resolved")) == 1 })
	if m := mailed(t, sink, 2)[1]; !strings.Contains(m.Subject, "[resolved]") {
		t.Errorf("the mail at the end is %+v", m)
	}
	whole := must(client.Result(w.owner.GetAlertWithResponse(t.Context(), id)))(t)
	var kinds []string
	for _, e := range whole.Events {
		kinds = append(kinds, e.Kind)
	}
	if got := strings.Join(kinds, " "); got != "opened acknowledged noted assigned snoozed resolved" {
		t.Errorf("what happened: %s", got)
	}
	_, err = client.Result(w.owner.HandleAlertWithResponse(t.Context(), id, api.AlertAction{Action: "acknowledge"}))
	refused(t, err, http.StatusConflict, "The alert is over.")
	r.vitals(t, diskAt(96)) // so soon after its end it is the same alert
	w.await(t, "the alert is open again", func() bool { return len(w.alerts(t, "open")) == 1 })
	if again := w.alerts(t, "open")[0]; again.ID != id {
		t.Error("what came back soon is another alert")
	}
}

// What a person closed stays closed while its finding goes on, through a restart too.
func TestResolvedByHand(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	r := w.reporter(t, "sal-records")
	r.vitals(t, diskAt(96))
	w.await(t, "an alert", func() bool { return w.attention(t).Total == 1 })
	must(client.Result(w.owner.HandleAlertWithResponse(t.Context(), w.attention(t).Items[0].Alert.ID,
		api.AlertAction{Action: "resolve"})))(t)
	r.vitals(t, diskAt(97))
	r.vitals(t, diskAt(98))
	w.await(t, "the finding goes on", func() bool {
		f := must(w.owner.Device(t.Context(), r.id))(t).Findings
		return len(f) == 1 && strings.Contains(f[0].Message, "98 %")
	})
	if n := len(w.alerts(t, "current")); n != 0 {
		t.Errorf("%d alerts are current", n)
	}
}

// A site whose devices all go at once is one alert; it ends when they are back.
func TestSiteSilentIsOneAlert(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	told(t, w, health.Warning, nil)
	w.policy(t, "soon", everywhere, health.Setting{Check: "silent", Level: health.Warning, ForSeconds: 2})
	var devices []*running
	for i := range 4 {
		devices = append(devices, w.simulated(t, fmt.Sprintf("hay-desk-%02d", i+1)))
	}
	for _, d := range devices {
		d.stop()
	}
	w.await(t, "the site's alert", func() bool {
		page := w.attention(t)
		return page.Total == 1 && page.Items[0].Alert.DeviceID == nil && page.Items[0].Alert.Devices == 4
	})
	a := w.attention(t).Items[0].Alert
	if a.Site != site || a.Devices != 4 || a.Level != health.Critical || !strings.Contains(a.Message, "all 4 devices, at once") {
		t.Errorf("the site's alert is %+v", a)
	}
	if m := mailed(t, sink, 1); len(m) != 1 || !strings.Contains(m[0].Subject, site) {
		t.Errorf("%d mails: %+v", len(m), m)
	}
	for i, d := range devices[:3] {
		w.again(t, d, fmt.Sprintf("hay-desk-%02d", i+1))
	}
	w.await(t, "the site's alert ends, and the one that stays away has its own", func() bool {
		page := w.attention(t)
		return page.Total == 1 && page.Items[0].Alert.DeviceID != nil && *page.Items[0].Alert.DeviceID == devices[3].id
	})
}

// The nearest policy judges, a device says which; what a window mutes is told after it; thresholds
// are tried on the past.
func TestPoliciesAndWindows(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	told(t, w, health.Notice, nil)
	r := w.reporter(t, "sal-records")
	number := func(v float64) *float64 { return &v }
	disk := func(at float64) health.Setting {
		return health.Setting{Check: "disk", Above: &health.Limits{Warning: number(at)}}
	}
	window := must(client.Made(w.owner.AddWindowWithResponse(t.Context(), api.NewWindow{Name: "now", Scope: everywhere,
		Span: calendar.Window{Start: time.Now().UTC().Add(-time.Hour).Format(calendar.LocalTime), Rule: "FREQ=DAILY", Minutes: 180,
			Zone: "UTC"}})))(t)
	w.policy(t, "wide", everywhere, disk(30))
	mine := w.policy(t, "mine", health.Scope{Kind: health.Device, ID: r.id.String()}, disk(60))
	r.vitals(t, diskAt(50))
	r.vitals(t, diskAt(70))
	w.await(t, "an alert, muted", func() bool {
		page := w.attention(t)
		return page.Total == 0 && page.Quiet == 1
	})
	w.await(t, "the finding, which a window does not hide", func() bool {
		f := must(w.owner.Device(t.Context(), r.id))(t)
		return len(f.Findings) == 1 && f.Device.Condition == health.Degraded
	})
	if taken, _ := sink.Taken(); len(taken) != 0 {
		t.Errorf("a muted alert was told: %+v", taken)
	}
	for _, c := range must(client.Result(w.owner.ListDeviceChecksWithResponse(t.Context(), r.id)))(t).Items {
		if c.Setting.Check == "disk" && c.Policy != "mine" {
			t.Errorf("the disk is judged by %q", c.Policy)
		}
	}
	trial := must(client.Result(w.owner.TryPolicyWithResponse(t.Context(), api.Trial{Setting: disk(65), Scope: everywhere})))(t)
	if trial.Alerts != 1 || trial.Devices != 1 || trial.Checked != 1 {
		t.Errorf("the trial gives %+v", trial)
	}
	if err := client.Done(w.owner.RemoveWindowWithResponse(t.Context(), window.ID)); err != nil {
		t.Fatal(err)
	}
	if m := mailed(t, sink, 1); !strings.Contains(m[0].Subject, "70 % full") {
		t.Errorf("after the window: %+v", m)
	}
	if err := client.Done(w.owner.RemovePolicyWithResponse(t.Context(), mine.ID)); err != nil {
		t.Fatal(err)
	}
	for text, y := range map[string]api.NewPolicy{
		"there is no check": {Name: "a", Scope: everywhere, Settings: []health.Setting{{Check: "nonsense"}}},
		"There is no such site": {Name: "b", Scope: health.Scope{Kind: health.Site, ID: uuid.NewString()},
			Settings: []health.Setting{disk(1)}},
		"of this name already": {Name: "wide", Scope: everywhere, Settings: []health.Setting{disk(1)}},
	} {
		_, err := client.Made(w.owner.AddPolicyWithResponse(t.Context(), y))
		if err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%+v: %v, want %q", y, err, text)
		}
	}
}

// An alert that a new policy opens is since its state began, each sensor's since its own.
func TestSinceBeforeThePolicy(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	r := w.reporter(t, "tarn-ridge-3")
	now := time.Now()
	var list []link.Report
	for i := range 60 {
		v := device.Vitals{At: now.Add(time.Duration(i-60) * time.Minute), CPU: 5,
			Temperatures: []device.Temperature{{Sensor: "soc", Celsius: 50}, {Sensor: "housing", Celsius: 50}}}
		if i >= 20 {
			v.Temperatures[0].Celsius = 70
		}
		if i >= 50 {
			v.Temperatures[1].Celsius = 70
		}
		list = append(list, link.Report{Seq: uint64(i + 1), Vitals: v})
	}
	if status, _, text := r.send(t, batch(t, uuid.NewString(), now, list...)); status != http.StatusOK {
		t.Fatal(text)
	}
	if err := w.Vitals.CompactBefore(t.Context(), now.Add(-10*time.Minute).Add(4*time.Hour)); err != nil {
		t.Fatal(err)
	}
	limit := 65.0
	w.policy(t, "cool", everywhere, health.Setting{Check: "temperature", Above: &health.Limits{Warning: &limit}})
	for subject, ago := range map[string]time.Duration{"soc": 40 * time.Minute, "housing": 10 * time.Minute} {
		w.await(t, subject+" is hot since it became so", func() bool {
			for _, a := range w.alerts(t, "current") {
				if off := now.Add(-ago).Sub(a.Since); a.Subject == subject && off.Abs() < 5*time.Minute {
					return true
				}
			}
			return false
		})
	}
}

// What a policy asks to be watched reaches the agent, and what it finds comes back.
func TestProbes(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.machine(t, "van-board")
	open := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	defer open.Close()
	go func() {
		for {
			c, err := open.Accept()
			if err != nil {
				return
			}
			c.Close()
		}
	}()
	closed := freeAddress(t)
	server := httptest.NewTLSServer(http.NotFoundHandler()) // its certificate is of nobody known
	defer server.Close()
	w.policy(t, "reach", everywhere, health.Setting{Check: "tcp", Subject: open.Addr().String(), EverySeconds: 10},
		health.Setting{Check: "tcp", Subject: closed, EverySeconds: 10},
		health.Setting{Check: "http", Subject: server.URL, EverySeconds: 10},
		health.Setting{Check: "dns", Subject: "nosuch.invalid", EverySeconds: 10},
		health.Setting{Check: "unwanted", Subject: "moor-no-such-*"})
	found := func(subject string) bool {
		for _, a := range w.alerts(t, "current") {
			if a.Subject == subject {
				return true
			}
		}
		return false
	}
	w.await(t, "the agent's findings", func() bool { return found(closed) && found(server.URL) && found("nosuch.invalid") })
	if found(open.Addr().String()) || found("moor-no-such-*") {
		t.Errorf("what is well has an alert: %+v", w.alerts(t, "current"))
	}
}

// A webhook is signed so that its receiver can tell; what is refused is tried again, and said.
func TestWebhook(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	refuse := api.NewChannel{Name: "Inside", Kind: "webhook", Target: "https://127.0.0.1:1/hook"}
	inside := must(client.Made(w.owner.AddChannelWithResponse(t.Context(), refuse)))(t)
	if r := must(client.Result(w.owner.TestChannelWithResponse(t.Context(), inside.ID)))(t); r.Sent ||
		!strings.Contains(r.Detail, "must be a public one") {
		t.Errorf("an address of this computer: %+v", r)
	}
	w.Stop()
	w.config.Post.Reach = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	w.start(t)
	var secret []byte
	type got struct {
		err  error
		body string
	}
	calls, status := make(chan got, 10), http.StatusNoContent
	var server *httptest.Server
	server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		calls <- got{post.Verify(r, server.URL+r.URL.Path, body, secret, time.Minute, time.Now()), r.Header.Get("Content-Type") + " " +
			string(body)}
		rw.WriteHeader(status)
	}))
	defer server.Close()
	c := must(client.Made(w.owner.AddChannelWithResponse(t.Context(),
		api.NewChannel{Name: "Desk", Kind: "webhook", Target: server.URL + "/hook"})))(t)
	if c.Secret == nil {
		t.Fatal("no secret is shown")
	}
	secret = must(decode64(*c.Secret))(t)
	if list := must(client.Result(w.owner.ListChannelsWithResponse(t.Context(), nil)))(t); list.Items[0].Secret != nil {
		t.Error("a secret is shown twice")
	}
	test := func() *api.ChannelTest {
		return must(client.Result(w.owner.TestChannelWithResponse(t.Context(), c.ID)))(t)
	}
	if r := test(); !r.Sent {
		t.Errorf("%+v", r)
	}
	if g := <-calls; g.err != nil || !strings.Contains(g.body, `"specversion":"1.0"`) ||
		!strings.Contains(g.body, "application/cloudevents+json") {
		t.Errorf("%v, %s", g.err, g.body)
	}
	good := secret
	secret = []byte("another")
	test()
	if g := <-calls; g.err == nil {
		t.Error("a signature holds for another secret")
	}
	secret, status = good, http.StatusInternalServerError
	if r := test(); r.Sent || !strings.Contains(r.Detail, "500") {
		t.Errorf("a refusal is told as %+v", r)
	}
	<-calls
	must(client.Made(w.owner.AddRuleWithResponse(t.Context(),
		health.Rule{Name: "All", Scope: everywhere, Least: health.Warning, Channel: c.ID.String()})))(t)
	w.reporter(t, "sal-records").vitals(t, diskAt(96))
	if g := <-calls; g.err != nil || !strings.Contains(g.body, `"type":"moorwatch.alert.opened"`) {
		t.Errorf("%v, %s", g.err, g.body)
	}
	w.await(t, "the refusal is on record", func() bool {
		d := must(client.Result(w.owner.ListDeliveriesWithResponse(t.Context(), nil)))(t).Items
		return len(d) == 1 && d[0].State == "waiting" && strings.Contains(d[0].Error, "500") && d[0].Attempts == 1 &&
			d[0].Due.After(time.Now())
	})
	err := client.Done(w.owner.RemoveChannelWithResponse(t.Context(), c.ID))
	refused(t, err, http.StatusConflict, "The rule All tells it")
}

// An alert that nobody acknowledges is told to the next, once and at once; a digest is one mail.
func TestEscalationAndDigest(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	lead := must(client.Made(w.owner.AddChannelWithResponse(t.Context(),
		api.NewChannel{Name: "Lead", Kind: "email", Target: "lead@curlew-sedge.example"})))(t)
	told(t, w, health.Warning, func(r *health.Rule) {
		r.Ends, r.EscalateMinutes, r.EscalateTo, r.DigestMinutes = false, 1, lead.ID.String(), 1
	})
	for i := range 3 {
		w.reporter(t, fmt.Sprintf("sal-records-%d", i)).vitals(t, diskAt(96))
	}
	w.await(t, "three alerts", func() bool { return len(w.alerts(t, "open")) == 3 })
	one := w.alerts(t, "open")[0].ID
	must(client.Result(w.owner.HandleAlertWithResponse(t.Context(), one, api.AlertAction{Action: "acknowledge"})))(t)
	w.later(t, 61*time.Second)
	digest, escalated := 0, 0
	for _, m := range mailed(t, sink, 3) {
		switch {
		case m.Subject == "3 alerts" && m.To[0] == "duty@curlew-sedge.example":
			digest++
		case strings.HasPrefix(m.Subject, "[not acknowledged] sal-records-") && m.To[0] == "lead@curlew-sedge.example":
			escalated++
		default:
			t.Errorf("a mail to %v: %s", m.To, m.Subject)
		}
	}
	if digest != 1 || escalated != 2 {
		t.Errorf("%d digests and %d escalations", digest, escalated)
	}
}
