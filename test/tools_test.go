package test

import (
	"bytes"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
)

func TestProcesses(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	child := exec.Command("sh", "-c", "sleep 301 & sleep 302")
	if err := child.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- child.Wait() }()
	var mine link.Process
	w.await(t, "the processes are listed", func() bool {
		n := 0
		for _, p := range must(client.Result(w.owner.ListProcessesWithResponse(t.Context(), d.id)))(t).Items {
			if p.PID == child.Process.Pid {
				mine = p
			}
			if p.Parent == child.Process.Pid {
				n++
			}
		}
		return mine.PID != 0 && n == 2
	})
	if !strings.Contains(mine.Command, "sleep 301") || time.Since(mine.Started) > time.Minute {
		t.Errorf("it is listed as %+v", mine)
	}
	do := func(order link.ProcessAction) (*link.Outcome, error) {
		return client.Result(w.owner.ChangeProcessWithResponse(t.Context(), d.id, order))
	}
	_, err := do(link.ProcessAction{Action: link.ProcessEnd, PID: mine.PID, Started: mine.Started.Add(-time.Hour)})
	refused(t, err, http.StatusNotFound, "belongs to another")
	_, err = do(link.ProcessAction{Action: link.ProcessEnd, PID: os.Getpid()})
	refused(t, err, http.StatusUnprocessableEntity, "left alone")
	must(do(link.ProcessAction{Action: link.ProcessPause, PID: mine.PID, Started: mine.Started}))(t)
	w.await(t, "the process is paused", func() bool {
		return bytes.Contains(must(os.ReadFile("/proc/"+strconv.Itoa(mine.PID)+"/stat"))(t), []byte(") T "))
	})
	must(do(link.ProcessAction{Action: link.ProcessContinue, PID: mine.PID, Started: mine.Started}))(t)
	must(do(link.ProcessAction{Action: link.ProcessPriority, PID: mine.PID, Started: mine.Started, Priority: link.PriorityLow}))(t)
	o := must(do(link.ProcessAction{Action: link.ProcessEndTree, PID: mine.PID, Started: mine.Started}))(t)
	if len(o.PIDs) != 3 {
		t.Errorf("%+v", o)
	}
	<-ended
	_, err = do(link.ProcessAction{Action: link.ProcessEnd, PID: mine.PID, Started: mine.Started})
	refused(t, err, http.StatusNotFound, "ended")
}

// records is the server of the stories whose copying of records hangs.
func (w *world) records(t *testing.T) *running {
	t.Helper()
	return w.agent(t, "sal-records", sim.Device{Name: "sal-records", Kind: sim.Server, Seed: 7, Address: "198.51.100.17",
		Stuck: time.Now().Add(-20 * time.Minute), Dir: t.TempDir()}.Host(time.Now), nil)
}

func TestServices(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.records(t)
	s := must(client.Result(w.owner.GetServiceWithResponse(t.Context(), d.id, "records-sync.service")))(t)
	if s.State != "running" || !strings.Contains(s.Detail, "no sign of life") ||
		!strings.Contains(strings.Join(s.Log, "\n"), "no record copied") {
		t.Errorf("the stuck service shows %+v", s)
	}
	do := func(c *client.Client, order link.ServiceAction) error {
		_, err := client.Result(c.ChangeServiceWithResponse(t.Context(), d.id, order))
		return err
	}
	refused(t, do(w.owner, link.ServiceAction{Action: link.ServiceStop, Name: "postgresql.service"}), http.StatusConflict, "would stop too")
	refused(t, do(w.person(t, access.Viewer), link.ServiceAction{Action: link.ServiceStop, Name: "records-sync"}), http.StatusForbidden,
		"services.act")
	refused(t, do(w.person(t, access.Helper), link.ServiceAction{Action: link.ServiceMode, Name: "records-sync", Start: "manual"}),
		http.StatusForbidden, "services.administer")
	if err := do(w.person(t, access.Helper), link.ServiceAction{Action: link.ServiceRestart, Name: "records-sync"}); err != nil {
		t.Fatal(err)
	}
	s = must(client.Result(w.owner.GetServiceWithResponse(t.Context(), d.id, "records-sync.service")))(t)
	if strings.Contains(s.Detail, "no sign of life") {
		t.Errorf("after its restart it shows %+v", s)
	}
	var all []string
	r, err := w.owner.ReadEvents(t.Context(), d.id,
		link.EventQuery{Source: "journal", Unit: "records-sync.service", Level: "info", Follow: true})
	err = client.Lines(t.Context(), r, err, "while it was followed", func(b link.EventBatch) (bool, error) {
		for _, e := range b.Events {
			all = append(all, e.Message)
		}
		return b.Live, nil
	})
	if err != nil || !strings.Contains(strings.Join(all, "\n"), "copying to three surgeries") {
		t.Errorf("its log: %v, %v", all, err)
	}
}

