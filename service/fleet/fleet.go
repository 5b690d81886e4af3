// Package fleet is the column of organisations, sites and devices: the list, enrolment, what each
// device is, and whether it is there. Its rules are in core/device and core/selector.
package fleet

import (
	"context"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/roster"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/part"
)

// Service serves the fleet part of the contract.
type Service struct {
	store    store
	audit    front.Recorder
	bus      *bus.Bus
	hint     string
	events   *front.Broker
	presence chan presence
	changed  chan []uuid.UUID
	guesses  guesses
	roster   *roster.Roster
	removal  RemovalCode
}

// RemovalCode is with which the agent of a protected device can be taken off it.
type RemovalCode func(device uuid.UUID) string

// New makes the column. hint is carried by enrolment tokens: the fingerprint of the service's own authority.
func New(base part.Base, hint string, removal RemovalCode) *Service {
	return &Service{store: store{base.Pool, base.Bus}, audit: base.Audit, bus: base.Bus, hint: hint, removal: removal,
		events: front.NewBroker(), presence: make(chan presence, 1024), changed: make(chan []uuid.UUID, 1024), roster: roster.New()}
}

// Part is what the service hands out.
func (f *Service) Part() part.Part {
	return part.Part{Name: "fleet", Links: map[string]http.HandlerFunc{"POST /facts": f.serveFacts}, Begin: f.begin,
		Run: []func(context.Context){f.run}}
}

// judgeAgain has devices judged anew, soon.
func (f *Service) judgeAgain(ctx context.Context, devices ...uuid.UUID) {
	f.bus.DevicesChanged.Publish(ctx, devices)
}

// Audience names this service to its devices; it is made with the database.
func (f *Service) Audience(ctx context.Context) (string, error) { return f.store.audience(ctx) }

// place is where a page of the list ended.
type place struct {
	Name string
	ID   uuid.UUID
}

// ListDevices lists devices by name: GET /devices.
func (f *Service) ListDevices(c *gin.Context, in api.ListDevicesParams) {
	front.Serve(c, func() error {
		var after place
		if err := front.After(in.Cursor, &after); err != nil {
			return err
		}
		ctx, limit := c.Request.Context(), front.Limit(in.Limit, 200)
		var found []api.Device
		var err error
		caller := front.CallerOf(c)
		if (in.Where == nil || *in.Where == "") && in.Group == nil && caller.Rights.Everywhere(access.FleetRead) {
			found, err = f.store.devices(ctx, after, limit+1)
			f.decorate(found)
		} else {
			found, err = f.chosen(ctx, caller, in.Where, in.Group, after, limit+1)
		}
		if err == nil {
			err = f.markFavourites(ctx, caller, found)
		}
		if err != nil {
			return err
		}
		items, next := front.Page(found, limit, func(d api.Device) any { return place{d.Name, d.ID} })
		c.JSON(http.StatusOK, api.DevicePage{Items: items, Next: next})
		return nil
	})
}

// chosen finds up to limit devices after a place, of a group or for which an expression holds. A
// device for which it cannot be decided does not match; when that is every device, the caller is
// told why.
func (f *Service) chosen(ctx context.Context, caller *front.Caller, where *string, group *uuid.UUID, after place, limit int) ([]api.Device,
	error) {
	found, err := f.entries(where, group)
	if err != nil {
		return nil, err
	}
	found = seen(caller, found)
	found = roster.After(found, after.Name, after.ID)
	return f.rows(ctx, found[:min(limit, len(found))])
}

func subject(d *api.Device) *selector.Subject {
	number := func(p *float64) float64 {
		if p == nil {
			return 0
		}
		return *p
	}
	tags := []string{}
	if d.Tags != nil {
		tags = *d.Tags
	}
	text := func(p *string) string {
		if p == nil {
			return ""
		}
		return *p
	}
	return &selector.Subject{Tags: tags, Alias: text(d.Alias), Note: text(d.Note),
		ID: d.ID.String(), Name: d.Name, Organisation: d.Organisation, Site: d.Site, OS: d.OS,
		OSName:    d.OSName,
		OSVersion: d.OSVersion, Arch: d.Arch, Model: d.Model, Serial: d.Serial, Condition: string(d.Condition), Online: d.Online,
		Since: d.Since, Addresses: d.Addresses, People: d.People, LastPeople: d.LastPeople,
		Capabilities: d.Capabilities, AgentVersion: d.AgentVersion,
		Cores: d.Cores, MemoryGiB: float64(d.MemoryBytes) / (1 << 30), CPU: number(d.CPU), Memory: number(d.Memory), Disk: number(d.Disk)}
}

// FindDevice finds the device that a person named: GET /device-names/{name}.
func (f *Service) FindDevice(c *gin.Context, name string) {
	d, err := f.find(c.Request.Context(), front.CallerOf(c), name)
	front.Answer(c, http.StatusOK, d, err)
}

