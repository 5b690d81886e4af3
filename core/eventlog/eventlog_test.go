package eventlog

import (
	"testing"
	"time"
	"unicode/utf8"
)

var now = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func TestText(t *testing.T) {
	last := now.Add(-time.Minute)
	for line, want := range map[string]Event{
		"Mar  1 04:05:06 sal-records sshd[812]: error: no more sessions": {At: time.Date(2026, 3, 1, 4, 5, 6, 0, time.UTC), Level: "error", Unit: "sshd", PID: 812, Message: "error: no more sessions"},
		"Dec 31 23:59:59 host cron[9]: ran":                              {At: time.Date(2025, 12, 31, 23, 59, 59, 0, time.UTC), Unit: "cron", PID: 9, Message: "ran"},
		"2026-03-01T04:05:06.5+01:00 host kernel: warning: hot":          {At: time.Date(2026, 3, 1, 3, 5, 6, 5e8, time.UTC), Level: "warning", Unit: "kernel", Message: "warning: hot"},
		"2026-03-01 04:05:06,250 [ERROR] disk":                           {At: time.Date(2026, 3, 1, 4, 5, 6, 25e7, time.UTC), Level: "error", Message: "[ERROR] disk"},
		"  at a line of a stack":                                         {At: last, Message: "  at a line of a stack"},
		"terror is no level":                                             {At: last, Message: "terror is no level"},
		"":                                                               {At: last},
	} {
		if got := Text(line, now, last); !got.At.Equal(want.At) || got.Level != want.Level || got.Unit != want.Unit || got.PID != want.PID || got.Message != want.Message {
			t.Errorf("%q reads as %+v, want %+v", line, got, want)
		}
	}
}

func TestJournal(t *testing.T) {
	for line, want := range map[string]Event{
		`{"__REALTIME_TIMESTAMP":"1000000","PRIORITY":"3","_SYSTEMD_UNIT":"a.service","_PID":"7","MESSAGE":"bad"}`: {At: time.Unix(1, 0), Level: "error", Unit: "a.service", PID: 7, Message: "bad"},
		`{"__REALTIME_TIMESTAMP":"1000000","UNIT":"b.service","_SYSTEMD_UNIT":"init.scope","MESSAGE":[104,255]}`:   {At: time.Unix(1, 0), Unit: "b.service", Message: "h\ufffd"},
		`{"__REALTIME_TIMESTAMP":"1000000","SYSLOG_IDENTIFIER":"x","MESSAGE":null}`:                                {At: time.Unix(1, 0), Unit: "x"},
	} {
		if got, ok := Journal([]byte(line)); !ok || !got.At.Equal(want.At) || got.Level != want.Level || got.Unit != want.Unit || got.PID != want.PID || got.Message != want.Message {
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
