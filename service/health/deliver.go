package health

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/post"
)

// Times of delivery.
const (
	deliverEvery   = 5 * time.Second  // between two looks for what is due
	deliverWithin  = 20 * time.Second // one delivery
	deliverAtOnce  = 20
	firstRetry     = 30 * time.Second // doubled at each attempt
	longestRetry   = time.Hour
	deliverTries   = 14 // over about ten hours
	keepDeliveries = 30 * 24 * time.Hour
)

// deliver tells what is due until ctx ends. What was told, but not noted as told before a crash, is
// told again with the same identity.
func (h *Service) deliver(ctx context.Context) {
	tick := time.NewTicker(deliverEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-h.mail:
		}
		for {
			n, err := h.deliverDue(ctx)
			if err != nil && ctx.Err() == nil {
				slog.Warn("what is to be told cannot be read; trying again", "error", err)
			}
			if err != nil || n < deliverAtOnce {
				break
			}
		}
	}
}

func (h *Service) deliverDue(ctx context.Context) (int, error) {
	due, err := h.store.claim(ctx, deliverAtOnce, 2*deliverAtOnce*deliverWithin)
	if err != nil {
		return 0, err
	}
	for _, d := range due {
		_, err := h.send(ctx, d)
		note := context.WithoutCancel(ctx)
		switch {
		case err == nil:
			err = h.store.sent(note, d.id)
		case d.attempts >= deliverTries:
			slog.Error("a channel could not be told", "channel", d.channel.name, "attempts", d.attempts, "error", err)
			err = h.store.failed(note, d.id, nil, device.CleanText(err.Error()))
		default:
			again := time.Now().Add(min(firstRetry<<min(d.attempts-1, 20), longestRetry))
			err = h.store.failed(note, d.id, &again, device.CleanText(err.Error()))
		}
		if err != nil {
			return len(due), err
		}
	}
	return len(due), nil
}

// send tells a channel, and returns what the receiver answered.
func (h *Service) send(ctx context.Context, d delivery) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, deliverWithin)
	defer cancel()
	if d.channel.kind == "webhook" && len(d.channel.secret) == 0 {
		return "", errors.New("the secret of this channel cannot be read with the service's keys: remove the channel, and add it again")
	}
	if d.channel.kind == "webhook" {
		var events []post.Event
		for _, e := range d.events {
			events = append(events, post.Event{SpecVersion: "1.0", ID: e.ID.String(), Source: h.url, Type: "moorwatch.alert." +
				string(e.Kind),
				Subject: orElse(e.Device, e.Site), Time: e.At, ContentType: "application/json", Data: e})
		}
		return h.post.Send(ctx, d.channel.target, d.channel.secret, d.channel.id.String(), events)
	}
	to := addresses(d.channel.target)
	return "accepted", h.post.Mail(ctx, to, d.id.String(), subjectOf(d.events), h.text(d.events))
}

func addresses(target string) (list []string) {
	for a := range strings.SplitSeq(target, ",") {
		if a = strings.TrimSpace(a); a != "" {
			list = append(list, a)
		}
	}
	return list
}

// subjectOf says in one line what events are about.
func subjectOf(events []Told) string {
	if len(events) != 1 {
		return fmt.Sprintf("%d alerts", len(events))
	}
	e := events[0]
	what := string(e.Level)
	switch e.Kind {
	case health.Ended:
		what = "resolved"
	case health.Escalated:
		what = "not acknowledged"
	case health.Reopened:
		what += ", again"
	}
	return fmt.Sprintf("[%s] %s: %s", what, orElse(e.Device, e.Site), e.Message)
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// text tells events in a mail.
func (h *Service) text(events []Told) string {
	var b strings.Builder
	for i, e := range events {
		if i > 0 {
			b.WriteString("\n\n")
		}
		place := e.Site + ", " + e.Organisation
		if e.Device != "" {
			place = e.Device + " at " + place
		}
		switch e.Kind {
		case health.Ended:
			fmt.Fprintf(&b, "Resolved: %s\n", e.Message)
		case health.Escalated:
			fmt.Fprintf(&b, "Nobody has acknowledged this: %s\n", e.Message)
		default:
			fmt.Fprintf(&b, "%s\n", e.Message)
		}
		fmt.Fprintf(&b, "\nWhere      %s\nLevel      %s\nSince      %s\nNext step  %s\n", place, e.Level,
			e.Since.UTC().Format("2 January 2006 15:04 MST"), health.NextStep(e.Check))
		if h.url != "" {
			fmt.Fprintf(&b, "\n%s/alerts/%s\n", h.url, e.Alert)
		}
	}
	return b.String()
}

// expire removes what was told long ago. It is run every hour.
func (h *Service) expire(ctx context.Context) error {
	return h.store.expireDeliveries(ctx, time.Now().Add(-keepDeliveries))
}