func (f *Service) find(ctx context.Context, caller *front.Caller, name string) (api.Device, error) {
	var found []api.Device
	id, err := uuid.Parse(name)
	if err == nil {
		found, err = f.store.devicesByID(ctx, []uuid.UUID{id})
	} else {
		found, err = f.store.devicesNamed(ctx, device.CleanName(name))
	}
	found = f.Sees(caller, found)
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
	var names []string
	for _, e := range seen(caller, f.roster.All()) {
		names = append(names, e.Subject.Name)
	}
	e := front.Problem(http.StatusNotFound, "No device is named "+device.CleanName(name)+".", "Look at the list of devices.")
	if e.Candidates = device.Nearest(name, names, 5); len(e.Candidates) > 0 {
		e.Detail = "Did you mean one of these?"
	}
	return api.Device{}, e
}

// Device returns one device by its id. A device that is unknown or retired is a front.Error.
func (f *Service) Device(ctx context.Context, id uuid.UUID) (api.Device, error) {
	found, err := f.store.devicesByID(ctx, []uuid.UUID{id})
	if err != nil {
		return api.Device{}, err
	}
	if len(found) == 0 {
		return api.Device{}, front.NotFound("device")
	}
	return found[0], nil
}

// Devices returns devices by their ids, those that there are, in no order.
func (f *Service) Devices(ctx context.Context, ids []uuid.UUID) ([]api.Device, error) {
	return f.store.devicesByID(ctx, ids)
}

// ByAddress finds the devices at network addresses that the caller may know of. An address that several have is that of one
// that is online, where there is one.
func (f *Service) ByAddress(ctx context.Context, caller *front.Caller, addresses []string) (map[string]api.Device, error) {
	rows, err := f.store.devicesAt(ctx, addresses)
	found := map[string]api.Device{}
	for _, d := range f.Sees(caller, rows) {
		for _, a := range d.Addresses {
			if have, ok := found[a]; !ok || (d.Online && !have.Online) {
				found[a] = d
			}
		}
	}
	return found, err
}

// GetDevice shows one device whole: GET /devices/{id}.
func (f *Service) GetDevice(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	d, err := f.store.detail(ctx, id)
	if db.Missing(err) {
		err = front.NotFound("device")
	}
	if err == nil {
		one := []api.Device{d.Device}
		f.decorate(one)
		err = f.markFavourites(ctx, front.CallerOf(c), one)
		d.Device = one[0]
		switch q, asked := f.store.question(ctx, id); {
		case asked == nil:
			d.Question = &q
		case !db.Missing(asked):
			err = asked
		}
		d.Permissions = access.List(func(p access.Permission) bool { return front.May(c, p) })
	}
	front.Answer(c, http.StatusOK, d, err)
}

// RetireDevice takes a device out of the fleet: DELETE /devices/{id}.
func (f *Service) RetireDevice(c *gin.Context, id api.ID) {
	change := front.Change{Action: "device.retire", What: "device", Device: id}
	front.Do(c, f.audit, change, func(ctx context.Context, x *front.Change) (err error) {
		if x.DeviceName, err = f.store.retire(ctx, id); err == nil {
			f.bus.IdentityRevoked.Publish(ctx, id)
			f.Changed([]uuid.UUID{id})
		}
		return err
	})
}

// siteFor finds a site where the caller holds a permission.
func (f *Service) siteFor(c *gin.Context, p access.Permission, organisation, name string) (uuid.UUID, error) {
	ctx := c.Request.Context()
	site, err := f.store.knownSite(ctx, organisation, name)
	unknown := front.Problem(http.StatusUnprocessableEntity, "There is no site "+name+" of "+organisation+".",
		"Choose one that is there, or have an owner add it.")
	if db.Missing(err) {
		return site, unknown
	}
	if err != nil {
		return site, err
	}
	at := health.Scope{Kind: health.Site, ID: site.String()}
	if f.MayAt(ctx, front.CallerOf(c), access.FleetRead, at) != nil { // a guess is not told that it is right
		return site, unknown
	}
	return site, f.MayAt(ctx, front.CallerOf(c), p, at)
}

// MoveDevice moves a device to another site: PUT /devices/{id}/site.
func (f *Service) MoveDevice(c *gin.Context, id api.ID) {
	change := front.Change{Action: "device.move", What: "device", Device: id}
	front.Set(c, f.audit, change, func(ctx context.Context, in api.NewSite, x *front.Change) error {
		site, err := f.siteFor(c, access.FleetManage, in.Organisation, in.Site)
		if err != nil {
			return err
		}
		if x.DeviceName, err = f.store.move(ctx, id, site); err != nil {
			return err
		}
		x.Detail = "to " + in.Site + " of " + in.Organisation
		if _, err = f.enlist(ctx, []uuid.UUID{id}); err != nil { // before anybody asks where it stands
			return err
		}
		f.Changed([]uuid.UUID{id})
		f.judgeAgain(ctx, id)
		f.bus.DeviceMoved.Publish(ctx, id)
		return nil
	})
}

