package vitals

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
)

// Times of compaction: how long after a window's end its reports are waited for, and how many
// devices are compressed in one transaction.
const (
	lateness        = 10 * time.Minute
	compactTogether = 100
)

// compact compresses what was read in windows that are over. It is run every ten minutes.
func (v *Service) compact(ctx context.Context) error { return v.CompactBefore(ctx, time.Now()) }

// CompactBefore compresses what was read in windows that are over at now.
func (v *Service) CompactBefore(ctx context.Context, now time.Time) error {
	before := series.Raw.Start(now.Add(-lateness))
	for {
		devices, err := v.store.ripe(ctx, before, compactTogether)
		if err != nil || len(devices) == 0 {
			return err
		}
		err = pgx.BeginFunc(ctx, v.store.pool, func(tx pgx.Tx) error {
			tables, err := v.store.take(ctx, tx, devices, before)
			if err != nil {
				return err
			}
			return keep(ctx, tx, tables)
		})
		if err != nil {
			return err
		}
	}
}

// Import stores a stretch of a device's past, as the demo does for its history.
func (v *Service) Import(ctx context.Context, id uuid.UUID, t *series.Table) error {
	t.Sort()
	return pgx.BeginFunc(ctx, v.store.pool, func(tx pgx.Tx) error {
		return keep(ctx, tx, map[uuid.UUID]*series.Table{id: t})
	})
}

// ImportPeople notes who was signed in at a device last, as the demo does for its history.
func (v *Service) ImportPeople(ctx context.Context, id uuid.UUID, names []string, at time.Time) error {
	if err := v.store.setLastPeople(ctx, id, names, at); err != nil {
		return err
	}
	v.bus.DevicesChanged.Publish(ctx, []uuid.UUID{id})
	return nil
}

// keep merges what was read into the chunks of every tier.
func keep(ctx context.Context, tx pgx.Tx, tables map[uuid.UUID]*series.Table) error {
	fresh := map[place]*series.Table{}
	wanted := map[place]struct{}{}
	for id, t := range tables {
		t.Split(series.Raw, func(start time.Time, part *series.Table) {
			fresh[place{id, series.Raw, start}] = part
			for _, tier := range series.Tiers {
				wanted[place{id, tier, tier.Start(start)}] = struct{}{}
			}
		})
	}
	places := make([]place, 0, len(wanted))
	for p := range wanted {
		places = append(places, p)
	}
	known, err := chunks(ctx, tx, places)
	if err != nil {
		return err
	}
	result := map[place]*series.Table{}
	for p, part := range fresh {
		raw := &series.Table{}
		whole := true // the window's readings are all at hand
		if old := known[p]; old != nil {
			raw.Merge(old)
		} else {
			whole = !rolled(known, p)
		}
		raw.Merge(part)
		raw.Sort()
		raw.Thin(series.MaxRows) // only a device that reports several times a second has more
		result[p] = raw
		for _, tier := range series.Tiers[1:] {
			at := place{p.device, tier, tier.Start(p.start)}
			if result[at] == nil {
				if result[at] = known[at]; result[at] == nil {
					result[at] = &series.Table{}
				}
			}
			up := series.RollUp(raw, tier)
			if whole {
				result[at].Merge(up) // the later of one moment stays
			} else {
				up.Merge(result[at])
				result[at] = up
			}
			result[at].Sort()
			result[at].Latest()
		}
	}
	data := make([][]byte, 0, len(result))
	places = places[:0]
	for p, t := range result {
		chunk, err := series.Encode(t, device.QuantumOf)
		if err != nil {
			return err
		}
		places, data = append(places, p), append(data, chunk)
	}
	return putChunks(ctx, tx, places, data)
}

// rolled tells whether a raw window, of which there is no chunk, was rolled up before: then its
// chunk has expired, and what comes late only fills gaps.
func rolled(known map[place]*series.Table, p place) bool {
	t := known[place{p.device, series.FiveMinutes, series.FiveMinutes.Start(p.start)}]
	if t == nil {
		return false
	}
	for _, at := range t.At {
		if !at.Before(p.start) && at.Before(p.start.Add(series.Raw.Window())) {
			return true
		}
	}
	return false
}

// expire removes what is older than each tier is kept. It is run every hour.
func (v *Service) expire(ctx context.Context) error {
	var all error
	for _, tier := range series.Tiers {
		all = errors.Join(all, v.store.expire(ctx, tier, time.Now().Add(-v.keep[tier]-tier.Window())))
	}
	return all
}

// trendOver is the history that a trend is told from.
const trendOver = 7 * 24 * time.Hour

// FindTrends finds how the disks of devices fill, of all when none are named. It is run every hour.
func (v *Service) FindTrends(ctx context.Context, only ...uuid.UUID) error {
	devices := only
	if len(only) == 0 {
		var err error
		if devices, err = v.store.reporting(ctx); err != nil {
			return err
		}
	}
	now := time.Now()
	from := now.Add(-trendOver)
	for _, id := range devices {
		trends, err := v.trends(ctx, id, from, now)
		if err == nil {
			err = v.store.setTrends(ctx, id, trends)
		}
		if err != nil {
			return err
		}
		v.bus.DevicesChanged.Publish(ctx, []uuid.UUID{id})
	}
	return nil
}

// trends finds how much of each disk of a device fills a day, in percent.
func (v *Service) trends(ctx context.Context, id uuid.UUID, from, to time.Time) (map[string]series.Trend, error) {
	whole := &series.Table{}
	err := v.store.history(ctx, id, series.Hourly, from, to, func(column string) bool {
		kind, _ := device.SplitReading(column)
		return kind == "disk" && series.Reading(column) == column
	}, func(t *series.Table) {
		whole.Merge(series.RollUp(t, series.Hourly))
	})
	if err != nil {
		return nil, err
	}
	whole.Sort()
	begin := 0
	for begin < len(whole.At) && whole.At[begin].Before(from) {
		begin++
	}
	trends := map[string]series.Trend{}
	for _, c := range whole.Columns {
		if kind, mount := device.SplitReading(c.Name); kind == "disk" && series.Reading(c.Name) == c.Name {
			if trend, ok := series.FindTrend(whole.At[begin:], c.Values[begin:]); ok {
				trends[mount] = trend
			}
		}
	}
	return trends, nil
}
