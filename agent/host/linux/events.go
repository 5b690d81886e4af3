//go:build linux

package linux

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/eventlog"
)

// events implements host.Events over the journal and the text logs below /var/log.
type events struct{}

const journalSource = "journal"

// Sources implements host.Events.
func (events) Sources(ctx context.Context) (link.EventSources, error) {
	out := link.EventSources{Items: []link.EventSource{}}
	if journalThere() {
		j := link.EventSource{Name: journalSource, Title: "Journal", Kind: "journal"}
		if text, err := ask(ctx, "journalctl", "--quiet", "--no-pager", "--field=_SYSTEMD_UNIT"); err == nil {
			j.Units = strings.Fields(text)
			slices.Sort(j.Units)
			j.Units = j.Units[:min(len(j.Units), 500)]
		}
		out.Items = append(out.Items, j)
	}
	out.Items = append(out.Items, portable.TextLogs(ctx, "/var/log")...)
	return out, nil
}

func journalThere() bool {
	if _, err := exec.LookPath("journalctl"); err != nil {
		return false
	}
	for _, dir := range []string{"/run/log/journal", "/var/log/journal"} {
		if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
			return true
		}
	}
	return false
}

// Events implements host.Events.
func (events) Events(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error {
	if q.Source != journalSource {
		if !strings.HasPrefix(filepath.Clean(q.Source), "/var/log/") {
			return refuse(http.StatusBadRequest, "%q is none of this device's logs: follow it as a file.", q.Source)
		}
		return portable.TextEvents(ctx, q, send)
	}
	sift, err := portable.NewSift(q)
	if err != nil {
		return err
	}
	args := []string{"--quiet", "--no-pager", "--output=json", "--all"}
	if n := eventlog.Severity(q.Level); n >= 0 {
		args = append(args, "--priority="+strconv.Itoa(n))
	}
	if q.Unit != "" {
		if strings.HasPrefix(q.Unit, "-") {
			return refuse(http.StatusBadRequest, "%q is no unit.", q.Unit)
		}
		args = append(args, "--unit="+q.Unit)
	}
	if !q.Since.IsZero() {
		args = append(args, "--since=@"+strconv.FormatInt(q.Since.Unix(), 10))
	}
	if !q.Until.IsZero() {
		args = append(args, "--until=@"+strconv.FormatInt(q.Until.Unix()+1, 10))
	}
	// A text is looked for from the newest back, so that few matches do not cost the whole journal twice.
	if q.Text != "" {
		args = append(args, "--grep="+q.Text)
		if !strings.Contains(q.Text, "(?i)") {
			args = append(args, "--case-sensitive=yes")
		} else {
			args[len(args)-1] = "--grep=" + strings.ReplaceAll(q.Text, "(?i)", "")
			args = append(args, "--case-sensitive=no")
		}
	}
	cursor := ""
	if q.Follow { // taken first, so that nothing is missed where the past holds no match
		end, err := ask(ctx, "journalctl", "--quiet", "--no-pager", "--lines=1", "--show-cursor", "--output=cat")
		if err != nil {
			return refuse(http.StatusBadGateway, "The journal cannot be read: %v.", err)
		}
		if i := strings.LastIndex(end, "-- cursor: "); i >= 0 {
			cursor = strings.TrimSpace(end[i+len("-- cursor: "):])
		}
	}
	if err := journalctl(ctx, append(slices.Clone(args), "--lines="+strconv.Itoa(sift.Last())), sift, &cursor, send); err != nil {
		return err
	}
	if err := send(link.EventBatch{Live: true, Done: !q.Follow}); err != nil || !q.Follow {
		return err
	}
	live := slices.DeleteFunc(args, func(a string) bool { return strings.HasPrefix(a, "--since=") || strings.HasPrefix(a, "--until=") })
	if cursor != "" {
		live = append(live, "--lines=all", "--after-cursor="+cursor)
	} else {
		live = append(live, "--lines=0")
	}
	sift.Live()
	return journalctl(ctx, append(live, "--follow"), sift, &cursor, send)
}

// journalctl sends what the journal's program prints, and notes where the last of it stands.
func journalctl(ctx context.Context, args []string, sift *portable.Sift, cursor *string, send func(link.EventBatch) error) error {
	return portable.Printed(ctx, append([]string{"journalctl"}, args...), sift, func(line []byte) (link.Event, bool) {
		e, ok := eventlog.Journal(line)
		if e.Cursor != "" {
			*cursor = e.Cursor
		}
		return link.Event{At: e.At, Level: e.Level, Unit: e.Unit, PID: e.PID, Message: e.Message}, ok
	}, send)
}
