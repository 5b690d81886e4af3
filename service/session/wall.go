package session

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/session"
	"moorwatch.example/service/front"
)

const (
	// maxPicture is the most that a small picture may hold, in bytes.
	maxPicture = 1 << 20
	// glanceLasts is how long one looks at a device's small pictures before it is put on record again.
	glanceLasts = 15 * time.Minute
)

// glances are who has looked at which device's small pictures of late.
type glances struct {
	mu   sync.Mutex
	last map[[2]uuid.UUID]time.Time
}

// first tells whether somebody's look is to be put on record.
func (g *glances) first(person, device uuid.UUID, now time.Time) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.last == nil {
		g.last = map[[2]uuid.UUID]time.Time{}
	}
	key := [2]uuid.UUID{person, device}
	if now.Sub(g.last[key]) < glanceLasts {
		return false
	}
	for k, at := range g.last {
		if now.Sub(at) >= glanceLasts {
			delete(g.last, k)
		}
	}
	g.last[key] = now
	return true
}

// GetScreenPicture sends a small picture of a desktop: GET /devices/{id}/screen/picture.
func (s *Service) GetScreenPicture(c *gin.Context, id api.ID, in api.GetScreenPictureParams) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		d, _, err := s.tool(c, id, "wall")
		if err != nil {
			return err
		}
		place, err := s.devices.Place(ctx, d.ID)
		if err != nil {
			return err
		}
		rule := session.Resolve(s.rules.get(), "wall", &place)
		if rule.Mode == session.Forbid {
			return front.Problem(http.StatusForbidden, "The policy shows no pictures of this screen on the wall.",
				"Open the screen itself, with the consent of the person there.")
		}
		order := link.ScreenPictureOrder{Width: front.Limit(in.Width, 320), Blur: rule.Mode == session.Blur}
		if in.IfNoneMatch != nil {
			order.Known = *in.IfNoneMatch
		}
		if s.glances.first(front.CallerOf(c).ID, d.ID, time.Now()) {
			entry := front.EntryOf(c, "wall.view", "done")
			entry.Device, entry.DeviceName = d.ID, d.Name
			if order.Blur {
				entry.Detail = "blurred"
			}
			if err := s.audit.Record(ctx, entry); err != nil {
				return err
			}
		}
		body, err := json.Marshal(order)
		if err != nil {
			return err
		}
		answer, err := s.hub.Call(ctx, http.MethodPost, d.ID, "/screen/picture", nil, bytes.NewReader(body))
		if err != nil {
			return front.Unreachable(d.Name, err)
		}
		defer answer.Body.Close()
		if answer.StatusCode >= 300 {
			return front.FromDevice(d.Name, answer)
		}
		c.Header("ETag", answer.Header.Get("ETag"))
		c.Header("Cache-Control", "private, no-cache")
		if answer.StatusCode == http.StatusNoContent {
			c.Status(http.StatusNotModified)
			return nil
		}
		picture, err := io.ReadAll(io.LimitReader(answer.Body, maxPicture))
		if err != nil {
			return front.Unreachable(d.Name, err)
		}
		c.Header("X-Content-Type-Options", "nosniff")
		c.Data(http.StatusOK, "image/jpeg", picture)
		return nil
	})
}
