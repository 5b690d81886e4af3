package patch

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
	"moorwatch.example/service/front"
)

// ListUpdates lists what is missing: GET /updates.
func (c *Service) ListUpdates(g *gin.Context, in api.ListUpdatesParams) {
	var all []api.MissingUpdate
	front.List(g, in.Cursor, in.Limit, 0, func(ctx context.Context, after, limit int) ([]api.MissingUpdate, error) {
		view, err := c.fleet.View(ctx, front.CallerOf(g), see)
		if err != nil {
			return nil, err
		}
		all, err = c.summed(ctx, view, nil, func(u *update.Update) bool {
			return (in.Class == nil || string(u.Class) == *in.Class) &&
				(in.Search == nil || strings.Contains(strings.ToLower(u.Name+" "+u.Title), strings.ToLower(*in.Search)))
		})
		after = min(after, len(all))
		return all[after:min(after+limit, len(all))], err
	}, func(x api.MissingUpdate) int {
		return 1 + slices.IndexFunc(all, func(y api.MissingUpdate) bool { return y.Update.Ref() == x.Update.Ref() })
	},
		func(items []api.MissingUpdate, next *string) any {
			return api.MissingUpdatePage{Items: items, Next: next}
		})
}

// summed counts at how many devices of a view each update is missing, the most pressing first.
func (c *Service) summed(ctx context.Context, view, only []uuid.UUID, want func(*update.Update) bool) ([]api.MissingUpdate, error) {
	s, err := c.readDecisions(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	out := map[int32]*api.MissingUpdate{}
	err = c.store.briefly(ctx, view, only, func(b brief) {
		m, ok := c.fleet.Known(b.device)
		if !ok {
			return
		}
		state := s.at(m.Place)
		s.each(b, func(id int32, u *known, blocked bool) {
			x, seen := out[id]
			if !seen {
				if want(&u.Update) {
					x = &api.MissingUpdate{Update: u.Update, FirstSeen: u.firstSeen, States: map[string]int{}}
				}
				out[id] = x
			}
			if x == nil {
				return
			}
			x.Devices++
			if blocked {
				x.Blocked++
			}
			x.States[state(id)]++
		})
	})
	list := make([]api.MissingUpdate, 0, len(out))
	for _, x := range out {
		if x != nil {
			list = append(list, *x)
		}
	}
	slices.SortFunc(list, func(a, b api.MissingUpdate) int {
		return cmp.Or(slices.Index(update.Classes, a.Update.Class)-slices.Index(update.Classes, b.Update.Class),
			b.Update.Severity.Rank()-a.Update.Severity.Rank(), b.Devices-a.Devices, cmp.Compare(a.Update.Name, b.Update.Name),
			cmp.Compare(a.Update.To, b.Update.To), cmp.Compare(a.Update.Source, b.Update.Source))
	})
	return list, err
}

// place is where in the list of exposure a device stands.
type place struct {
	Score float64   `json:"score"`
	Name  string    `json:"name"`
	ID    uuid.UUID `json:"id"`
}

func (p place) before(o place) bool {
	return cmp.Or(cmp.Compare(o.Score, p.Score), cmp.Compare(p.Name, o.Name), cmp.Compare(p.ID.String(), o.ID.String())) < 0
}

// ListExposure lists how far behind devices are: GET /exposure.
func (c *Service) ListExposure(g *gin.Context, in api.ListExposureParams) {
	var totals api.ExposureTotals
	front.List(g, in.Cursor, in.Limit, place{Score: 101}, func(ctx context.Context, after place, limit int) ([]api.DeviceExposure, error) {
		view, err := c.fleet.View(ctx, front.CallerOf(g), see)
		if err != nil {
			return nil, err
		}
		all, err := c.exposed(ctx, view, in.Missing)
		if err != nil {
			return nil, err
		}
		from := len(all)
		for i, x := range all {
			totals.Devices++
			totals.Security += x.Exposure.Security
			if x.Exposure.Security == 0 {
				totals.Current++
			}
			if x.Exposure.Worst.Rank() >= update.Severity("high").Rank() {
				totals.Exposed++
			}
			if x.Exploited > 0 {
				totals.Exploited++
			}
			if from == len(all) && after.before(placeOf(x)) {
				from = i
			}
		}
		return all[from:min(from+limit, len(all))], nil
	}, placeOf, func(items []api.DeviceExposure, next *string) any {
		return api.ExposurePage{Items: items, Next: next, Totals: totals}
	})
}

func placeOf(x api.DeviceExposure) place { return place{x.Exposure.Score, x.Device, x.DeviceID} }

// exposed tells how far behind the devices of a view are, the most exposed first; of those that miss an
// update of a name, where one is given.
func (c *Service) exposed(ctx context.Context, view []uuid.UUID, missing *string) ([]api.DeviceExposure, error) {
	s, err := c.readDecisions(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	weakest, err := c.store.weakest(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.DeviceExposure{}
	err = c.store.briefly(ctx, view, nil, func(b brief) {
		m, ok := c.fleet.Known(b.device)
		if !ok {
			return
		}
		x := api.DeviceExposure{DeviceID: b.device, Device: m.Subject.Name, Organisation: m.Subject.Organisation, Site: m.Subject.Site,
			Exposure: patch.Exposure{Classes: map[update.Class]int{}}, ToldAt: b.told, Weaknesses: weakest[b.device].advisories,
			Exploited: weakest[b.device].exploited}
		state, wanted := s.at(m.Place), missing == nil
		s.each(b, func(id int32, u *known, blocked bool) {
			x.Exposure.Add(&u.Update, blocked, s.now)
			if state(id) == patch.Approved {
				x.Approved++
			}
			wanted = wanted || u.Name == *missing
		})
		if b.problem != "" {
			x.Problem = &b.problem
		}
		if wanted {
			out = append(out, x)
		}
	})
	slices.SortFunc(out, func(a, b api.DeviceExposure) int {
		if placeOf(a).before(placeOf(b)) {
			return -1
		}
		return 1
	})
	return out, err
}

// mostPatched is how much of a device's past is told at once.
const mostPatched = 200

// GetDeviceUpdates shows what a device misses, and what was installed: GET /devices/{id}/updates.
func (c *Service) GetDeviceUpdates(g *gin.Context, id api.ID) {
	out, err := c.updatesOf(g.Request.Context(), id)
	front.Answer(g, http.StatusOK, out, err)
}

func (c *Service) updatesOf(ctx context.Context, id uuid.UUID) (api.DeviceUpdates, error) {
	out := api.DeviceUpdates{Missing: []api.DecidedUpdate{}}
	m, ok := c.fleet.Known(id)
	if !ok {
		return out, front.NotFound("device")
	}
	now := time.Now()
	s, err := c.readDecisions(ctx, now)
	if err != nil {
		return out, err
	}
	if err := c.store.wholly(ctx, []uuid.UUID{id}, func(b brief, details map[int32]detail) {
		if out.ToldAt = &b.told; b.problem != "" {
			out.Problem = &b.problem
		}
		s.each(b, func(id int32, u *known, blocked bool) {
			out.Exposure.Add(&u.Update, blocked, now)
			one := u.Update
			one.From, one.Blocked = details[id].From, details[id].Blocked
			out.Missing = append(out.Missing, api.DecidedUpdate{Update: one,
				Decision: patch.Decide(s.rules, &one, m.Place, u.firstSeen, now), Since: u.firstSeen})
		})
	}); err != nil {
		return out, err
	}
	slices.SortFunc(out.Missing, func(a, b api.DecidedUpdate) int {
		return cmp.Or(slices.Index(update.Classes, a.Update.Class)-slices.Index(update.Classes, b.Update.Class),
			b.Update.Severity.Rank()-a.Update.Severity.Rank(), cmp.Compare(a.Update.Name, b.Update.Name))
	})
	if out.Exposure.Classes == nil {
		out.Exposure.Classes = map[update.Class]int{}
	}
	out.Patched, err = c.store.patchedAt(ctx, id, mostPatched)
	return out, err
}

// ListApprovals lists the rules: GET /approvals.
func (c *Service) ListApprovals(g *gin.Context, in api.ListApprovalsParams) {
	front.List(g, in.Cursor, in.Limit, named{}, c.store.approvals, func(a api.Approval) named { return named{a.Rule.Name, a.Rule.ID} },
		func(items []api.Approval, next *string) any { // a page may hold less for whoever sees less
			items = slices.DeleteFunc(items, func(a api.Approval) bool {
				return !c.fleet.Concerns(g.Request.Context(), front.CallerOf(g), a.Rule.Scope)
			})
			return api.ApprovalPage{Items: items, Next: next}
		})
}

// AddApproval adds a rule: POST /approvals.
func (c *Service) AddApproval(g *gin.Context) {
	c.putApproval(g, nil, http.StatusCreated, "approval.add")
}

// SetApproval changes a rule: PUT /approvals/{id}.
func (c *Service) SetApproval(g *gin.Context, id api.ID) {
	c.putApproval(g, &id, http.StatusOK, "approval.set")
}

func (c *Service) putApproval(g *gin.Context, id *uuid.UUID, status int, action string) {
	front.Write(g, c.audit, status, front.Change{Action: action}, func(ctx context.Context, in patch.Rule, x *front.Change) (
		made api.Approval, err error) {
		if err := in.Validate(time.Now()); err != nil {
			return made, front.Problem(http.StatusBadRequest, "The rule cannot be taken.", err.Error()+".")
		}
		if err := c.fleet.KnownScope(ctx, in.Scope); err != nil {
			return made, err
		}
		x.Detail = fmt.Sprintf("%s: %s", in.Name, in.Do)
		return c.store.setApproval(ctx, id, in, front.CallerOf(g).Email)
	})
}

// RemoveApproval removes a rule: DELETE /approvals/{id}.
func (c *Service) RemoveApproval(g *gin.Context, id api.ID) {
	front.Do(g, c.audit, front.Change{Action: "approval.remove"}, func(ctx context.Context, x *front.Change) (err error) {
		x.Detail, err = c.store.removeApproval(ctx, id)
		return err
	})
}

// askHours is for how long devices that are away are awaited to ask their sources.
const askHours = 12

// AskUpdates has devices ask their sources of updates now: POST /updates/asks.
func (c *Service) AskUpdates(g *gin.Context) {
	front.Serve(g, func() error {
		in, ok := front.Bind[api.UpdatesAsk](g)
		if !ok {
			return nil
		}
		if in.Where == nil && in.Group == nil && in.Devices == nil {
			return front.Problem(http.StatusBadRequest, "No device is named.",
				"Give an expression, a group or a list; an empty expression is all.")
		}
		targets, err := c.fleet.Targets(front.CallerOf(g), act, in.Where, in.Group)
		if err != nil {
			return err
		}
		var devices []uuid.UUID
		for _, m := range targets {
			if slices.Contains(m.Subject.Capabilities, device.CapabilityUpdates) &&
				(in.Devices == nil || slices.Contains(*in.Devices, m.ID)) {
				devices = append(devices, m.ID)
			}
		}
		if len(devices) == 0 {
			return front.Problem(http.StatusBadRequest, "No device is selected that offers updates and where you may do this.",
				"Look at the expression, the group or the list.")
		}
		id := uuid.New()
		err = c.jobs.Carry(g.Request.Context(), id, "Ask the sources of updates", front.CallerOf(g).ID, front.CallerOf(g).Email,
			stepsOnly("look", work.Step{Do: work.CheckUpdates}), devices, false, job.Limits{AtOnce: 200, WaitHours: askHours})
		if c.done(g, "updates.ask", fmt.Sprintf("%d devices, job %s", len(devices), id), err) {
			g.JSON(http.StatusCreated, api.UpdatesAsked{JobID: id, Devices: len(devices)})
		}
		return nil
	})
}
