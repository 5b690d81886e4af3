package test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/update"
)

// A report tells how current devices are, by day and place, as a page and as PDF; it is sent by mail when it is
// due, once, and again where the mail server was away.
func TestReports(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	old := update.Update{Source: "apt", Name: "heathssl", From: "1", To: "2", Class: update.Security, Severity: "high",
		Released: time.Now().AddDate(0, 0, -35)}
	fresh := update.Update{Source: "apt", Name: "moss", From: "1", To: "2", Class: update.Security, Released: time.Now().AddDate(0, 0, -2)}
	for i, missing := range [][]update.Update{{old, fresh}, {fresh}, {}, {}} {
		r := w.reporter(t, fmt.Sprintf("hay-<b>-%d", i))
		must(r.client.Post("http://service/facts", "application/json",
			jsonBody(t, device.Facts{HostName: fmt.Sprintf("hay-<b>-%d", i), OS: "linux", AgentVersion: "0.1.0",
				Capabilities: []string{device.CapabilityUpdates}})))(t).Body.Close()
		answer := must(r.client.Post("http://service/updates", "application/json",
			jsonBody(t, link.Updates{Digest: strings.Repeat("0", 64), All: missing, Whole: true})))(t)
		if answer.Body.Close(); answer.StatusCode != http.StatusNoContent {
			t.Fatalf("the updates: %s", answer.Status)
		}
	}
	w.await(t, "all devices are known", func() bool {
		return must(client.Result(w.owner.GetComplianceWithResponse(t.Context(), &api.GetComplianceParams{})))(t).Now.Devices == 4
	})
	for _, at := range []time.Time{time.Now().AddDate(0, 0, -10), time.Now()} {
		if err := w.Service.Patch.Record(t.Context(), at); err != nil {
			t.Fatal(err)
		}
	}
	c := must(client.Result(w.owner.GetComplianceWithResponse(t.Context(), &api.GetComplianceParams{})))(t)
	if n := c.Now; n.Devices != 4 || n.Current != 2 || n.Late != 1 || n.Missing != 3 || n.Grid["high"][2] != 1 || n.Grid[""][0] != 2 ||
		len(c.Sites) != 1 {
		t.Errorf("now: %+v", c)
	}
	if len(c.Days) != 2 || c.Days[0].Tally.Current != 3 || c.Days[0].Tally.Late != 0 || c.Days[1].Tally.Current != 2 {
		t.Errorf("by day, with what had come out then: %+v", c.Days)
	}
	get := func(format api.MakeReportParamsFormat, in api.MakeReportParams) (string, string) {
		in.Format = format
		answer := must(w.owner.MakeReport(t.Context(), &in))(t)
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			t.Fatal(client.Refusal(answer))
		}
		return string(must(io.ReadAll(answer.Body))(t)), answer.Header.Get("Content-Disposition")
	}
	page, name := get(api.HTML, api.MakeReportParams{})
	for _, want := range []string{"50 %", "of 4 devices", "hay-&lt;b&gt;-0", "<polyline", "No rollout ran in this time."} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if strings.Contains(page, "hay-<b>") || !strings.Contains(name, "updates-all-organisations-") {
		t.Errorf("the page, as %s, shows names as they are", name)
	}
	if paper, _ := get(api.Pdf, api.MakeReportParams{}); !strings.HasPrefix(paper, "%PDF-") || len(paper) < 5000 {
		t.Errorf("the PDF has %d bytes", len(paper))
	}

	// By mail: refused where it cannot be, sent now, and when it is due.
	in := api.NewReportSchedule{Name: "Monthly", To: []string{"Wren <wren@larkmoor.example>"}, Days: 30,
		When: calendar.Window{Start: "2026-01-01T07:00", Rule: "FREQ=MONTHLY"}}
	bad := in
	bad.To = []string{"nobody"}
	if _, err := client.Made(w.owner.AddReportScheduleWithResponse(t.Context(), bad)); err == nil ||
		!strings.Contains(err.Error(), "no e-mail address") {
		t.Errorf("an address that is none: %v", err)
	}
	s := must(client.Made(w.owner.AddReportScheduleWithResponse(t.Context(), in)))(t)
	if s.NextAt == nil || !s.NextAt.After(time.Now()) || s.SentAt != nil {
		t.Errorf("it is %+v", s)
	}
	if _, err := client.Result(w.owner.SendReportWithResponse(t.Context(), s.ID)); err != nil {
		t.Fatal(err)
	}
	m := must(mail.CreateReader(bytes.NewReader(mailed(t, sink, 1)[0].Raw)))(t)
	if subject, _ := m.Header.Subject(); !strings.HasPrefix(subject, "Updates: all organisations, ") {
		t.Errorf("the mail is about %q", subject)
	}
	var names []string
	for {
		part, err := m.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		text := must(io.ReadAll(part.Body))(t)
		switch h := part.Header.(type) {
		case *mail.InlineHeader:
			if !strings.Contains(string(text), "50 % of 4 devices miss no security update") {
				t.Errorf("the mail says %s", text)
			}
		case *mail.AttachmentHeader:
			name, _ := h.Filename()
			names = append(names, name[strings.LastIndexByte(name, '.'):])
			if strings.HasSuffix(name, ".pdf") && !bytes.HasPrefix(text, []byte("%PDF-")) {
				t.Error("the PDF of the mail is none")
			}
		}
	}
	if strings.Join(names, "") != ".pdf.html" {
		t.Errorf("attached are %v", names)
	}
	due := func() {
		db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
		defer db.Close(t.Context())
		must(db.Exec(t.Context(), "UPDATE report_schedules SET next_at = now() - interval '1 minute'"))(t)
		if err := w.Service.Patch.SendReports(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	one := func() api.ReportSchedule {
		return must(client.Result(w.owner.ListReportSchedulesWithResponse(t.Context(), &api.ListReportSchedulesParams{})))(t).Items[0]
	}
	due()
	if two := mailed(t, sink, 2); two[0].ID == two[1].ID {
		t.Errorf("two mails have the identity %s", two[0].ID)
	}
	if is := one(); is.Problem != nil || !is.NextAt.Equal(*s.NextAt) {
		t.Errorf("after it was sent it is %+v", is)
	}
	if err := w.Service.Patch.SendReports(t.Context()); err != nil {
		t.Fatal(err)
	}
	if all, _ := sink.Taken(); len(all) != 2 {
		t.Errorf("it is sent again before its time: %d mails", len(all))
	}
	sink.Refuse(true)
	due()
	if is := one(); is.Problem == nil || is.NextAt.After(time.Now().Add(time.Hour)) {
		t.Errorf("while the mail server is away it is %+v", is)
	}
}
