package eventlog

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

var now = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func TestText(t *testing.T) {
	last := now.Add(-time.Minute)
	for line, want := range map[string]Event{
		"Mar  1 04:05:06 sal-records sshd[812]: error: no more sessions": {At: time.Date(2026, 3, 1, 4, 5, 6, 0, time.UTC), Level: "error",
			Unit: "sshd", PID: 812, Message: "error: no more sessions"},
		"Dec 31 23:59:59 host cron[9]: ran": {At: time.Date(2025, 12, 31, 23, 59, 59, 0, time.UTC),
			Unit: "cron", PID: 9, Message: "ran"},
		"2026-03-01T04:05:06.5+01:00 host kernel: warning: hot": {At: time.Date(2026, 3, 1, 3, 5, 6, 5e8, time.UTC),
			Level: "warning", Unit: "kernel", Message: "warning: hot"},
		"2026-03-01 04:05:06,250 [ERROR] disk": {At: time.Date(2026, 3, 1, 4, 5, 6, 25e7, time.UTC),
			Level: "error", Message: "[ERROR] disk"},
		"update-alternatives 2026-03-01 04:05:06: run with --install": {At: time.Date(2026, 3, 1, 4, 5, 6, 0, time.UTC),
			Unit: "update-alternatives", Message: "run with --install"},
		"  at a line of a stack": {At: last, Message: "  at a line of a stack"},
		"terror is no level":     {At: last, Message: "terror is no level"},
		"":                       {At: last},
	} {
		if got := Text(line, now, last); !got.At.Equal(want.At) || got.Level != want.Level || got.Unit != want.Unit ||
			got.PID != want.PID || got.Message != want.Message {
			t.Errorf("%q reads as %+v, want %+v", line, got, want)
		}
	}
}

func TestJournal(t *testing.T) {
	for line, want := range map[string]Event{
		`{"__REALTIME_TIMESTAMP":"1000000","PRIORITY":"3","_SYSTEMD_UNIT":"a.service","_PID":"7","MESSAGE":"bad"}`: {At: time.Unix(1, 0),
			Level: "error", Unit: "a.service", PID: 7, Message: "bad"},
		`{"__REALTIME_TIMESTAMP":"1000000","UNIT":"b.service","_SYSTEMD_UNIT":"init.scope","MESSAGE":[104,255]}`: {At: time.Unix(1, 0),
			Unit: "b.service", Message: "h\ufffd"},
		`{"__REALTIME_TIMESTAMP":"1000000","SYSLOG_IDENTIFIER":"x","MESSAGE":null}`: {At: time.Unix(1, 0),
			Unit: "x"},
	} {
		if got, ok := Journal([]byte(line)); !ok || !got.At.Equal(want.At) || got.Level != want.Level || got.Unit != want.Unit ||
			got.PID != want.PID || got.Message != want.Message {
			t.Errorf("%s reads as %+v, want %+v", line, got, want)
		}
	}
	for _, line := range []string{"", "no", `{"MESSAGE":"without a time"}`} {
		if got, ok := Journal([]byte(line)); ok {
			t.Errorf("%q reads as %+v", line, got)
		}
	}
}

func FuzzText(f *testing.F) {
	f.Add("Mar  1 04:05:06 host a[1]: b")
	f.Fuzz(func(t *testing.T, line string) {
		e := Text(line, now, now)
		if len(e.Message) > len(line) || (utf8.ValidString(line) && !utf8.ValidString(e.Message)) {
			t.Errorf("%q reads as %+v", line, e)
		}
	})
}

// Made for the test after the Event Schema of Windows; not recorded there.
func TestChannel(t *testing.T) {
	const event = `<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Service Control Manager' Guid='{555908d1}'/><EventID Qualifiers='49152'>7031</EventID><Level>2</Level><TimeCreated SystemTime='2026-11-27T02:30:15.1234567Z'/><EventRecordID>4471</EventRecordID><Execution ProcessID='812' ThreadID='900'/><Channel>System</Channel></System><EventData><Data Name='param1'>Print Spooler</Data><Data>2</Data></EventData>%s</Event>`
	at := time.Date(2026, 11, 27, 2, 30, 15, 123456700, time.UTC)
	for name, c := range map[string]struct{ more, want string }{
		"with a message": {`<RenderingInfo Culture='en-GB'><Message>The Print Spooler service ended.` + "\r\n" +
			`It did so twice. </Message></RenderingInfo>`, "The Print Spooler service ended.\nIt did so twice."},
		"without a message": {"", "Event 7031 param1=Print Spooler, 2"},
	} {
		got, ok := Channel(fmt.Appendf(nil, event, c.more))
		want := Event{At: at, Level: "error", Unit: "Service Control Manager", PID: 812, Record: 4471, Message: c.want}
		if !ok || got != want {
			t.Errorf("%s: %+v, not %+v", name, got, want)
		}
	}
	for _, none := range []string{"", "<Event/>", "<Other/>", "<Event><System><TimeCreated SystemTime='then'/></System></Event>"} {
		if e, ok := Channel([]byte(none)); ok {
			t.Errorf("%q is %+v", none, e)
		}
	}
}

func FuzzChannel(f *testing.F) {
	f.Add([]byte("<Event><System><TimeCreated SystemTime='2026-11-27T02:30:15Z'/></System></Event>"))
	f.Fuzz(func(t *testing.T, b []byte) { Channel(b) })
}

// Made after the manual page log(1); not recorded on a Mac.
func TestUnified(t *testing.T) {
	const entry = `{"timestamp":"2026-11-27 09:30:15.123456+0100","messageType":"Error","eventType":"logEvent","subsystem":"example.heath","processID":812,"processImagePath":"/opt/heath/backupd","eventMessage":"disk full\n"}`
	want := Event{At: time.Date(2026, 11, 27, 8, 30, 15, 123456000, time.UTC), Level: "error", Unit: "example.heath", PID: 812,
		Message: "disk full"}
	if got, ok := Unified([]byte(entry)); !ok || !got.At.Equal(want.At) || got.Level != want.Level || got.Unit != want.Unit ||
		got.PID != want.PID || got.Message != want.Message {
		t.Errorf("%+v", got)
	}
	if got, ok := Unified([]byte(strings.Replace(entry, "example.heath", "", 1))); !ok || got.Unit != "backupd" {
		t.Errorf("without a subsystem: %+v", got)
	}
	for _, none := range []string{"", "{}", `{"count":3,"finished":1}`, strings.Replace(entry, "logEvent", "activityCreateEvent", 1)} {
		if e, ok := Unified([]byte(none)); ok {
			t.Errorf("%q is %+v", none, e)
		}
	}
}
