// Package health is the column of judgement: it judges devices after something about them changed,
// keeps their findings, and shows what needs a person. Its rules are in core/health.
package health

import (
	"context"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/service/front"
)

// Fleet is what this column asks and tells of devices.
type Fleet interface {
	Devices(ctx context.Context, ids []uuid.UUID) ([]api.Device, error)
	// Changed is told of devices whose row in the list may look different now.
	Changed(devices []uuid.UUID)
}

// Times of the reviewer: how long changes gather, how many devices are judged in one transaction,
// and how long it waits for an absent database.
const (
	gather    = 100 * time.Millisecond
	together  = 500
	retry     = time.Second
	judgeOnce = 15 * time.Second
)

// Column serves the health part of the contract.
type Column struct {
	store store
	fleet Fleet

	mu      sync.Mutex
	pending map[uuid.UUID]struct{}
	wake    chan struct{}
}

// New makes the column. Join gives it the fleet, which in turn reports to it.
func New(pool *pgxpool.Pool) *Column {
	return &Column{store: store{pool}, pending: map[uuid.UUID]struct{}{}, wake: make(chan struct{}, 1)}
}

// Join gives the column the fleet.
func (h *Column) Join(f Fleet) { h.fleet = f }

// Review judges devices anew, soon. It never waits.
func (h *Column) Review(devices ...uuid.UUID) {
	h.mu.Lock()
	for _, id := range devices {
		h.pending[id] = struct{}{}
	}
	h.mu.Unlock()
	select {
	case h.wake <- struct{}{}:
	default:
	}
}

// Recheck judges again what can end by the passing of time alone. It is run every minute.
func (h *Column) Recheck(ctx context.Context) error {
	ids, err := h.store.conflicted(ctx)
	h.Review(ids...)
	return err
}

// Run judges what changes until ctx ends.
func (h *Column) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.wake:
		}
		wait := gather
		for ids := h.take(); len(ids) > 0 && ctx.Err() == nil; ids = h.take() {
			if err := h.judge(ctx, ids); err != nil {
				slog.Warn("devices cannot be judged; trying again", "devices", len(ids), "error", err)
				h.Review(ids...)
				wait = retry
				break
			}
			h.fleet.Changed(ids)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// take removes up to so many devices from those that wait.
func (h *Column) take() []uuid.UUID {
	h.mu.Lock()
	defer h.mu.Unlock()
	var ids []uuid.UUID
	for id := range h.pending {
		if len(ids) == together {
			break
		}
		ids = append(ids, id)
		delete(h.pending, id)
	}
	return ids
}

func (h *Column) judge(ctx context.Context, ids []uuid.UUID) error {
	ctx, cancel := context.WithTimeout(ctx, judgeOnce)
	defer cancel()
	now := time.Now()
	return h.store.review(ctx, ids, func(j *judged) {
		j.condition, j.findings = health.Judge(j.state, j.before, now)
	})
}

// ListAttention lists what needs a person: GET /attention.
func (h *Column) ListAttention(c *gin.Context, in api.ListAttentionParams) {
	ctx := c.Request.Context()
	offset := 0
	limit := front.Limit(in.Limit, 100)
	if err := front.After(in.Cursor, &offset); err != nil {
		front.Fail(c, err)
		return
	}
	o, err := h.store.overview(ctx, max(offset, 0), limit+1)
	if err != nil {
		front.Fail(c, err)
		return
	}
	rows, err := h.fleet.Devices(ctx, o.devices)
	if err != nil {
		front.Fail(c, err)
		return
	}
	devices := map[uuid.UUID]api.Device{}
	for _, d := range rows {
		devices[d.ID] = d
	}
	page := api.AttentionPage{Items: []api.Attention{}, Total: o.total, Devices: &o.tally}
	for i, id := range o.devices[:min(limit, len(o.devices))] {
		if d, ok := devices[id]; ok {
			page.Items = append(page.Items, api.Attention{Device: d, Finding: o.findings[i], NextStep: health.NextStep(o.findings[i])})
		}
	}
	if len(o.devices) > limit {
		page.Next = front.Cursor(offset + limit)
	}
	c.JSON(http.StatusOK, page)
}
