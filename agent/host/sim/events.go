package sim

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"regexp"
	"slices"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/eventlog"
)

type simEvents struct{ *simulated }

// Sources implements host.Events.
func (s simEvents) Sources(context.Context) (link.EventSources, error) {
	name, title, kind := "journal", "Journal", "journal"
	switch natures[s.Kind].os {
	case device.Windows:
		name, title, kind = "System", "System", "channel"
	case device.MacOS:
		name, title, kind = "unified", "Unified log", "unified"
	}
	var units []string
	for _, j := range s.jobs() {
		units = append(units, j.name)
	}
	slices.Sort(units)
	return link.EventSources{Items: []link.EventSource{{Name: name, Title: title, Kind: kind, Units: units}}}, nil
}

// sayings are what services say now and then, in the order of how often.
var sayings = []struct{ level, text string }{
	{"info", "housekeeping done in %d ms"}, {"info", "%d requests since the last hour"}, {"debug", "cache holds %d entries"},
	{"notice", "settings read again, %d values"}, {"warning", "slow answer: %d ms"}, {"error", "a connection was reset after %d s"},
}

// past are the events between two times, oldest first: they follow from seed and time.
func (s *simulated) past(from, to time.Time) []link.Event {
	const every = 40 * time.Second
	all := s.jobs()
	var list []link.Event
	for at := from.Truncate(every); at.Before(to); at = at.Add(every) {
		r := rand.New(rand.NewPCG(s.Seed, uint64(at.Unix())))
		j := all[r.IntN(len(all))]
		k := min(int(r.ExpFloat64()*1.1), len(sayings)-1)
		at := at.Add(time.Duration(r.IntN(int(every))))
		if at.Before(from) || !at.Before(to) || (s.stuck(j) && at.After(s.Stuck)) || j.manual {
			continue
		}
		list = append(list, link.Event{At: at, Level: sayings[k].level, Unit: j.name, PID: s.pid(0, j),
			Message: fmt.Sprintf(sayings[k].text, 1+r.IntN(900))})
	}
	if !s.Stuck.IsZero() && s.Stuck.After(from) && s.Stuck.Before(to) {
		list = append(list, link.Event{At: s.Stuck, Level: "error", Unit: "records-sync.service",
			Message: "waiting for the lock of batch 4471: its holder went away"},
			link.Event{At: s.Stuck.Add(2 * time.Second), Level: "warning", Unit: "records-sync.service",
				Message: "no record copied since; will wait"})
	}
	if j := slices.IndexFunc(all, func(j job) bool { return j.program == "records-sync" }); j >= 0 && s.stuck(all[j]) {
		for at := s.Stuck.Add(5 * time.Minute); at.Before(to); at = at.Add(5 * time.Minute) {
			if !at.Before(from) {
				list = append(list, link.Event{At: at, Level: "warning", Unit: all[j].name,
					Message: fmt.Sprintf("no record copied for %s", span(at.Sub(s.Stuck)))})
			}
		}
	}
	t := s.changed()
	t.mu.Lock()
	for _, e := range t.events {
		if !e.At.Before(from) && e.At.Before(to) {
			list = append(list, e)
		}
	}
	t.mu.Unlock()
	slices.SortStableFunc(list, func(a, b link.Event) int { return a.At.Compare(b.At) })
	return list
}

// Events implements host.Events.
func (s simEvents) Events(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error {
	var text *regexp.Regexp
	if q.Text != "" {
		var err error
		if text, err = regexp.Compile(q.Text); err != nil {
			return refuse(http.StatusBadRequest, "The text cannot be read as a pattern: %v.", err)
		}
	}
	least := eventlog.Severity(q.Level)
	sift := func(list []link.Event) []link.Event {
		return slices.DeleteFunc(list, func(e link.Event) bool {
			return (least >= 0 && eventlog.Severity(e.Level) > least) || (q.Unit != "" && e.Unit != q.Unit) ||
				(text != nil && !text.MatchString(e.Message))
		})
	}
	now := s.now()
	from, to := now.Add(-24*time.Hour), now
	if !q.Since.IsZero() {
		from = q.Since
	}
	if !q.Until.IsZero() && q.Until.Before(now) {
		to = q.Until
	}
	list := sift(s.past(from, to))
	list = list[max(0, len(list)-cmp.Or(q.Last, 500)):]
	if err := send(link.EventBatch{Events: list}); err != nil {
		return err
	}
	if err := send(link.EventBatch{Live: true, Done: !q.Follow}); err != nil || !q.Follow {
		return err
	}
	for {
		t := s.changed()
		t.mu.Lock()
		grown := t.grown
		t.mu.Unlock()
		select {
		case <-ctx.Done():
			return nil
		case <-grown:
		case <-time.After(time.Second):
		}
		next := s.now()
		if list := sift(s.past(now, next)); len(list) > 0 {
			if err := send(link.EventBatch{Events: list}); err != nil {
				return err
			}
		}
		now = next
	}
}
