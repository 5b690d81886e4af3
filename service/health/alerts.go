package health

import (
	"cmp"
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// attentionAlerts is how many alerts are gathered into the rows of the first page.
const attentionAlerts = 5000

// ListAttention lists what needs a person: GET /attention. Alerts that are likely to be one matter
// are one row.
func (h *Service) ListAttention(c *gin.Context, in api.ListAttentionParams) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		offset := 0
		limit := front.Limit(in.Limit, 100)
		if err := front.After(in.Cursor, &offset); err != nil {
			return err
		}
		view, err := h.fleet.View(ctx, front.CallerOf(c), access.FleetRead)
		if err != nil {
			return err
		}
		o, err := h.store.overview(ctx, view, attentionAlerts)
		if err != nil {
			return err
		}
		groups := health.Gather(o.alerts, matter)
		page := api.AttentionPage{Items: []api.Attention{}, Total: len(groups), Quiet: o.quiet, Devices: &o.tally}
		offset = min(max(offset, 0), len(groups))
		shown := groups[offset:min(offset+limit, len(groups))]
		var ids []uuid.UUID
		for _, g := range shown {
			if g[0].DeviceID != nil {
				ids = append(ids, *g[0].DeviceID)
			}
		}
		rows, err := h.fleet.Devices(ctx, ids)
		if err != nil {
			return err
		}
		devices := map[uuid.UUID]*api.Device{}
		for i := range rows {
			devices[rows[i].ID] = &rows[i]
		}
		for _, g := range shown {
			one := api.Attention{Alert: g[0], NextStep: nextStep(g[0])}
			if g[0].DeviceID != nil {
				one.Device = devices[*g[0].DeviceID]
			}
			if len(g) > 1 {
				alike := []api.Alike{}
				for _, a := range g[1:] {
					alike = append(alike, api.Alike{Alert: a.ID, DeviceID: *a.DeviceID, Device: *a.Device, Site: a.Site})
				}
				one.Alike = &alike
			}
			page.Items = append(page.Items, one)
		}
		if offset+limit < len(groups) {
			page.Next = front.Cursor(offset + limit)
		}
		c.JSON(http.StatusOK, page)
		return nil
	})
}

// matter tells which alerts are likely to be one matter: of one check with one suspect; of one check
// on one device; or of one check, level and organisation.
func matter(a api.Alert) (kin []health.Kin) {
	if a.DeviceID == nil || a.Device == nil {
		return nil
	}
	if a.Suspect != nil {
		return append(kin, health.Kin{Key: "suspect\n" + a.Check + "\n" + a.Suspect.Signature, Least: 2})
	}
	return append(kin, health.Kin{Key: "device\n" + a.Check + "\n" + a.DeviceID.String(), Least: 2},
		health.Kin{Key: "organisation\n" + a.Check + "\n" + string(a.Level) + "\n" + a.Organisation, Least: 3})
}

func nextStep(a api.Alert) string {
	if a.DeviceID == nil {
		return "Ask at the site about its router and line"
	}
	return health.NextStep(a.Check)
}

// ListAlerts lists alerts, the latest first: GET /alerts.
func (h *Service) ListAlerts(c *gin.Context, in api.ListAlertsParams) {
	view, err := h.fleet.View(c.Request.Context(), front.CallerOf(c), access.FleetRead)
	if err != nil {
		front.Fail(c, err)
		return
	}
	filter := alertFilter{in.State, in.Check, in.Device, in.From, view}
	front.List(c, in.Cursor, in.Limit, latestMoment, func(ctx context.Context, before moment, limit int) ([]api.Alert, error) {
		return h.store.alerts(ctx, filter, before, limit)
	}, func(a api.Alert) moment { return moment{a.OpenedAt, a.ID} },
		func(items []api.Alert, next *string) any { return api.AlertPage{Items: items, Next: next} })
}

// GetAlert shows one alert whole: GET /alerts/{id}.
func (h *Service) GetAlert(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	out := api.AlertDetail{}
	var err error
	if out.Alert, err = h.find(c, id, access.FleetRead); err == nil {
		out.NextStep = nextStep(out.Alert)
		if out.Events, err = h.store.events(ctx, id); err == nil {
			out.Parts, err = h.store.parts(ctx, id)
		}
	}
	if err != nil {
		front.Fail(c, missing(err, "alert"))
		return
	}
	c.JSON(http.StatusOK, out)
}

