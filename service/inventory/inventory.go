// Package inventory is the column of what devices consist of: it takes inventories as differences,
// keeps the last known, turns differences into changes, counts software over the fleet, and ranks
// the changes before an alert as its suspects. Its rules are in core/inventory and core/suspect.
package inventory

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/suspect"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/service/part"
)

// Fleet is what this column asks and tells of devices.
type Fleet interface {
	front.Visibility
	Device(ctx context.Context, id uuid.UUID) (api.Device, error)
	Devices(ctx context.Context, ids []uuid.UUID) ([]api.Device, error)
	Changed(devices []uuid.UUID)
	// Exceeded reports that a device had more than it may of what.
	Exceeded(device uuid.UUID, what string)
	// Forget is told of software that no device has any more.
	Forget(software []int32)
}

// Service serves the inventory part of the contract.
type Service struct {
	store   store
	fleet   Fleet
	bus     *bus.Bus
	audit   front.Recorder
	hub     *hub.Hub
	resting resting
}

// New makes the column. It calls devices over the hub.
func New(base part.Base, fleet Fleet, h *hub.Hub) *Service {
	return &Service{store: store{base.Pool}, audit: base.Audit, bus: base.Bus, fleet: fleet, hub: h,
		resting: resting{until: map[uuid.UUID]time.Time{}}}
}

// Part is what the service hands out.
func (v *Service) Part() part.Part {
	return part.Part{Name: "inventory", Links: map[string]http.HandlerFunc{"POST /inventory": v.serveInventory}, Expire: v.Expire}
}

// serveInventory takes the differences of a device's inventory over its link: POST /inventory. It
// answers 409 when it does not know what they start from; then the device sends the whole.
func (v *Service) serveInventory(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 30*time.Second)
	defer cancel()
	id, now := hub.Device(r), time.Now()
	if v.resting.has(id, now) {
		http.Error(w, errDay.Error(), http.StatusTooManyRequests)
		return
	}
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, link.MaxInventory))
	if err != nil {
		hub.Refuse(w, err)
		return
	}
	// Reading it costs as much as storing it: one that waits for its turn is not read before.
	items, malformed := min(len(text)/usualItem, inventory.MaxItems), false
	if err := hub.ChargeItems(r, items); err != nil {
		hub.Refuse(w, err)
		return
	}
	err = hub.Work(r, items, func() error {
		var d inventory.Delta
		if err := json.Unmarshal(text, &d); err != nil {
			malformed = true
			return err
		}
		return v.Accept(ctx, id, d, now)
	})
	if malformed || hub.TooMuch(err) {
		hub.Refuse(w, err)
		return
	}
	switch {
	case errors.Is(err, errBase):
		http.Error(w, err.Error(), http.StatusConflict)
	case errors.Is(err, errDay):
		v.resting.add(id, now.Add(restsFor))
		v.fleet.Exceeded(id, "changes of its inventory")
		http.Error(w, err.Error(), http.StatusTooManyRequests)
	case db.Missing(err):
		http.Error(w, "the device is not known any more", http.StatusGone)
	case err != nil:
		slog.Warn("an inventory cannot be stored", "device", id, "error", err)
		http.Error(w, "the inventory cannot be stored now; keep it and send it later", http.StatusServiceUnavailable)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

// usualItem is how many bytes an item of an inventory takes at least, as agents write it.
const usualItem = 120

// errBase means that the differences do not start from what is stored.
var errBase = errors.New("the differences do not start from what is stored: send the whole")

// errDay means that a device's inventory changes more than one of a device does.
var errDay = fmt.Errorf("over %d changes of this device's inventory came within a day; keep it and send it later", mostChangesADay)

// restsFor is how long no inventory is taken of a device that changed too much within a day.
const restsFor = time.Hour

// resting are devices of which no inventory is taken until a time.
type resting struct {
	mu    sync.Mutex
	until map[uuid.UUID]time.Time
}

func (r *resting) add(id uuid.UUID, until time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, there := r.until[id]; !there {
		r.until[id] = until
	}
}

func (r *resting) has(id uuid.UUID, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	until, there := r.until[id]
	if there && now.After(until) {
		delete(r.until, id)
		return false
	}
	return there
}

// Accept stores what a device's inventory became at a time.
func (v *Service) Accept(ctx context.Context, id uuid.UUID, d inventory.Delta, at time.Time) error {
	changed, err := v.store.accept(ctx, id, at, func(before inventory.Snapshot) (inventory.Snapshot, []inventory.Change, error) {
		after, err := before.Apply(d)
		if err != nil {
			return nil, nil, errors.Join(errBase, err)
		}
		if len(before) == 0 {
			return after, nil, nil // the first: nothing has changed yet
		}
		return after, inventory.Changes(before, after), nil
	})
	if err == nil && changed {
		v.fleet.Changed([]uuid.UUID{id})
		v.bus.DevicesChanged.Publish(ctx, []uuid.UUID{id})
		v.bus.InventoryChanged.Publish(ctx, id)
	}
	return err
}

// keepChanges is how long changes are kept.
const keepChanges = 400 * 24 * time.Hour

// Expire removes changes that are past their time, and software that no device has any more.
func (v *Service) Expire(ctx context.Context) error {
	gone, err := v.store.expire(ctx, time.Now().Add(-keepChanges))
	v.fleet.Forget(gone)
	return err
}

// Section returns the items of one section of a device's inventory.
func (v *Service) Section(ctx context.Context, id uuid.UUID, section string) ([]inventory.Item, error) {
	items, _, err := v.store.inventory(ctx, id)
	return slices.DeleteFunc(items, func(i inventory.Item) bool { return i.Section != section }), err
}

// GetInventory shows what a device consists of: GET /devices/{id}/inventory.
func (v *Service) GetInventory(c *gin.Context, id api.ID, in api.GetInventoryParams) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		d, err := v.fleet.Device(ctx, id)
		if err != nil {
			return err
		}
		out, err := v.read(ctx, id)
		if err != nil {
			return err
		}
		switch {
		case in.Format != nil && *in.Format == "csv":
			writeItems(c, d, out.Items)
		case in.Format != nil && *in.Format == "cyclonedx":
			writeBill(c, d, out)
		default:
			c.JSON(http.StatusOK, out)
		}
		return nil
	})
}

