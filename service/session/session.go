// Package session is the column of work on devices: commands, shells, the measure of a link, and
// questions put to many at once. Each passes between the caller and the device's agent, which carries it out; each is on
// record before it begins.
package session

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
)

// Devices finds devices.
type Devices interface {
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
	// Chosen returns the devices of a group, those for which an expression holds, or all, by name.
	Chosen(ctx context.Context, where *string, group *uuid.UUID) ([]api.Device, error)
}

// Column serves the session part of the contract.
type Column struct {
	devices Devices
	audit   front.Recorder
	hub     *hub.Hub
}

// New makes the column.
func New(devices Devices, audit front.Recorder, h *hub.Hub) *Column {
	return &Column{devices, audit, h}
}

// TestLink passes on bytes that the device sends: GET /devices/{id}/link-test.
func (s *Column) TestLink(c *gin.Context, id api.ID, in api.TestLinkParams) {
	ctx := c.Request.Context()
	d, err := s.devices.Device(ctx, id)
	if err != nil {
		front.Fail(c, err)
		return
	}
	n := int64(0)
	if in.Bytes != nil {
		n = *in.Bytes
	}
	answer, err := s.hub.Call(ctx, http.MethodGet, id, "/bytes", url.Values{"n": {strconv.FormatInt(n, 10)}}, nil)
	if err != nil {
		front.Fail(c, front.Unreachable(d.Name, err))
		return
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		front.Fail(c, front.FromDevice(d.Name, answer))
		return
	}
	c.Header("Content-Type", "application/octet-stream")
	c.Header("Content-Length", strconv.FormatInt(n, 10))
	c.Status(http.StatusOK)
	io.CopyBuffer(writer{c.Writer}, io.LimitReader(answer.Body, n), make([]byte, 128<<10))
}

// writer hides ReadFrom, which would copy through a smaller buffer.
type writer struct{ io.Writer }