// find reads an alert at whose device or site the caller holds a permission. To someone who may not
// see that, there is none.
func (h *Service) find(c *gin.Context, id uuid.UUID, p access.Permission) (a api.Alert, err error) {
	ctx := c.Request.Context()
	a, err = h.store.alert(ctx, id)
	if err != nil {
		return a, err
	}
	scope := health.Scope{Kind: health.Site, ID: a.SiteID.String()}
	if a.DeviceID != nil {
		scope = health.Scope{Kind: health.Device, ID: a.DeviceID.String()}
	}
	if h.fleet.MayAt(ctx, front.CallerOf(c), access.FleetRead, scope) != nil {
		return a, front.NotFound("alert")
	}
	return a, h.fleet.MayAt(ctx, front.CallerOf(c), p, scope)
}

// longestSnooze is the longest that an alert is put off.
const longestSnooze = 30 * 24 * time.Hour

// HandleAlert does something to an alert: POST /alerts/{id}/events.
func (h *Service) HandleAlert(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.AlertAction](c)
	if !ok {
		return
	}
	a, err := h.handle(c, id, in)
	if err != nil {
		front.Fail(c, missing(err, "alert"))
		return
	}
	h.fleet.Publish("alerts", []uuid.UUID{id})
	c.JSON(http.StatusOK, a)
}

func (h *Service) handle(c *gin.Context, id uuid.UUID, in api.AlertAction) (a api.Alert, err error) {
	ctx, now := c.Request.Context(), time.Now()
	if _, err = h.find(c, id, access.AlertHandle); err != nil {
		return a, err
	}
	d, err := h.action(ctx, in, now)
	if err != nil {
		return a, err
	}
	handled := h.store.handle(ctx, id, d, front.CallerOf(c).Email, now)
	if handled != nil && !db.Missing(handled) {
		return a, handled
	}
	if a, err = h.store.alert(ctx, id); err != nil {
		return a, err
	}
	if handled != nil {
		return a, front.Problem(http.StatusConflict, "The alert is over.", "It was resolved; only notes and an assignee can be added.")
	}
	entry := front.EntryOf(c, "alert."+in.Action, "done")
	entry.Detail = strings.TrimSpace(a.Message + " " + d.detail)
	if a.DeviceID != nil {
		entry.Device, entry.DeviceName = *a.DeviceID, *a.Device
	}
	return a, h.audit.Record(ctx, entry)
}

// action reads what a person wants done to an alert.
func (h *Service) action(ctx context.Context, in api.AlertAction, now time.Time) (d action, err error) {
	text := ""
	if in.Text != nil {
		text = strings.TrimSpace(device.CleanLong(*in.Text, 4000))
	}
	d.detail = text
	state := func(s health.AlertState) *health.AlertState { return &s }
	switch in.Action {
	case "acknowledge":
		d.kind, d.state = health.Ack, state(health.Acknowledged)
	case "resolve":
		d.kind, d.state = health.Ended, state(health.Over)
	case "reopen":
		d.kind, d.state = health.Woke, state(health.Open)
	case "snooze":
		if in.Until == nil || !in.Until.After(now) || in.Until.Sub(now) > longestSnooze {
			return d, bad("Until when?", "Give a time within the next 30 days as until.")
		}
		d.kind, d.state, d.until = health.Snooze, state(health.Snoozed), in.Until
		d.detail = strings.TrimSpace("until " + in.Until.UTC().Format("2 January 15:04 MST") + ". " + text)
	case "assign":
		d.kind, d.assign = health.Assigned, true
		name := ""
		if in.Assignee != nil {
			name = strings.TrimSpace(*in.Assignee)
		}
		d.detail = strings.TrimSpace("to " + cmp.Or(device.CleanText(name), "nobody") + ". " + text)
		if name != "" {
			person, err := h.store.person(ctx, name)
			if db.Missing(err) {
				return d, bad("There is no such person.", "Give the e-mail of someone who may sign in.")
			}
			if err != nil {
				return d, err
			}
			d.assignee = &person
		}
	default:
		if d.kind = health.Noted; text == "" {
			return d, bad("The note is empty.", "Write what others should know.")
		}
	}
	return d, nil
}

// Suspects works out what changes most likely stand behind an alert; nil for none.
type Suspects interface {
	First(ctx context.Context, alert uuid.UUID) (*api.Suspect, error)
}

// findSuspects works out the first suspect of every current alert anew. It is run every minute.
func (h *Service) findSuspects(ctx context.Context) error {
	ids, err := h.store.current(ctx)
	if err != nil {
		return err
	}
	var changed []uuid.UUID
	for _, id := range ids {
		first, err := h.suspect.First(ctx, id)
		if err != nil {
			return err
		}
		differs, err := h.store.setSuspect(ctx, id, first)
		if err != nil {
			return err
		}
		if differs {
			changed = append(changed, id)
		}
	}
	if len(changed) > 0 {
		h.fleet.Publish("alerts", changed)
	}
	return nil
}