func (v *Service) read(ctx context.Context, id uuid.UUID) (out api.Inventory, err error) {
	items, at, err := v.store.inventory(ctx, id)
	if db.Missing(err) {
		err = nil
	}
	return api.Inventory{Items: inventory.Of(items).Items(), TakenAt: at, Sections: inventory.Sections}, err
}

// takeWithin is how long a device may take for its inventory.
const takeWithin = 2 * time.Minute

// TakeInventory has a device take its inventory now: POST /devices/{id}/inventory.
func (v *Service) TakeInventory(c *gin.Context, id api.ID) {
	front.Serve(c, func() error {
		ctx, cancel := context.WithTimeout(c.Request.Context(), takeWithin)
		defer cancel()
		d, err := v.fleet.Device(ctx, id)
		if err != nil {
			return err
		}
		entry := front.EntryOf(c, "inventory.take", "started")
		entry.Device, entry.DeviceName = id, d.Name
		if err := v.audit.Record(ctx, entry); err != nil {
			return err
		}
		answer, err := v.hub.Call(ctx, http.MethodPost, id, "/inventory", nil, nil)
		if err != nil {
			return front.Unreachable(d.Name, err)
		}
		defer answer.Body.Close()
		if answer.StatusCode >= 300 {
			return front.FromDevice(d.Name, answer)
		}
		out, err := v.read(ctx, id)
		front.Answer(c, http.StatusOK, out, err)
		return nil
	})
}

// ListChanges lists changes, the latest first: GET /changes.
func (v *Service) ListChanges(c *gin.Context, in api.ListChangesParams) {
	view, err := v.fleet.View(c.Request.Context(), front.CallerOf(c), access.FleetRead)
	if err != nil {
		front.Fail(c, err)
		return
	}
	latest := place{At: time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)}
	front.List(c, in.Cursor, in.Limit, latest, func(ctx context.Context, before place, limit int) ([]api.Change, error) {
		return v.store.changes(ctx, view, in, before, limit)
	}, func(x api.Change) place { return place{x.At, x.ID} },
		func(items []api.Change, next *string) any { return api.ChangePage{Items: items, Next: next} })
}

// place is where a page of changes ended.
type place struct {
	At time.Time
	ID int64
}

// ListSoftware lists the fleet's software by name: GET /software.
func (v *Service) ListSoftware(c *gin.Context, in api.ListSoftwareParams) {
	front.Serve(c, func() error {
		var after name
		limit := front.Limit(in.Limit, 100)
		search := ""
		if in.Search != nil {
			search = *in.Search
		}
		view, err := v.fleet.View(c.Request.Context(), front.CallerOf(c), access.FleetRead)
		if err != nil {
			return err
		}
		if err := front.After(in.Cursor, &after); err != nil {
			return err
		}
		if in.Format != nil && *in.Format == "csv" {
			v.writeSoftware(c, view, search)
			return nil
		}
		found, err := v.store.software(c.Request.Context(), view, search, after, limit+1)
		if err != nil {
			return err
		}
		items, next := front.Page(found, limit, func(s api.Software) any { return name{s.Name, s.Source} })
		c.JSON(http.StatusOK, api.SoftwarePage{Items: items, Next: next})
		return nil
	})
}

// name is where a page of software ended.
type name struct{ Name, Source string }

