//go:build unix

package darwin

import (
	"context"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/eventlog"
)

// events implements host.Events over the unified log (log(1)) and the logs in text.
type events struct{}

const unifiedSource = "unified"

// logsBack is how far the unified log is looked at when nothing else is said: it is read from its oldest
// entry on, and all of it takes minutes.
const logsBack = time.Hour

var logFolders = []string{"/var/log", "/Library/Logs"}

// Sources implements host.Events.
func (events) Sources(ctx context.Context) (link.EventSources, error) {
	out := link.EventSources{Items: []link.EventSource{{Name: unifiedSource, Title: "Unified log", Kind: "unified"}}}
	for _, folder := range logFolders {
		out.Items = append(out.Items, portable.TextLogs(ctx, folder)...)
	}
	return out, nil
}

// Events implements host.Events.
func (events) Events(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error {
	if q.Source != unifiedSource {
		if !slices.ContainsFunc(logFolders, func(f string) bool { return strings.HasPrefix(filepath.Clean(q.Source), f+"/") }) {
			return refuse(http.StatusBadRequest, "%q is none of this device's logs: follow it as a file.", q.Source)
		}
		return portable.TextEvents(ctx, q, send)
	}
	sift, err := portable.NewSift(q)
	if err != nil {
		return err
	}
	past, live := Logs(q, time.Now())
	last := newest{most: sift.Last()}
	if err := portable.Printed(ctx, past, sift, unified, last.keep); err != nil {
		return err
	}
	if err := last.send(send); err != nil {
		return err
	}
	if err := send(link.EventBatch{Live: true, Done: !q.Follow}); err != nil || !q.Follow {
		return err
	}
	sift.Live()
	return portable.Printed(ctx, live, sift, unified, send)
}

func unified(line []byte) (link.Event, bool) {
	e, ok := eventlog.Unified(line)
	return link.Event{At: e.At, Level: e.Level, Unit: e.Unit, PID: e.PID, Message: e.Message}, ok
}

// Logs are the commands that print the past that a query asks for, and then what comes.
func Logs(q link.EventQuery, now time.Time) (past, live []string) {
	const clock = "2006-01-02 15:04:05-0700"
	since := q.Since
	if since.IsZero() {
		since = now.Add(-logsBack)
		if !q.Until.IsZero() {
			since = q.Until.Add(-logsBack)
		}
	}
	past = []string{"/usr/bin/log", "show", "--style", "ndjson", "--start", since.Format(clock)}
	if !q.Until.IsZero() {
		past = append(past, "--end", q.Until.Add(time.Second).Format(clock))
	}
	live = []string{"/usr/bin/log", "stream", "--style", "ndjson", "--level"}
	var where []string
	switch {
	case q.Level == "debug" || q.Level == "":
		past, live = append(past, "--info"), append(live, "info")
		if q.Level == "debug" {
			past, live[len(live)-1] = append(past, "--debug"), "debug"
		}
	case q.Level == "info":
		past, live = append(past, "--info"), append(live, "info")
	default:
		live = append(live, "default")
		if n := eventlog.Severity(q.Level); n >= 0 && n <= eventlog.Severity("error") {
			where = append(where, "messageType >= error")
		}
	}
	if q.Unit != "" {
		unit := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(q.Unit)
		where = append(where, `(subsystem == "`+unit+`" OR process == "`+unit+`")`)
	}
	if len(where) > 0 {
		predicate := []string{"--predicate", strings.Join(where, " AND ")}
		past, live = append(past, predicate...), append(live, predicate...)
	}
	return past, live
}

// newest keeps the newest of events that come oldest first.
type newest struct {
	most int
	ring []link.Event
	next int
}

func (n *newest) keep(b link.EventBatch) error {
	for _, e := range b.Events {
		if len(n.ring) < n.most {
			n.ring = append(n.ring, e)
			continue
		}
		n.ring[n.next] = e
		n.next = (n.next + 1) % n.most
	}
	return nil
}

func (n *newest) send(send func(link.EventBatch) error) error {
	for batch := range slices.Chunk(append(slices.Clone(n.ring[n.next:]), n.ring[:n.next]...), 500) {
		if err := send(link.EventBatch{Events: batch}); err != nil {
			return err
		}
	}
	return nil
}
