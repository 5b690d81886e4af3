// Package fleet is the column of organisations, sites and devices: the list, enrolment, what each
// device is, and whether it is there. Its rules are in core/device and core/selector.
package fleet

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// Reviewer judges devices anew, soon, after something about them changed.
type Reviewer interface {
	Review(devices ...uuid.UUID)
}

// Column serves the fleet part of the contract.
type Column struct {
	store    store
	audit    front.Recorder
	reviewer Reviewer
	hint     string // carried by enrolment tokens: the fingerprint of the service's own authority
	events   *front.Broker
	presence chan presence
	changed  chan []uuid.UUID
	guesses  guesses
	// Disconnect ends a device's link. It is set when the hub is joined to the column.
	Disconnect func(device uuid.UUID)
}

// New makes the column.
func New(pool *pgxpool.Pool, audit front.Recorder, reviewer Reviewer, hint string) *Column {
	return &Column{store: store{pool}, audit: audit, reviewer: reviewer, hint: hint, events: front.NewBroker(),
		presence: make(chan presence, 1024), changed: make(chan []uuid.UUID, 1024), Disconnect: func(uuid.UUID) {}}
}

// Audience names this service to its devices; it is made with the database.
func (f *Column) Audience(ctx context.Context) (string, error) { return f.store.audience(ctx) }

// place is where a page of the list ended.
type place struct {
	Name string
	ID   uuid.UUID
}

// scanBatch is how many devices are held against an expression at once.
const scanBatch = 1000

// ListDevices lists devices by name: GET /devices.
func (f *Column) ListDevices(c *gin.Context, in api.ListDevicesParams) {
	var after place
	if err := front.After(in.Cursor, &after); err != nil {
		front.Fail(c, err)
		return
	}
	ctx, limit := c.Request.Context(), front.Limit(in.Limit, 200)
	var found []api.Device
	var err error
	if in.Where == nil || *in.Where == "" {
		found, err = f.store.devices(ctx, after, limit+1)
	} else {
		found, err = f.where(ctx, *in.Where, after, limit+1)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	items, next := front.Page(found, limit, func(d api.Device) any { return place{d.Name, d.ID} })
	c.JSON(http.StatusOK, api.DevicePage{Items: items, Next: next})
}

// where finds up to limit devices after a place for which an expression holds. A device for which
// it cannot be decided does not match; when that is every device, the caller is told why.
func (f *Column) where(ctx context.Context, expression string, after place, limit int) ([]api.Device, error) {
	match, err := selector.Compile(expression)
	if err != nil {
		return nil, front.Problem(http.StatusBadRequest, "The expression cannot be read.", err.Error())
	}
	var found []api.Device
	var undecided error
	seen, failed := 0, 0
	for {
		batch, err := f.store.devices(ctx, after, scanBatch)
		if err != nil {
			return nil, err
		}
		for i := range batch {
			seen++
			ok, err := match.Match(subject(&batch[i]))
			if err != nil {
				failed, undecided = failed+1, err
			}
			if ok {
				if found = append(found, batch[i]); len(found) == limit {
					return found, nil
				}
			}
		}
		if len(batch) < scanBatch {
			break
		}
		after = place{batch[len(batch)-1].Name, batch[len(batch)-1].ID}
	}
	if failed > 0 && failed == seen {
		return nil, front.Problem(http.StatusBadRequest, "The expression cannot be decided for any device.", undecided.Error())
	}
	return found, nil
}

func subject(d *api.Device) *selector.Subject {
	number := func(p *float64) float64 {
		if p == nil {
			return 0
		}
		return *p
	}
	return &selector.Subject{ID: d.ID.String(), Name: d.Name, Organisation: d.Organisation, Site: d.Site, OS: d.OS, OSName: d.OSName,
		OSVersion: d.OSVersion, Arch: d.Arch, Model: d.Model, Serial: d.Serial, Condition: string(d.Condition), Online: d.Online,
		Since: d.Since, Addresses: d.Addresses, People: d.People, Capabilities: d.Capabilities, AgentVersion: d.AgentVersion,
		Cores: d.Cores, MemoryGiB: float64(d.MemoryBytes) / (1 << 30), CPU: number(d.CPU), Memory: number(d.Memory), Disk: number(d.Disk)}
}

// FindDevice finds the device that a person named: GET /device-names/{name}.
func (f *Column) FindDevice(c *gin.Context, name string) {
	d, err := f.find(c.Request.Context(), name)
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, d)
}

