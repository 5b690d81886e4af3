package fleet

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// presence is that a device came or went.
type presence struct {
	device uuid.UUID
	online bool
	at     time.Time
}

// Key implements hub.Registry.
func (f *Service) Key(ctx context.Context, id uuid.UUID) (ed25519.PublicKey, error) {
	key, retired, err := f.store.key(ctx, id)
	switch {
	case db.Missing(err):
		return nil, &link.Refusal{Status: http.StatusUnauthorized, Reason: "the service does not know this device: enrol it again"}
	case err != nil:
		return nil, busyStore(err)
	case retired:
		return nil, &link.Refusal{Status: http.StatusUnauthorized, Reason: "this device was retired: enrol it again to bring it back"}
	}
	return key, nil
}

// Up implements hub.Registry.
func (f *Service) Up(_ context.Context, id uuid.UUID, _ string) {
	f.presence <- presence{id, true, time.Now()}
}

// Down implements hub.Registry.
func (f *Service) Down(_ context.Context, id uuid.UUID) {
	f.presence <- presence{id, false, time.Now()}
}

// Conflict implements hub.Registry.
func (f *Service) Conflict(ctx context.Context, id uuid.UUID, address string) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	name, err := f.store.setConflict(ctx, id, time.Now())
	if err == nil {
		err = f.audit.Record(ctx, front.Entry{Actor: name, Via: "agent", Address: address, Action: "device.connect", Device: id,
			DeviceName: name,
			Result:     "refused: another computer is connected with this identity"})
	}
	if err != nil {
		slog.Error("a second computer with one identity could not be noted", "device", id, "error", err)
	}
	f.judgeAgain(ctx, id)
}

// reportEvery is how often it is reported of one device that it has more than it may.
const reportEvery = 15 * time.Minute

// Exceeded implements hub.Registry.
func (f *Service) Exceeded(id uuid.UUID, what string) {
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		name, err := f.store.setExceeded(ctx, id, what, time.Now().Add(-reportEvery))
		if db.Missing(err) {
			return // it was reported a moment ago
		}
		slog.Warn("a device has more than it may", "device", id, "name", name, "of", what)
		if err == nil {
			err = f.audit.Record(ctx, front.Entry{Actor: name, Via: "agent", Action: "device.exceed", Device: id, DeviceName: name,
				Result: "slowed: too many " + what})
		}
		if err != nil {
			slog.Error("a device that has more than it may could not be noted", "device", id, "error", err)
		}
		f.judgeAgain(ctx, id)
	}()
}

// Times of the presence writer: how long changes gather, and how long it waits for an absent
// database before it tries again.
const (
	gatherPresence = 50 * time.Millisecond
	retryPresence  = time.Second
)

// run writes presence and publishes changes until ctx ends and everything told before is written.
func (f *Service) run(ctx context.Context) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.publish(ctx)
	}()
	f.writePresence(ctx)
	<-done
}

// begin notes that after a restart no device is connected yet.
func (f *Service) begin(ctx context.Context) error {
	ids, err := f.store.allSilent(ctx)
	f.judgeAgain(ctx, ids...)
	return errors.Join(err, f.readRoster(ctx))
}

func (f *Service) writePresence(ctx context.Context) {
	pending := map[uuid.UUID]presence{}
	var timer <-chan time.Time
	for {
		select {
		case p := <-f.presence:
			pending[p.device] = p
			if timer == nil {
				timer = time.After(gatherPresence)
			}
			continue
		case <-timer:
			timer = nil
		case <-ctx.Done():
			for len(f.presence) > 0 {
				p := <-f.presence
				pending[p.device] = p
			}
		}
		if len(pending) > 0 && !f.flush(ctx, pending) {
			timer = time.After(retryPresence)
		}
		if ctx.Err() != nil {
			return
		}
	}
}

func (f *Service) flush(ctx context.Context, pending map[uuid.UUID]presence) bool {
	changes, ids := make([]presence, 0, len(pending)), make([]uuid.UUID, 0, len(pending))
	for id, p := range pending {
		changes, ids = append(changes, p), append(ids, id)
	}
	write, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := f.store.setPresence(write, changes); err != nil {
		slog.Warn("presence cannot be written; trying again", "devices", len(changes), "error", err)
		return false
	}
	clear(pending)
	f.judgeAgain(ctx, ids...)
	return true
}

// publish gathers changes, brings the roster up to date, and sends them to the list's readers, at
// most every publishEvery.
func (f *Service) publish(ctx context.Context) {
	pending := map[uuid.UUID]struct{}{}
	tick, whole := time.NewTicker(publishEvery), time.NewTicker(enlistEvery)
	defer tick.Stop()
	defer whole.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case ids := <-f.changed:
			for _, id := range ids {
				pending[id] = struct{}{}
			}
		case <-whole.C:
			if err := f.readRoster(ctx); err != nil && ctx.Err() == nil {
				slog.Warn("the roster cannot be read; trying again", "error", err)
			}
		case <-tick.C:
			if len(pending) == 0 {
				continue
			}
			ids := slices.Collect(maps.Keys(pending))
			if err := f.tell(ctx, ids); err != nil {
				slog.Warn("changes cannot be published; trying again", "error", err)
				continue
			}
			clear(pending)
		}
	}
}

// readRoster reads the groups and all devices anew.
func (f *Service) readRoster(ctx context.Context) error {
	groups := f.readGroups(ctx)
	_, devices := f.enlist(ctx, nil)
	return errors.Join(groups, devices)
}

// tell brings the roster up to date with devices, and their readers.
func (f *Service) tell(ctx context.Context, ids []uuid.UUID) error {
	listed, err := f.enlist(ctx, ids)
	if err != nil || f.events.Readers() == 0 {
		return err
	}
	rows := make([]api.Device, len(listed))
	for i := range listed {
		rows[i] = listed[i].Device
	}
	f.decorate(rows)
	f.Publish("devices", rows)
	return nil
}

// serveFacts takes a device's facts over its link: POST /facts.
func (f *Service) serveFacts(w http.ResponseWriter, r *http.Request) {
	var facts device.Facts
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, link.MaxFacts)).Decode(&facts); err != nil {
		hub.Refuse(w, err)
		return
	}
	id := hub.Device(r)
	if err := hub.Work(r, 1, func() error { return f.store.setFacts(r.Context(), id, facts.Clean()) }); err != nil {
		slog.Warn("facts cannot be stored", "device", id, "error", err)
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	f.judgeAgain(r.Context(), id)
	w.WriteHeader(http.StatusNoContent)
}