// writeSoftware writes all software as CSV, page after page.
func (v *Service) writeSoftware(c *gin.Context, view []uuid.UUID, search string) {
	const page = 500
	var after name
	w := csv.NewWriter(c.Writer)
	for first := true; ; first = false {
		found, err := v.store.software(c.Request.Context(), view, search, after, page)
		if err != nil {
			if first {
				front.Fail(c, err)
			} else {
				c.Abort() // the reader sees the file end early
				slog.Warn("a list of software could not be written whole", "error", err)
			}
			return
		}
		if first {
			front.Download(c, "software.csv", "text/csv; charset=utf-8")
			w.Write([]string{"name", "source", "version", "devices", "purl"})
		}
		for _, s := range found {
			for _, version := range s.Versions {
				w.Write([]string{front.Cell(s.Name), front.Cell(s.Source), front.Cell(version.Version), strconv.Itoa(version.Devices),
					front.Cell(version.Purl)})
			}
		}
		if w.Flush(); len(found) < page || w.Error() != nil {
			return
		}
		last := found[len(found)-1]
		after = name{last.Name, last.Source}
	}
}

// ListInstalled lists the devices that have a piece of software: GET /software/devices.
func (v *Service) ListInstalled(c *gin.Context, in api.ListInstalledParams) {
	front.List(c, in.Cursor, in.Limit, "", func(ctx context.Context, after string, limit int) ([]api.Device, error) {
		view, err := v.fleet.View(ctx, front.CallerOf(c), access.FleetRead)
		if err != nil {
			return nil, err
		}
		ids, err := v.store.having(ctx, view, in.Name, in.Version, after, limit)
		if err != nil {
			return nil, err
		}
		rows, err := v.fleet.Devices(ctx, ids)
		slices.SortFunc(rows, func(a, b api.Device) int { return slices.Index(ids, a.ID) - slices.Index(ids, b.ID) })
		return rows, err
	}, func(d api.Device) string { return d.Name + "\x00" + d.ID.String() },
		func(items []api.Device, next *string) any { return api.DevicePage{Items: items, Next: next} })
}

// suspectsFor is how long before an alert a change may lie to be its suspect.
const suspectsFor = 14 * 24 * time.Hour

// ListSuspects ranks the changes before an alert: GET /alerts/{id}/suspects.
func (v *Service) ListSuspects(c *gin.Context, id api.ID) {
	front.Read(c, func(ctx context.Context) (out api.SuspectList, err error) {
		about, err := v.store.about(ctx, id)
		switch {
		case db.Missing(err) || err == nil && v.fleet.MayAt(ctx, front.CallerOf(c), access.FleetRead, about) != nil:
			return out, front.NotFound("alert")
		case err != nil:
			return out, err
		}
		if out, err = v.suspects(ctx, id); db.Missing(err) {
			err = front.NotFound("alert")
		}
		return out, err
	})
}

// First is the first suspect of an alert; nil for none.
func (v *Service) First(ctx context.Context, alert uuid.UUID) (*api.Suspect, error) {
	out, err := v.suspects(ctx, alert)
	if db.Missing(err) {
		return nil, nil
	}
	if err != nil || len(out.Items) == 0 {
		return nil, err
	}
	return &out.Items[0], nil
}

func (v *Service) suspects(ctx context.Context, alert uuid.UUID) (api.SuspectList, error) {
	found, err := v.store.candidates(ctx, alert, suspectsFor)
	out := api.SuspectList{Items: []api.Suspect{}, Checked: len(found.changes), Devices: found.devices}
	if err != nil {
		return out, err
	}
	var all []suspect.Candidate
	for signature, x := range found.changes {
		all = append(all, suspect.Candidate{ID: signature, Counts: x.counts})
	}
	for _, s := range suspect.Rank(all) {
		x := found.changes[s.ID]
		out.Items = append(out.Items, api.Suspect{Signature: s.ID, Summary: x.summary, Section: x.section, At: x.at, Odds: s.Odds,
			Low: s.Low, High: s.High,
			ChangedWith: s.Counts.ChangedWith, ChangedWithout: s.Counts.ChangedWithout, OthersWith: s.Counts.OthersWith,
			OthersWithout: s.Counts.OthersWithout})
	}
	switch {
	case len(out.Items) > 0:
	case found.site:
		out.WhyNone = "A site's silence is not put down to a change of a device."
	case len(found.changes) == 0:
		out.WhyNone = "Nothing changed on this device in the two weeks before."
	case found.with < 3:
		out.WhyNone = "Too few devices have this alert to tell a cause from chance: " + strconv.Itoa(found.with) + " of " +
			strconv.Itoa(found.devices) + "."
	default:
		out.WhyNone = "Devices with one of the changes have this alert no more often than others, beyond chance."
	}
	return out, nil
}

// writeItems writes an inventory as CSV (RFC 4180).
func writeItems(c *gin.Context, d api.Device, items []inventory.Item) {
	front.Download(c, d.Name+"-inventory.csv", "text/csv; charset=utf-8")
	w := csv.NewWriter(c.Writer)
	w.Write([]string{"device", "section", "name", "field", "value"})
	for _, i := range items {
		if len(i.Fields) == 0 {
			w.Write([]string{front.Cell(d.Name), i.Section, front.Cell(i.Name), "", ""})
		}
		for _, field := range slices.Sorted(maps.Keys(i.Fields)) {
			w.Write([]string{front.Cell(d.Name), i.Section, front.Cell(i.Name), front.Cell(field), front.Cell(i.Fields[field])})
		}
	}
	w.Flush()
}