// GetRemovalCode tells with which code an agent is taken off its device: GET /devices/{id}/removal-code.
func (f *Service) GetRemovalCode(c *gin.Context, id api.ID) {
	front.Serve(c, func() error {
		m, ok := f.Known(id)
		if !ok {
			return front.NotFound("device")
		}
		entry := front.EntryOf(c, "device.removal-code", "told")
		entry.Device, entry.DeviceName = id, m.Subject.Name
		if err := f.audit.Record(c.Request.Context(), entry); err != nil {
			return err
		}
		c.JSON(http.StatusOK, api.RemovalCode{Code: f.removal(id)})
		return nil
	})
}

// ListOrganisations lists organisations with their sites: GET /organisations.
func (f *Service) ListOrganisations(c *gin.Context, in api.ListOrganisationsParams) {
	view, err := f.View(c.Request.Context(), front.CallerOf(c), access.FleetRead)
	if err != nil {
		front.Fail(c, err)
		return
	}
	front.List(c, in.Cursor, in.Limit, "", func(ctx context.Context, after string, limit int) ([]organisation, error) {
		return f.store.organisations(ctx, view, after, limit)
	}, func(o organisation) string { return o.Name }, func(found []organisation, next *string) any {
		items := make([]api.Organisation, len(found))
		for i, o := range found {
			items[i] = api.Organisation(o)
		}
		return api.OrganisationPage{Items: items, Next: next}
	})
}

// AddSite adds a site: POST /organisations.
func (f *Service) AddSite(c *gin.Context) {
	in, ok := front.Bind[api.NewSite](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	organisation, site := device.CleanName(in.Organisation), device.CleanName(in.Site)
	id, err := f.store.site(ctx, organisation, site)
	if err == nil {
		entry := front.EntryOf(c, "site.add", "done")
		entry.Detail = organisation + ", " + site
		err = f.audit.Record(ctx, entry)
	}
	front.Answer(c, http.StatusCreated, api.Site{ID: id, Name: site, Organisation: organisation}, err)
}

// RenameOrganisation gives an organisation another name: PUT /organisations/{id}.
func (f *Service) RenameOrganisation(c *gin.Context, id api.ID) {
	f.rename(c, "organisation", id, f.store.renameOrganisation)
}

// RenameSite gives a site another name: PUT /sites/{id}.
func (f *Service) RenameSite(c *gin.Context, id api.ID) { f.rename(c, "site", id, f.store.renameSite) }

func (f *Service) rename(c *gin.Context, what string, id uuid.UUID,
	to func(context.Context, uuid.UUID, string) (string, []uuid.UUID, error)) {
	change := front.Change{Action: what + ".rename", What: what,
		Taken: front.Problem(http.StatusConflict, "Another "+what+" has this name.", "Choose another name.")}
	front.Set(c, f.audit, change, func(ctx context.Context, in api.NewName, x *front.Change) error {
		name := device.CleanName(in.Name)
		if name == "" {
			return front.Problem(http.StatusBadRequest, "The name is empty.", "Write a name.")
		}
		before, devices, err := to(ctx, id, name)
		if err != nil {
			return err
		}
		x.Detail = before + " is now " + name
		if len(devices) > 0 {
			if _, err := f.enlist(ctx, devices); err != nil { // before anybody asks for the new name
				return err
			}
		}
		f.Changed(devices)
		return nil
	})
}

// SetDeviceNote sets what people call a device and note about it: PUT /devices/{id}/note.
func (f *Service) SetDeviceNote(c *gin.Context, id api.ID) {
	change := front.Change{Action: "device.note", What: "device", Device: id}
	front.Set(c, f.audit, change, func(ctx context.Context, in api.DeviceNote, x *front.Change) (err error) {
		alias, note := device.CleanName(in.Alias), strings.TrimSpace(device.CleanText(in.Note))
		if x.DeviceName, err = f.store.setNote(ctx, id, alias, note); err != nil {
			return err
		}
		x.Detail = alias
		f.Changed([]uuid.UUID{id})
		return nil
	})
}

// StreamEvents streams changes of the list: GET /events.
func (f *Service) StreamEvents(c *gin.Context) { f.events.Serve(c, f.visible(front.CallerOf(c))) }

// Changed tells the roster, and the readers of the list, that devices changed. It does not wait.
func (f *Service) Changed(devices []uuid.UUID) {
	select {
	case f.changed <- devices:
	default: // the next change of these devices brings them up to date, or the next whole reading
	}
}

// Publish sends an event to all who listen to the console's stream.
func (f *Service) Publish(name string, data any) {
	if err := f.events.Publish(name, data); err != nil {
		slog.Error("an event cannot be written as JSON", "event", name, "error", err)
	}
}

// publishEvery is the least time between two events of the list, and enlistEvery that between two
// whole readings of the roster, which find what other nodes of the service changed.
const (
	publishEvery = 250 * time.Millisecond
	enlistEvery  = time.Minute
)
