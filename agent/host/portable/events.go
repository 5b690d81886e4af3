package portable

import (
	"bufio"
	"context"
	"net/http"
	"os/exec"
	"regexp"
	"strings"
	"time"

	"moorwatch.example/agent/files"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/eventlog"
)

// Sift lets through the events that a query asks for, in batches as large as they come fast.
type Sift struct {
	query link.EventQuery
	text  *regexp.Regexp
	level int
	live  bool
	pace  files.Pace
}

// NewSift reads a query.
func NewSift(q link.EventQuery) (*Sift, error) {
	s := &Sift{query: q, level: eventlog.Severity(q.Level)}
	if q.Level != "" && s.level < 0 {
		return nil, &link.Problem{Status: http.StatusBadRequest, Reason: "There is no level " + q.Level + ": there are " +
			strings.Join(eventlog.Severities[:], ", ") + "."}
	}
	if q.Text != "" {
		var err error
		if s.text, err = regexp.Compile(q.Text); err != nil {
			return nil, &link.Problem{Status: http.StatusBadRequest, Reason: "The text cannot be read as a pattern: " + err.Error() + "."}
		}
	}
	return s, nil
}

// Last is how many events of the past are wanted.
func (s *Sift) Last() int {
	if s.query.Last <= 0 {
		return 500
	}
	return min(s.query.Last, link.MaxEvents)
}

// Live tells it that what comes now comes as it happens, and is bounded by the second.
func (s *Sift) Live() { s.live = true }

// Wanted tells whether an event is asked for.
func (s *Sift) Wanted(e link.Event) bool {
	if s.level >= 0 {
		if n := eventlog.Severity(e.Level); n > s.level || n < 0 {
			return false
		}
	}
	if !s.live && (!s.query.Since.IsZero() && e.At.Before(s.query.Since) || !s.query.Until.IsZero() && e.At.After(s.query.Until)) {
		return false
	}
	return s.text == nil || s.text.MatchString(e.Message)
}

// mostLine is how long a line may be that a log's program prints, in bytes; longer ones are left out.
const mostLine = 4 << 20

// Printed sends what the lines hold that a log's program prints, until it ends or ctx does.
func Printed(ctx context.Context, argv []string, sift *Sift, parse func([]byte) (link.Event, bool),
	send func(link.EventBatch) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.WaitDelay = time.Second
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return problem(http.StatusBadGateway, "The log cannot be read: %v.", err)
	}
	defer cmd.Wait()
	defer cancel()
	lines := make(chan []byte, 1024)
	go func() {
		defer close(lines)
		r := bufio.NewReaderSize(out, 256<<10)
		for {
			line, err := r.ReadBytes('\n')
			if len(line) > 0 && len(line) < mostLine {
				select {
				case lines <- line:
				case <-ctx.Done():
					return
				}
			}
			if err != nil {
				return
			}
		}
	}()
	return sift.Run(ctx, lines, parse, send)
}

// gather is how long events are gathered before they are sent as one batch.
const gather = 50 * time.Millisecond

// Run sends what lines hold, until they end or ctx does.
func (s *Sift) Run(ctx context.Context, lines <-chan []byte, parse func([]byte) (link.Event, bool),
	send func(link.EventBatch) error) error {
	var b link.EventBatch
	timer := time.NewTimer(0)
	<-timer.C
	waiting := false
	flush := func() error {
		waiting = false
		if len(b.Events) == 0 && b.Skipped == 0 {
			return nil
		}
		err := send(b)
		b = link.EventBatch{}
		return err
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-timer.C:
			if err := flush(); err != nil {
				return err
			}
		case line, ok := <-lines:
			if !ok {
				return flush()
			}
			e, ok := parse(line)
			if !ok || !s.Wanted(e) {
				continue
			}
			if s.live && !s.pace.Room() {
				b.Skipped++
			} else {
				e.Message = cut(e.Message, link.MaxEventText)
				b.Events = append(b.Events, e)
			}
			if len(b.Events) >= 500 {
				if err := flush(); err != nil {
					return err
				}
			} else if !waiting {
				waiting = true
				timer.Reset(gather)
			}
		}
	}
}

func cut(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n], "") + " …"
}
