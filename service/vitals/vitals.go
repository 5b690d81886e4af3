// Package vitals is the column of readings: it takes reports from devices, each stored once, and
// shows their history and what a device reads now. Its rules are in core/device and core/series.
package vitals

import (
	"bufio"
	"context"
	"encoding/json"
	"log/slog"
	"math"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// Keep is how long readings are kept.
const Keep = 14 * 24 * time.Hour

// Reviewer judges devices anew, soon, after their readings changed.
type Reviewer interface {
	Review(devices ...uuid.UUID)
}

// Devices finds devices.
type Devices interface {
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
}

// Column serves the vitals part of the contract.
type Column struct {
	store    store
	devices  Devices
	reviewer Reviewer
	hub      *hub.Hub
	queue    chan waiting
}

// New makes the column. Join gives it the hub.
func New(pool *pgxpool.Pool, devices Devices, reviewer Reviewer) *Column {
	return &Column{store: store{pool}, devices: devices, reviewer: reviewer, queue: make(chan waiting, queueLength)}
}

// Join gives the column the hub over which it calls devices.
func (v *Column) Join(h *hub.Hub) { v.hub = h }

// Expire removes readings older than Keep. It is run every hour.
func (v *Column) Expire(ctx context.Context) error {
	return v.store.expire(ctx, time.Now().Add(-Keep))
}

// Import stores rows of the past, as the demo does for its week of history. next returns false
// after the last.
func (v *Column) Import(ctx context.Context, next func() (Row, bool)) error {
	return v.store.importRows(ctx, pgx.CopyFromFunc(func() ([]any, error) {
		row, ok := next()
		if !ok {
			return nil, nil
		}
		return row.values(), nil
	}))
}

// believed reads a live reading as a report is read, and writes it anew: a device must not write
// into a stream of events.
func believed(line []byte) ([]byte, error) {
	var v device.Vitals
	if err := json.Unmarshal(line, &v); err != nil {
		return nil, err
	}
	v, err := v.Check()
	if err != nil {
		return nil, err
	}
	return json.Marshal(v)
}

// GetVitals shows the history of a device: GET /devices/{id}/vitals.
func (v *Column) GetVitals(c *gin.Context, id api.ID, in api.GetVitalsParams) {
	ctx := c.Request.Context()
	to := time.Now()
	if in.To != nil {
		to = *in.To
	}
	from := to.Add(-24 * time.Hour)
	if in.From != nil {
		from = *in.From
	}
	if !from.Before(to) || to.Sub(from) > 10*366*24*time.Hour {
		front.Fail(c, front.Problem(http.StatusBadRequest, "The span of time cannot be shown.", "from must lie before to, by at most ten years."))
		return
	}
	if _, err := v.devices.Device(ctx, id); err != nil {
		front.Fail(c, err)
		return
	}
	const kinds = 7
	roller := series.NewRoller(from, to, front.Limit(in.Buckets, 300), kinds)
	err := v.store.history(ctx, id, from, to, func(at time.Time, values [kinds]*float64) {
		var numbers [kinds]float64
		for i, p := range values {
			numbers[i] = math.NaN()
			if p != nil {
				numbers[i] = *p
			}
		}
		roller.Add(at, numbers[:]...)
	})
	if err != nil {
		front.Fail(c, err)
		return
	}
	out := api.VitalsHistory{From: from, To: to, StepSeconds: roller.Step().Seconds(), Points: []api.VitalsPoint{}}
	for _, p := range roller.Points() {
		span := func(i int) api.Span {
			if p.Values[i] == nil {
				return api.Span{}
			}
			return *p.Values[i]
		}
		out.Points = append(out.Points, api.VitalsPoint{At: p.At, Count: p.Count, CPU: span(0), Memory: span(1), Disk: span(2),
			Load1: span(3), Receive: span(4), Transmit: span(5), Temperature: p.Values[6]})
	}
	c.JSON(http.StatusOK, out)
}

// StreamVitals passes on what a device reads now: GET /devices/{id}/vitals/live.
func (v *Column) StreamVitals(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	d, err := v.devices.Device(ctx, id)
	if err != nil {
		front.Fail(c, err)
		return
	}
	answer, err := v.hub.Call(ctx, http.MethodGet, id, "/vitals/live", nil, nil)
	if err != nil {
		front.Fail(c, front.Unreachable(d.Name, err))
		return
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		front.Fail(c, front.FromDevice(d.Name, answer))
		return
	}
	stream := front.StartEvents(c)
	// A line holds one reading; a device that sends longer ones is not believed.
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(make([]byte, 4<<10), 1<<20)
	for lines.Scan() {
		text, err := believed(lines.Bytes())
		if err != nil {
			slog.Warn("a device's live reading is not believed", "device", id, "error", err)
			break
		}
		if stream.Send(front.Event{Name: "vitals", Data: text}) != nil {
			return
		}
	}
	if ctx.Err() == nil {
		stream.Send(front.Event{Name: "lost", Data: []byte("{}")})
	}
}
