// Package vitals is the column of readings: it takes reports from devices, each stored once,
// compresses them, and shows their history, where one stands among others, and what a device reads
// now. Its rules are in core/device and core/series.
package vitals

import (
	"bufio"
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/part"
)

// Reviewer judges devices anew, soon, after their readings changed.
type Settings interface {
	// SettingsDigest identifies what the agent of a device is asked to look at; "" when that is not
	// known yet.
	SettingsDigest(device uuid.UUID) string
}

// Devices finds devices.
type Devices interface {
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
	// Chosen returns the devices of a group, those for which an expression holds, or all; of them those
	// at which the caller holds a permission.
	Chosen(ctx context.Context, caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]api.Device, error)
}

// Service serves the vitals part of the contract.
type Service struct {
	store    store
	devices  Devices
	bus      *bus.Bus
	settings Settings
	hub      *hub.Hub
	queue    chan waiting
	keep     series.Keep
}

// New makes the column. It calls devices over the hub.
func New(base part.Base, devices Devices, settings Settings, h *hub.Hub, keep series.Keep) *Service {
	return &Service{store: store{base.Pool, newLayouts()}, bus: base.Bus, devices: devices, settings: settings, hub: h,
		queue: make(chan waiting, queueLength), keep: keep}
}

// Part is what the service hands out.
func (v *Service) Part() part.Part {
	return part.Part{Name: "vitals", Links: map[string]http.HandlerFunc{"POST /reports": v.serveReports},
		Run: []func(context.Context){v.run}, Expire: v.expire,
		Periodic: []part.Periodic{{Name: "compact", Every: 10 * time.Minute, Do: v.compact},
			{Name: "trends", Every: time.Hour, Do: func(ctx context.Context) error { return v.FindTrends(ctx) }}}}
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

// StreamVitals passes on what a device reads now: GET /devices/{id}/vitals/live.
func (v *Service) StreamVitals(c *gin.Context, id api.ID) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		d, err := v.devices.Device(ctx, id)
		if err != nil {
			return err
		}
		answer, err := v.hub.Call(ctx, http.MethodGet, id, "/vitals/live", nil, nil)
		if err != nil {
			return front.Unreachable(d.Name, err)
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return front.FromDevice(d.Name, answer)
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
				return nil
			}
		}
		if ctx.Err() == nil {
			stream.Send(front.Event{Name: "lost", Data: []byte("{}")})
		}
		return nil
	})
}
