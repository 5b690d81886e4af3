package health

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/series"
)

// opened is an alert that has just opened.
type opened struct {
	device         uuid.UUID
	check, subject string
}

// backdateOver is how far back the beginning of a state is looked for that was there before it was
// first judged: before its check was set, or while the service was away.
const backdateOver = 14 * 24 * time.Hour

// suspectAfter is how long after an alert opened its suspects are worked out: others may open with
// it, and tell more together.
const suspectAfter = 2 * time.Second

// backdate finds out, for alerts that opened, since when their state has really lasted, and what
// changes most likely stand behind them, until ctx ends.
func (h *Service) backdate(ctx context.Context) {
	var soon <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-soon:
			soon = nil
			if err := h.findSuspects(ctx); err != nil && ctx.Err() == nil {
				slog.Warn("the suspects of alerts cannot be worked out; trying again in a minute", "error", err)
			}
		case o := <-h.opened:
			if soon == nil {
				soon = time.After(suspectAfter)
			}
			if err := h.beginning(ctx, o); err != nil && ctx.Err() == nil {
				slog.Warn("the beginning of an alert cannot be looked for", "device", o.device, "check", o.check, "error", err)
			}
		}
	}
}

func (h *Service) beginning(ctx context.Context, o opened) error {
	reading := readingOf(o.check)
	if reading == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, judgeOnce)
	defer cancel()
	p, err := h.fleet.Place(ctx, o.device)
	if err != nil {
		return err
	}
	setting, ok := h.rules.set(&p).set.Find(o.check, o.subject)
	if !ok {
		return nil
	}
	name := device.JoinReading(reading, o.subject)
	now := time.Now()
	past, gap := &series.Table{}, time.Duration(0)
	err = h.history.Past(ctx, o.device, now.Add(-backdateOver), now, func(column string) bool { return column == name },
		func(t *series.Table, g time.Duration) {
			past.Merge(t)
			gap = max(gap, g)
		})
	if err != nil {
		return err
	}
	past.Sort()
	// other sensors may come with it
	episodes := slices.DeleteFunc(health.Replay(setting, past, gap), func(e health.Episode) bool { return e.Reading != name })
	if len(episodes) == 0 || now.Sub(episodes[len(episodes)-1].To) > gap {
		return nil
	}
	changed, err := h.store.setSince(ctx, o, episodes[len(episodes)-1].From)
	if changed {
		h.fleet.Changed([]uuid.UUID{o.device})
	}
	return err
}

// recallGap is the longest time between two rows of a past that was made to be imported.
const recallGap = 11 * time.Minute

// Recall judges a past that was imported, by the settings of now: each stretch of it that would have
// been an alert, and ended, becomes a resolved one. The demo does so with its week.
func (h *Service) Recall(ctx context.Context, id uuid.UUID, past *series.Table, end time.Time) error {
	p, err := h.fleet.Place(ctx, id)
	if err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, h.store.pool, func(tx pgx.Tx) error {
		for _, s := range h.rules.set(&p).set.Settings() {
			ended := slices.DeleteFunc(health.Replay(s.Setting, past, recallGap),
				func(e health.Episode) bool { return end.Sub(e.To) <= recallGap })
			for _, e := range ended {
				if err := recall(ctx, tx, id, s.Check, e); err != nil {
					return err
				}
			}
		}
		return nil
	})
}
