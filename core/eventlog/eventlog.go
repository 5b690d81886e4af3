// Package eventlog reads the lines of logs as events: the JSON of the systemd journal, and the
// classic text forms that syslog daemons and programs write. It opens nothing.
package eventlog

import (
	"encoding/json"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Severities are the levels of events, from worst to least, by their number (RFC 5424, 6.2.1).
var Severities = [...]string{"emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"}

// Severity is the number of a level, or -1 for none of them.
func Severity(level string) int {
	for i, s := range Severities {
		if s == level {
			return i
		}
	}
	return -1
}

// Event is one entry of a log. Level is "" where none is told.
type Event struct {
	At      time.Time
	Level   string
	Unit    string
	PID     int
	Message string
	Cursor  string // in the journal: where it stands
	Record  uint64 // in a channel: its number
}

// Journal reads one entry as `journalctl --output=json` prints it (systemd.journal-fields(7)). ok
// is false for what is none.
func Journal(line []byte) (e Event, ok bool) {
	var fields struct {
		At         string          `json:"__REALTIME_TIMESTAMP"`
		Cursor     string          `json:"__CURSOR"`
		Priority   string          `json:"PRIORITY"`
		Identifier json.RawMessage `json:"SYSLOG_IDENTIFIER"`
		Unit       json.RawMessage `json:"_SYSTEMD_UNIT"`
		Of         json.RawMessage `json:"UNIT"` // of which the service manager speaks
		Comm       json.RawMessage `json:"_COMM"`
		PID        string          `json:"_PID"`
		Message    json.RawMessage `json:"MESSAGE"`
	}
	if json.Unmarshal(line, &fields) != nil {
		return e, false
	}
	micros, err := strconv.ParseInt(fields.At, 10, 64)
	if err != nil {
		return e, false
	}
	e.At, e.Cursor = time.UnixMicro(micros), fields.Cursor
	if n, err := strconv.Atoi(fields.Priority); err == nil && n >= 0 && n < len(Severities) {
		e.Level = Severities[n]
	}
	for _, raw := range []json.RawMessage{fields.Of, fields.Unit, fields.Identifier, fields.Comm} {
		if e.Unit = field(raw); e.Unit != "" {
			break
		}
	}
	e.PID, _ = strconv.Atoi(fields.PID)
	e.Message = field(fields.Message)
	return e, true
}

// field reads a text that the journal writes as numbers where it is no UTF-8.
func field(raw json.RawMessage) string {
	var s string
	if json.Unmarshal(raw, &s) == nil {
		return s
	}
	var numbers []int
	if json.Unmarshal(raw, &numbers) != nil {
		return ""
	}
	b := make([]byte, len(numbers))
	for i, n := range numbers {
		b[i] = byte(n)
	}
	return strings.ToValidUTF8(string(b), string(utf8.RuneError))
}

var (
	// Jan _2 15:04:05 host program[pid]: message (RFC 3164), or with an RFC 3339 time in front.
	classic = regexp.MustCompile(`^(?:([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d)|(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?))\s+(.*)$`)
	// program 2006-01-02 15:04:05: message, as Debian's update-alternatives writes.
	programFirst = regexp.MustCompile(`^([\w./@-]+) (\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?): (.*)$`)
	sender       = regexp.MustCompile(`^(?:\S+ )?([\w./@-]+)(?:\[(\d+)\])?: (.*)$`)
	word         = regexp.MustCompile(`(?i)(?:^|[\s\[<"=])(emerg(?:ency)?|panic|alert|crit(?:ical)?|fatal|err(?:or)?|warn(?:ing)?|notice|info(?:rmation)?|debug|trace)(?:[\s\]>:",]|$)`)
)

// Text reads a line of a classic log. now gives the year that such lines leave out, and its time
// zone; a line without a time has that of last, the event before it.
func Text(line string, now, last time.Time) Event {
	e := Event{At: last, Message: line}
	if m := classic.FindStringSubmatch(line); m != nil {
		if at, ok := clock(m[1], m[2], now); ok {
			e.At, e.Message = at, m[3]
		}
		if s := sender.FindStringSubmatch(e.Message); s != nil {
			e.Unit, e.Message = s[1], s[3]
			e.PID, _ = strconv.Atoi(s[2])
		}
	} else if m := programFirst.FindStringSubmatch(line); m != nil {
		if at, ok := clock("", m[2], now); ok {
			e.At, e.Unit, e.Message = at, m[1], m[3]
		}
	}
	head := e.Message[:min(len(e.Message), 60)]
	if m := word.FindStringSubmatch(head); m != nil {
		e.Level = level(strings.ToLower(m[1]))
	}
	return e
}

func clock(short, long string, now time.Time) (time.Time, bool) {
	if short != "" {
		at, err := time.ParseInLocation("2006 Jan _2 15:04:05", strconv.Itoa(now.Year())+" "+short, now.Location())
		if err != nil {
			return at, false
		}
		if at.After(now.Add(24 * time.Hour)) {
			at = at.AddDate(-1, 0, 0) // written last year
		}
		return at, true
	}
	long = strings.ReplaceAll(strings.Replace(long, " ", "T", 1), ",", ".")
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999-0700", "2006-01-02T15:04:05.999999999"} {
		if at, err := time.ParseInLocation(form, long, now.Location()); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}

// level finds the level of a word that stands for it.
func level(word string) string {
	for _, pair := range [...]struct{ begin, level string }{{"emerg", "emergency"}, {"panic", "emergency"}, {"alert", "alert"},
		{"crit", "critical"},
		{"fatal", "critical"}, {"err", "error"}, {"warn", "warning"}, {"notice", "notice"}, {"info", "info"}, {"debug", "debug"},
		{"trace", "debug"}} {
		if strings.HasPrefix(word, pair.begin) {
			return pair.level
		}
	}
	return ""
}