// Sessions are on record with what was done in them; the person at the device is asked where a rule
// says so, and their word counts.
func TestConsent(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	desk := w.agent(t, "hay-desk-01", sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 6, Address: "192.0.2.10",
		People: []string{"Wren Ashdown"}, Dir: t.TempDir()}.Host(workday), nil)
	kiosk := w.agent(t, "hay-kiosk", sim.Device{Name: "hay-kiosk", Kind: sim.Kiosk, Seed: 6, Address: "192.0.2.11",
		Dir: t.TempDir()}.Host(workday), nil)
	ask, absent := "ask", false
	rule := must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(),
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Mode: ask, Absent: &absent})))(t)
	_, err := client.Made(w.owner.AddConsentRuleWithResponse(t.Context(),
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Mode: "tell"}))
	refused(t, err, http.StatusConflict, "already")
	_, err = client.Result(w.owner.ListProcessesWithResponse(t.Context(), kiosk.id))
	refused(t, err, http.StatusForbidden, "nobody is there to ask")
	reason := "The printer"
	s := must(client.Result(w.owner.BeginSessionWithResponse(t.Context(), desk.id,
		api.NewToolSession{Tool: "processes", Reason: &reason})))(t)
	if s.Consent != "given by Wren Ashdown" || s.InterruptedSeconds < 1 {
		t.Errorf("the session began with %+v", s)
	}
	began := time.Now()
	must(client.Result(w.owner.ListProcessesWithResponse(t.Context(), desk.id)))(t)
	if time.Since(began) > time.Second {
		t.Error("a session that is open asks again")
	}
	if err := client.Done(w.owner.NoteSessionWithResponse(t.Context(), s.ID, api.SessionNote{Note: "spooler restarted"})); err != nil {
		t.Fatal(err)
	}
	refused(t, client.Done(w.person(t, access.Technician).EndSessionWithResponse(t.Context(), s.ID)), http.StatusNotFound,
		"no such open session")
	if err := client.Done(w.owner.EndSessionWithResponse(t.Context(), s.ID)); err != nil {
		t.Fatal(err)
	}
	list := must(client.Result(w.owner.ListDeviceSessionsWithResponse(t.Context(), desk.id, &api.ListDeviceSessionsParams{})))(t).Items
	if len(list) != 1 || list[0].EndedAt == nil || *list[0].Note != "spooler restarted" || *list[0].Reason != reason ||
		list[0].ReceivedBytes == 0 {
		t.Errorf("on record: %+v", list)
	}
	if err := client.Done(w.owner.RemoveConsentRuleWithResponse(t.Context(), rule.ID)); err != nil {
		t.Fatal(err)
	}
	must(client.Result(w.owner.ListProcessesWithResponse(t.Context(), kiosk.id)))(t)
	refusals := must(client.Result(w.owner.ListDeviceSessionsWithResponse(t.Context(), kiosk.id, &api.ListDeviceSessionsParams{})))(t).Items
	if len(refusals) != 2 || refusals[1].End == nil || *refusals[1].End != "it was not allowed to begin" {
		t.Errorf("on record of the kiosk: %+v", refusals)
	}
}

// workday is a Tuesday morning at which people are at their desks.
func workday() time.Time { return time.Date(2026, 3, 3, 10, 15, time.Now().Second(), 0, time.UTC) }

func TestOnMany(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	desk := w.simulated(t, "hay-desk-01")
	w.simulated(t, "hay-desk-02").stop()
	w.await(t, "one is silent", func() bool {
		return must(w.owner.Find(t.Context(), "hay-desk-02"))(t).Online == false
	})
	yes := true
	run := func(in api.ManyAction) (asked int, offline []string, answers map[string]string, err error) {
		answers = map[string]string{}
		err = w.owner.DoOnMany(t.Context(), in, func(e api.SweepEvent) error {
			switch {
			case e.Asked != nil:
				asked, offline = *e.Asked, *e.Offline
			case e.Error != nil:
				answers[*e.Device] = "failed: " + *e.Error
			case e.Answer != nil:
				answers[*e.Device] = e.Answer.Value
			}
			return nil
		})
		return
	}
	w.await(t, "all are chosen from", func() bool {
		asked, offline, _, err := run(api.ManyAction{Preview: &yes, Command: &link.Command{Argv: []string{"echo", "hi"}}})
		return err == nil && asked == 2 && len(offline) == 1 && offline[0] == "hay-desk-02"
	})
	_, _, answers, err := run(api.ManyAction{Command: &link.Command{Argv: []string{"echo", "hi"}}})
	if err != nil || answers["van-board"] != "hi" || answers["hay-desk-01"] != "hi" {
		t.Errorf("%v, %v", answers, err)
	}
	_, _, answers, _ = run(api.ManyAction{Devices: &[]api.ID{d.id}, Command: &link.Command{Argv: []string{"sh", "-c", "echo bad; exit 3"}}})
	if len(answers) != 1 || answers["van-board"] != "failed: exit status 3: bad" {
		t.Errorf("%v", answers)
	}
	where := `os == "windows"`
	_, _, answers, _ = run(api.ManyAction{Where: &where, Service: &link.ServiceAction{Action: link.ServiceRestart, Name: "Spooler"}})
	if answers["hay-desk-01"] != "Spooler runs." {
		t.Errorf("%v", answers)
	}
	_, _, _, err = run(api.ManyAction{})
	refused(t, err, http.StatusBadRequest, "one of command")
	helper := w.person(t, access.Helper)
	refused(t, helper.DoOnMany(t.Context(), api.ManyAction{Command: &link.Command{Argv: []string{"true"}}},
		func(api.SweepEvent) error { return nil }), http.StatusForbidden, "command.act")
	entries := must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{Device: &desk.id})))(t).Items
	if !strings.Contains(audited(entries), "service.restart Spooler") {
		t.Errorf("the audit log of one of many: %s", audited(entries))
	}
}

