package eventlog

import (
	"encoding/json"
	"path"
	"strings"
	"time"
)

// Unified reads a line of the unified log of macOS as log(1) prints it with --style ndjson. The unit is
// the subsystem of an entry, or its program where it has none; what is no entry is not ok.
func Unified(line []byte) (e Event, ok bool) {
	var f struct {
		Timestamp, MessageType, EventType, EventMessage, Subsystem, ProcessImagePath string
		ProcessID                                                                    int
	}
	if json.Unmarshal(line, &f) != nil {
		return e, false
	}
	at, err := time.Parse("2006-01-02 15:04:05.999999-0700", f.Timestamp)
	if err != nil || (f.EventType != "" && f.EventType != "logEvent") {
		return e, false
	}
	e = Event{At: at, PID: f.ProcessID, Unit: f.Subsystem, Message: strings.TrimRight(f.EventMessage, "\n")}
	if e.Unit == "" {
		e.Unit = path.Base("/" + f.ProcessImagePath)
	}
	e.Level = map[string]string{"Fault": "critical", "Error": "error", "Default": "notice", "Info": "info", "Debug": "debug"}[f.MessageType]
	return e, true
}
