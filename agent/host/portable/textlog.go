package portable

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"moorwatch.example/agent/files"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/eventlog"
)

// TextEvents sends the events of a log in text.
func TextEvents(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error {
	sift, err := NewSift(q)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	back := 10_000
	var past []link.Event
	live := false
	last := time.Time{}
	parse := func(line string) link.Event {
		e := eventlog.Text(line, time.Now(), last)
		last = e.At
		return link.Event{At: e.At, Level: e.Level, Unit: e.Unit, PID: e.PID, Message: cut(e.Message, link.MaxEventText)}
	}
	return files.New(files.Plain{}, "").Follow(ctx, link.Follow{Path: q.Source, Back: back}, func(l link.Lines) error {
		if len(l.Lines) == 0 && l.Skipped == 0 && l.Note == "" && !live { // the past is complete
			live = true
			sift.Live()
			for i := max(0, len(past)-sift.Last()); i < len(past); i += 500 {
				if err := send(link.EventBatch{Events: past[i:min(i+500, len(past))]}); err != nil {
					return err
				}
			}
			past = nil
			err := send(link.EventBatch{Live: true, Done: !q.Follow})
			if !q.Follow {
				cancel()
			}
			return err
		}
		b := link.EventBatch{Skipped: l.Skipped}
		for _, line := range l.Lines {
			e := parse(line)
			switch {
			case !sift.Wanted(e) || (q.Unit != "" && e.Unit != q.Unit):
			case !live:
				past = append(past, e)
			default:
				b.Events = append(b.Events, e)
			}
		}
		if !live || (len(b.Events) == 0 && b.Skipped == 0) {
			return nil
		}
		return send(b)
	})
}

// mostLogs is how many logs in text are listed of a folder.
const mostLogs = 300

// TextLogs lists the logs in text at most two folders below a folder that are still written to.
func TextLogs(ctx context.Context, folder string) []link.EventSource {
	list := []link.EventSource{}
	filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return nil
		}
		below := strings.TrimPrefix(path, folder+"/")
		if d.IsDir() {
			if path != folder && (d.Name() == "journal" || strings.Count(below, "/") > 1) {
				return filepath.SkipDir
			}
			return nil
		}
		if d.Type().IsRegular() && textLog(path) && len(list) < mostLogs {
			list = append(list, link.EventSource{Name: path, Title: below, Kind: "file"})
		}
		return nil
	})
	return list
}

// textLog tells whether a file is a log in text that is still written to.
func textLog(path string) bool {
	base := filepath.Base(path)
	switch filepath.Ext(base) {
	case ".log", ".err", ".out":
		return true
	}
	return slices.Contains([]string{"syslog", "messages", "secure", "maillog", "cron", "boot", "dmesg"}, base)
}
