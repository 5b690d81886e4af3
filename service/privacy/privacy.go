// Package privacy is the column of what the service holds about people and organisations: it hands all of it out, and
// erases it. It knows the tables of every column, and nothing else of them.
package privacy

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/part"
)

// Fleet is what is told of devices that are gone.
type Fleet interface {
	Changed(devices []uuid.UUID)
}

// Service serves the privacy part of the contract.
type Service struct {
	store store
	fleet Fleet
	audit front.Recorder
	bus   *bus.Bus
}

// New makes the column.
func New(base part.Base, fleet Fleet) *Service {
	return &Service{store: store{base.Pool}, fleet: fleet, audit: base.Audit, bus: base.Bus}
}

// writeWithin is how long a reader may take for a line of an export.
const writeWithin = time.Minute

// line is a row of an export.
type line struct {
	Kind string          `json:"kind"`
	Data json.RawMessage `json:"data"`
}

// export writes rows, one a line, as they are read.
func (p *Service) export(c *gin.Context, name string, read func(ctx context.Context, each func(kind string, row []byte) error) error) {
	front.Download(c, name+".ndjson", "application/x-ndjson")
	control := http.NewResponseController(c.Writer)
	out := json.NewEncoder(c.Writer)
	err := read(c.Request.Context(), func(kind string, row []byte) error {
		control.SetWriteDeadline(time.Now().Add(writeWithin))
		return out.Encode(line{kind, row})
	})
	if err != nil {
		slog.Warn("an export could not be written whole", "error", err)
		panic(http.ErrAbortHandler) // so that nobody takes it for whole
	}
}

// ExportMe hands the caller what is held about them: GET /me/data.
func (p *Service) ExportMe(c *gin.Context) { p.exportPerson(c, front.CallerOf(c).ID) }

// ExportPerson hands out what is held about a person who signs in: GET /people/{id}/data.
func (p *Service) ExportPerson(c *gin.Context, id api.ID) { p.exportPerson(c, id) }

func (p *Service) exportPerson(c *gin.Context, id uuid.UUID) {
	email, err := p.store.email(c.Request.Context(), id)
	if !front.Changed(c, p.audit, front.Change{Action: "person.export", Detail: email, What: "person"}, err) {
		return
	}
	p.export(c, "person", func(ctx context.Context, each func(string, []byte) error) error {
		return p.store.person(ctx, id, email, each)
	})
}

// ErasePerson erases what is held about somebody who was removed: POST /people/erasures.
func (p *Service) ErasePerson(c *gin.Context) {
	in, ok := front.Bind[api.Erasure](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	id, err := p.store.erasePerson(ctx, strings.ToLower(strings.TrimSpace(in.Name)))
	switch {
	case err == errThere:
		err = front.Problem(http.StatusConflict, "This person may still sign in.",
			"Remove them first; then nothing that they began goes on unseen.")
	case db.Missing(err):
		err = front.NotFound("person of this e-mail address")
	case err == nil:
		entry := front.EntryOf(c, "person.erase", "done")
		entry.Detail = id.String()
		err = p.audit.Record(ctx, entry)
	}
	front.Done(c, err)
}

// ExportOrganisation hands out what is held about an organisation: GET /organisations/{id}/data.
func (p *Service) ExportOrganisation(c *gin.Context, id api.ID) {
	name, err := p.store.organisation(c.Request.Context(), id)
	if !front.Changed(c, p.audit, front.Change{Action: "organisation.export", Detail: name, What: "organisation"}, err) {
		return
	}
	p.export(c, "organisation", func(ctx context.Context, each func(string, []byte) error) error {
		return p.store.exportOrganisation(ctx, id, each)
	})
}

// EraseOrganisation erases an organisation with all that is held about its devices: POST /organisations/{id}/erasure.
func (p *Service) EraseOrganisation(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.Erasure](c)
	if !ok {
		return
	}
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		name, err := p.store.organisation(ctx, id)
		switch {
		case db.Missing(err):
			return front.NotFound("organisation")
		case err != nil:
			return err
		case in.Name != name:
			return front.Problem(http.StatusUnprocessableEntity, "This is not its name.",
				"Write the organisation's name as it is: nothing brings back what is erased.")
		}
		// It is on record before it begins: what follows leaves nothing that tells of it.
		entry := front.EntryOf(c, "organisation.erase", "begun")
		entry.Detail = name
		if err := p.audit.Record(ctx, entry); err != nil {
			return err
		}
		devices, err := p.store.devices(ctx, id)
		if err != nil {
			return err
		}
		for _, device := range devices {
			p.bus.IdentityRevoked.Publish(ctx, device)
		}
		defer p.fleet.Changed(devices)
		ctx = context.WithoutCancel(ctx) // once begun it is ended, whoever waits for it
		if err := p.store.eraseOrganisation(ctx, id, devices); err != nil {
			return err
		}
		entry.Result, entry.Detail = "done", fmt.Sprintf("%s, %d devices", name, len(devices))
		if err := p.audit.Record(ctx, entry); err != nil {
			return err
		}
		c.Status(http.StatusNoContent)
		return nil
	})
}
