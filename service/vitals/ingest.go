package vitals

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/service/hub"
)

// Limits of what waits to be stored, and for how long.
const (
	queueLength  = 2048 // batches
	writeBatches = 512  // in one transaction
	storeWithin  = 20 * time.Second
)

// waiting is a batch that a device sent and waits to be told of.
type waiting struct {
	ctx      context.Context
	device   uuid.UUID
	batch    link.Batch
	received time.Time
	done     chan answer
}

type answer struct {
	receipt link.Receipt
	err     error
}

var errUnknown = errors.New("the device is not known any more")

// serveReports takes reports over a device's link: POST /reports. It answers once they are on
// disk; a device that hears no answer sends them again, and what is stored already is passed over
// by its number.
func (v *Service) serveReports(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), storeWithin)
	defer cancel()
	var batch link.Batch
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, link.MaxBatch)).Decode(&batch); err != nil {
		hub.Refuse(w, fmt.Errorf("the reports cannot be read: %w", err))
		return
	}
	if err := check(batch); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if err := hub.ChargeReports(r, len(batch.Reports)); err != nil {
		hub.Refuse(w, err)
		return
	}
	wait := waiting{ctx, hub.Device(r), batch, time.Now(), make(chan answer, 1)}
	select {
	case v.queue <- wait:
	case <-ctx.Done():
		http.Error(w, "the service is busy; keep the reports and send them later", http.StatusServiceUnavailable)
		return
	}
	select {
	case a := <-wait.done:
		if a.err != nil {
			slog.Warn("reports cannot be stored", "device", wait.device, "error", a.err)
			http.Error(w, "the reports cannot be stored now; keep them and send them later", http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(a.receipt)
	case <-ctx.Done():
		http.Error(w, "the database does not answer; keep the reports and send them later", http.StatusServiceUnavailable)
	}
}

// check refuses a batch whose shape no agent sends.
func check(b link.Batch) error {
	if _, err := uuid.Parse(b.Epoch); err != nil {
		return errors.New("the batch's epoch is no UUID")
	}
	if len(b.Reports) == 0 || len(b.Reports) > link.MaxSends {
		return fmt.Errorf("a batch has 1 to %d reports", link.MaxSends)
	}
	for i, r := range b.Reports {
		if r.Seq == 0 || (i > 0 && r.Seq <= b.Reports[i-1].Seq) {
			return errors.New("a batch's reports are numbered upwards from 1")
		}
	}
	if last := b.Reports[len(b.Reports)-1].Seq; last > 1<<62 {
		return errors.New("the reports' numbers are out of range")
	}
	return nil
}

// run stores what waits until ctx ends. Batches that arrive together are stored together.
func (v *Service) run(ctx context.Context) {
	var later []waiting
	for {
		if len(later) == 0 {
			select {
			case <-ctx.Done():
				return
			case first := <-v.queue:
				later = append(later, first)
			}
		}
		for len(later) < writeBatches && len(v.queue) > 0 {
			later = append(later, <-v.queue)
		}
		var now []waiting
		now, later = onceEach(later)
		v.write(ctx, now)
	}
}

// onceEach takes the first batch of each device; the next of a device is stored after it.
func onceEach(all []waiting) (now, later []waiting) {
	seen := map[uuid.UUID]bool{}
	for _, w := range all {
		if seen[w.device] {
			later = append(later, w)
			continue
		}
		seen[w.device] = true
		now = append(now, w)
	}
	return now, later
}

func (v *Service) write(ctx context.Context, together []waiting) {
	together = slices.DeleteFunc(together, func(w waiting) bool { return w.ctx.Err() != nil })
	if len(together) == 0 {
		return
	}
	ids := make([]uuid.UUID, len(together))
	for i, w := range together {
		ids[i] = w.device
	}
	receipts := make([]link.Receipt, len(together))
	write, cancel := context.WithTimeout(ctx, storeWithin)
	defer cancel()
	err := v.store.accept(write, ids, func(marks map[uuid.UUID]mark) ([]row, []latest) {
		var history []row
		var newest []latest
		for i, w := range together {
			m, known := marks[w.device]
			if !known {
				receipts[i] = link.Receipt{}
				continue
			}
			rows, last, receipt := choose(w, m)
			receipts[i] = receipt
			history = append(history, rows...)
			if last != nil {
				newest = append(newest, *last)
			}
		}
		return history, newest
	})
	for i, w := range together {
		receipts[i].Settings = v.settings.SettingsDigest(w.device)
		a := answer{receipts[i], err}
		if err == nil && a.receipt.Through == 0 {
			a.err = errUnknown
		}
		w.done <- a
	}
	if err == nil {
		v.bus.DevicesChanged.Publish(ctx, ids)
	}
}

// choose tells which reports of a batch are new, which of them can be believed, and which is the
// device's latest.
func choose(w waiting, m mark) (rows []row, last *latest, receipt link.Receipt) {
	if m.epoch != w.batch.Epoch {
		m = mark{epoch: w.batch.Epoch}
	}
	receipt.Through = max(m.seq, w.batch.Reports[len(w.batch.Reports)-1].Seq)
	for _, r := range w.batch.Reports {
		if r.Seq <= m.seq {
			continue
		}
		vitals, err := r.Vitals.Check()
		if err != nil {
			receipt.Refused = append(receipt.Refused, link.Refused{Seq: r.Seq, Reason: err.Error()})
			continue
		}
		at, skew := device.OnOurClock(vitals.At, w.batch.Sent, w.received)
		vitals.At = at
		one := row{w.device, at, &vitals}
		rows = append(rows, one)
		if last == nil {
			last = &latest{row: one}
		}
		if !at.Before(last.row.at) {
			last.row, last.skew = one, clamp(skew)
		}
		if len(vitals.People) > 0 && (last.peopleAt == nil || !at.Before(*last.peopleAt)) {
			last.people, last.peopleAt = namesOf(vitals.People), &at
		}
	}
	if last != nil {
		last.mark = mark{m.epoch, receipt.Through}
	}
	return rows, last, receipt
}

// clamp keeps a clock's error within what the database can hold: about 290 years.
func clamp(d time.Duration) time.Duration { return min(max(d, -1<<62), 1<<62) }