func (f *Column) find(ctx context.Context, name string) (api.Device, error) {
	var found []api.Device
	id, err := uuid.Parse(name)
	if err == nil {
		found, err = f.store.devicesByID(ctx, []uuid.UUID{id})
	} else {
		found, err = f.store.devicesNamed(ctx, device.CleanName(name))
	}
	switch {
	case err != nil:
		return api.Device{}, err
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		e := front.Problem(http.StatusConflict, "Several devices are named "+device.CleanName(name)+".", "Use the id of the one you mean.")
		for _, d := range found {
			e.Candidates = append(e.Candidates, d.ID.String()+"  "+d.Organisation+", "+d.Site)
		}
		return api.Device{}, e
	}
	names, err := f.store.names(ctx)
	if err != nil {
		return api.Device{}, err
	}
	e := front.Problem(http.StatusNotFound, "No device is named "+device.CleanName(name)+".", "Look at the list of devices.")
	if e.Candidates = device.Nearest(name, names, 5); len(e.Candidates) > 0 {
		e.Detail = "Did you mean one of these?"
	}
	return api.Device{}, e
}

// Device returns one device by its id. A device that is unknown or retired is a front.Error.
func (f *Column) Device(ctx context.Context, id uuid.UUID) (api.Device, error) {
	found, err := f.store.devicesByID(ctx, []uuid.UUID{id})
	if err == nil && len(found) == 0 {
		err = front.NotFound("device")
	}
	if err != nil {
		return api.Device{}, err
	}
	return found[0], nil
}

// Devices returns devices by their ids, those that there are, in no order.
func (f *Column) Devices(ctx context.Context, ids []uuid.UUID) ([]api.Device, error) {
	return f.store.devicesByID(ctx, ids)
}

// GetDevice shows one device whole: GET /devices/{id}.
func (f *Column) GetDevice(c *gin.Context, id api.ID) {
	d, err := f.store.detail(c.Request.Context(), id)
	if db.Missing(err) {
		err = front.NotFound("device")
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, d)
}

// RetireDevice takes a device out of the fleet: DELETE /devices/{id}.
func (f *Column) RetireDevice(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	name, err := f.store.retire(ctx, id)
	if db.Missing(err) {
		err = front.NotFound("device")
	}
	if err == nil {
		f.Disconnect(id)
		deed := front.DeedOf(c, "device.retire", "done")
		deed.Device, deed.DeviceName = id, name
		err = f.audit.Record(ctx, deed)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// ListOrganisations lists organisations with their sites: GET /organisations.
func (f *Column) ListOrganisations(c *gin.Context, in api.ListOrganisationsParams) {
	var after string
	limit := front.Limit(in.Limit, 100)
	if err := front.After(in.Cursor, &after); err != nil {
		front.Fail(c, err)
		return
	}
	found, err := f.store.organisations(c.Request.Context(), after, limit+1)
	if err != nil {
		front.Fail(c, err)
		return
	}
	found, next := front.Page(found, limit, func(o organisation) any { return o.Name })
	items := make([]api.Organisation, len(found))
	for i, o := range found {
		items[i] = api.Organisation(o)
	}
	c.JSON(http.StatusOK, api.OrganisationPage{Items: items, Next: next})
}

// AddSite adds a site: POST /organisations.
func (f *Column) AddSite(c *gin.Context) {
	in, ok := front.Bind[api.NewSite](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	organisation, site := device.CleanName(in.Organisation), device.CleanName(in.Site)
	id, err := f.store.site(ctx, organisation, site)
	if err == nil {
		deed := front.DeedOf(c, "site.add", "done")
		deed.Detail = organisation + ", " + site
		err = f.audit.Record(ctx, deed)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, api.Site{ID: id, Name: site, Organisation: organisation})
}

// StreamEvents streams changes of the list: GET /events.
func (f *Column) StreamEvents(c *gin.Context) { f.events.Serve(c) }

// Changed tells the readers of the list that devices changed. It does not wait.
func (f *Column) Changed(devices []uuid.UUID) {
	if f.events.Readers() == 0 {
		return
	}
	select {
	case f.changed <- devices:
	default: // the next change of these devices brings them up to date
	}
}

// publishEvery is the least time between two events of the list.
const publishEvery = 500 * time.Millisecond
