// Package session is the column of work on devices: the tools with which a technician looks and
// acts, the sessions in which they do, the consent of the person at the device, and questions put to
// many at once. What is asked passes between the caller and the device's agent, which carries it
// out; each action is on record before it begins.
package session

import (
	"context"
	"crypto/ed25519"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/part"
)

// Devices finds devices.
type Devices interface {
	front.Visibility
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
	// Place is where a device stands among the scopes of rules.
	Place(ctx context.Context, id uuid.UUID) (health.Place, error)
	// Scopes returns the devices that a scope covers; KnownScope refuses one that is not there.
	Scopes(ctx context.Context, s health.Scope) ([]api.Device, error)
	KnownScope(ctx context.Context, s health.Scope) error
	// ByAddress finds the devices at network addresses that the caller may know of.
	ByAddress(ctx context.Context, caller *front.Caller, addresses []string) (map[string]api.Device, error)
	// Chosen returns the devices of a group, those for which an expression holds, or all, by name; of
	// them those at which the caller holds a permission.
	Chosen(ctx context.Context, caller *front.Caller, p access.Permission, where *string, group *uuid.UUID) ([]api.Device, error)
}

// People tells what those may do who work in sessions.
type People interface {
	// RightsOf are those of somebody now; none where they are no longer here.
	RightsOf(ctx context.Context, person uuid.UUID) (access.Rights, error)
}

// Service serves the session part of the contract.
type Service struct {
	store     store
	devices   Devices
	inventory Inventory
	people    People
	audit     front.Recorder
	hub       *hub.Hub
	active    activeSessions
	rules     rules
	searches  chan struct{} // of recordings; each holds a place
	recorders recorders
	glances   glances
	seal      ed25519.PrivateKey // signs recordings
	box       *secret.Ring
}

// New makes the column. seal signs recordings, and box keeps the passwords of consoles.
func New(base part.Base, devices Devices, inventory Inventory, people People, h *hub.Hub, seal ed25519.PrivateKey,
	box, recordings *secret.Ring) *Service {
	s := &Service{store: store{base.Pool, recordings}, devices: devices, inventory: inventory, people: people, audit: base.Audit, hub: h,
		seal: seal, box: box, searches: make(chan struct{}, mostSearches),
		active: activeSessions{open: map[sessionKey]*activeSession{}, ended: map[sessionKey]time.Time{}}}
	base.Bus.RightsChanged.Subscribe(s.rightsChanged)
	base.Bus.ScopeUser.Subscribe(s.scopeInUse)
	return s
}

// Part is what the service hands out.
func (s *Service) Part() part.Part {
	return part.Part{Name: "session", Begin: s.refresh, Refresh: s.refresh, Run: []func(context.Context){s.run}, Expire: s.expire,
		Reseal: s.reseal}
}

func siteScope(id string) health.Scope { return health.Scope{Kind: health.Site, ID: id} }

// TestLink passes on bytes that the device sends: GET /devices/{id}/link-test.
func (s *Service) TestLink(c *gin.Context, id api.ID, in api.TestLinkParams) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		d, err := s.devices.Device(ctx, id)
		if err != nil {
			return err
		}
		n := int64(0)
		if in.Bytes != nil {
			n = *in.Bytes
		}
		answer, err := s.hub.Call(ctx, http.MethodGet, id, "/bytes", url.Values{"n": {strconv.FormatInt(n, 10)}}, nil)
		if err != nil {
			return front.Unreachable(d.Name, err)
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return front.FromDevice(d.Name, answer)
		}
		c.Header("Content-Type", "application/octet-stream")
		c.Header("Content-Length", strconv.FormatInt(n, 10))
		c.Status(http.StatusOK)
		io.CopyBuffer(writer{c.Writer}, io.LimitReader(answer.Body, n), make([]byte, 128<<10))
		return nil
	})
}

// writer hides ReadFrom, which would copy through a smaller buffer.
type writer struct{ io.Writer }