func audited(entries []api.AuditEntry) string {
	var b strings.Builder
	for _, e := range entries {
		detail := ""
		if e.Detail != nil {
			detail = *e.Detail
		}
		b.WriteString(e.Action + " " + detail + "; ")
	}
	return b.String()
}

// The network as this machine sees it, and tests of it.
func TestNetworkTool(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	n := must(client.Result(w.owner.GetNetworkWithResponse(t.Context(), d.id)))(t)
	port := strings.TrimPrefix(w.Service.URL, "http://127.0.0.1:")
	found := false
	for _, c := range n.Connections {
		found = found || (c.Local == "127.0.0.1:"+port && c.State == "listen")
	}
	if len(n.Interfaces) == 0 || !found {
		t.Errorf("%d interfaces, and the service's port is among the connections: %v", len(n.Interfaces), found)
	}
	reach := func(r link.Reach) (ok bool, text string, err error) {
		answer, err := w.owner.TestReach(t.Context(), d.id, r)
		err = client.Lines(t.Context(), answer, err, "", func(l link.ReachResult) (bool, error) {
			if !l.Done {
				ok, text = l.OK, l.Text
			}
			return l.Done, nil
		})
		return ok, text, err
	}
	number := 0
	for _, c := range port {
		number = number*10 + int(c-'0')
	}
	if ok, text, err := reach(link.Reach{Kind: "tcp", Target: "127.0.0.1", Port: number}); !ok || err != nil {
		t.Errorf("its own port: %s, %v", text, err)
	}
	if ok, text, err := reach(link.Reach{Kind: "tcp", Target: "127.0.0.1", Port: 1}); ok || err != nil ||
		!strings.Contains(text, "nothing listens") {
		t.Errorf("a port at which nothing listens: %s, %v", text, err)
	}
	if ok, text, err := reach(link.Reach{Kind: "web", Target: w.Service.URL + "/healthz"}); !ok || err != nil ||
		!strings.Contains(text, "200") {
		t.Errorf("its own page: %s, %v", text, err)
	}
	_, _, err := reach(link.Reach{Kind: "web", Target: "ftp://x"})
	refused(t, err, http.StatusBadRequest, "begins with http")
	answer, err := w.owner.ScanNetwork(t.Context(), d.id, link.Scan{Network: "203.0.113.0/24"})
	refused(t, client.Lines(t.Context(), answer, err, "", func(link.ScanEvent) (bool, error) { return false, nil }), http.StatusBadRequest,
		"its own alone")
	var there []string
	answer, err = w.owner.ScanNetwork(t.Context(), d.id, link.Scan{Network: "127.0.0.0/30"})
	if err := client.Lines(t.Context(), answer, err, "", func(e link.ScanEvent) (bool, error) {
		if e.Found != nil {
			there = append(there, e.Found.Address)
		}
		return e.Done, nil
	}); err != nil || len(there) == 0 {
		t.Errorf("a scan of loopback finds %v, %v", there, err)
	}
}

// A log in text is read and followed as events.
func TestTextLog(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("writing to /var/log needs root")
	}
	w := begin(t, false)
	d := w.machine(t, "van-board")
	dir := must(os.MkdirTemp("/var/log", "moorwatch-test-"))(t)
	t.Cleanup(func() { os.RemoveAll(dir) })
	path := filepath.Join(dir, "app.log")
	stamp := time.Now().Add(-time.Minute).Format(time.RFC3339)
	os.WriteFile(path, []byte(stamp+" host app[7]: error: it broke\n"+stamp+" host app[7]: info: all well\n"), 0o644)
	var got []string
	r, err := w.owner.ReadEvents(t.Context(), d.id, link.EventQuery{Source: path, Level: "warning", Follow: true})
	err = client.Lines(t.Context(), r, err, "while it was followed", func(b link.EventBatch) (bool, error) {
		for _, e := range b.Events {
			got = append(got, e.Unit+" "+e.Message)
		}
		if b.Live {
			f := must(os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0))(t)
			io.WriteString(f, stamp+" host app[7]: info: no matter\n"+stamp+" host app[7]: fatal: again\n")
			f.Close()
		}
		return len(got) == 2, nil
	})
	if err != nil || got[0] != "app error: it broke" || got[1] != "app fatal: again" {
		t.Errorf("%q, %v", got, err)
	}
	r, err = w.owner.ReadEvents(t.Context(), d.id, link.EventQuery{Source: "/etc/passwd"})
	refused(t, client.Lines(t.Context(), r, err, "", func(link.EventBatch) (bool, error) { return false, nil }), http.StatusBadRequest,
		"none of this device's logs")
}
