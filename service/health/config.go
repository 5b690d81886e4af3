package health

import (
	"context"
	"math"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/series"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// latestMoment is before which everything lies.
var latestMoment = moment{time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), uuid.Max}

func bad(title, detail string) error { return front.Problem(http.StatusBadRequest, title, detail) }

func missing(err error, what string) error {
	if db.Missing(err) {
		return front.NotFound(what)
	}
	return err
}

// change is a change of something that has a name, which takes effect once it is made.
func (h *Service) change(action, what string) front.Change {
	return front.Change{Action: action, What: what, Then: h.rules.read}
}

func (h *Service) removed(c *gin.Context, action, what string, remove func(ctx context.Context) (string, error)) {
	front.Do(c, h.audit, h.change(action, what), func(ctx context.Context, x *front.Change) (err error) {
		x.Detail, err = remove(ctx)
		return err
	})
}

// reviewScope judges anew the devices that a scope covers, or covered.
func (h *Service) reviewScope(ctx context.Context, scopes ...health.Scope) error {
	for _, s := range scopes {
		found, err := h.fleet.Scopes(ctx, s)
		if err != nil {
			return err
		}
		for _, d := range found {
			h.judgeSoon([]uuid.UUID{d.ID})
		}
	}
	return nil
}

// ListChecks lists the kinds of check: GET /checks.
func (h *Service) ListChecks(c *gin.Context) {
	c.JSON(http.StatusOK, api.CheckList{Items: health.Kinds})
}

// ListDeviceChecks lists the settings that a device is judged by: GET /devices/{id}/checks.
func (h *Service) ListDeviceChecks(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	_, err := h.fleet.Device(ctx, id)
	var p health.Place
	if err == nil {
		p, err = h.fleet.Place(ctx, id)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	out := api.DeviceChecks{Items: []api.ResolvedCheck{}}
	for _, r := range h.rules.set(&p).set.Settings() {
		one := api.ResolvedCheck{Setting: r.Setting, Policy: r.Source.Name, Scope: r.Source.Scope}
		if r.Source.Policy != "" {
			one.PolicyID = &r.Source.Policy
		}
		out.Items = append(out.Items, one)
	}
	c.JSON(http.StatusOK, out)
}

// ListPolicies lists policies by name: GET /policies.
func (h *Service) ListPolicies(c *gin.Context, in api.ListPoliciesParams) {
	front.List(c, in.Cursor, in.Limit, "", h.store.policies, func(y api.Policy) string { return y.Name },
		func(items []api.Policy, next *string) any {
			return api.PolicyPage{Items: own(h, c, items, func(y api.Policy) health.Scope { return y.Scope }), Next: next}
		})
}

// own leaves of what is set for scopes that which concerns the caller. A page may hold less for it.
func own[T any](h *Service, c *gin.Context, items []T, scope func(T) health.Scope) []T {
	return slices.DeleteFunc(items, func(x T) bool { return !h.fleet.Concerns(c.Request.Context(), front.CallerOf(c), scope(x)) })
}

// AddPolicy adds a policy: POST /policies.
func (h *Service) AddPolicy(c *gin.Context) { h.putPolicy(c, nil, http.StatusCreated, "policy.add") }

// SetPolicy changes a policy: PUT /policies/{id}.
func (h *Service) SetPolicy(c *gin.Context, id api.ID) {
	h.putPolicy(c, &id, http.StatusOK, "policy.change")
}

func (h *Service) putPolicy(c *gin.Context, id *uuid.UUID, status int, action string) {
	front.Write(c, h.audit, status, h.change(action, "policy"), func(ctx context.Context, in api.NewPolicy, x *front.Change) (
		y api.Policy, err error) {
		in.Name = device.CleanName(in.Name)
		x.Detail = in.Name
		for _, s := range in.Settings {
			if err := s.Validate(); err != nil {
				return y, bad("The policy cannot be kept.", err.Error())
			}
		}
		if err := h.fleet.KnownScope(ctx, in.Scope); err != nil {
			return y, err
		}
		if err := h.mayRespond(c, &in); err != nil {
			return y, err
		}
		before, err := h.maySet(c, "policies", id, in.Scope)
		if err != nil {
			return y, err
		}
		x.Then = h.rulesFor(append(before, in.Scope)...)
		return h.store.setPolicy(ctx, id, in, front.CallerOf(c).Email)
	})
}

// rulesFor reads the rules anew, and has the devices judged that scopes cover.
func (h *Service) rulesFor(scopes ...health.Scope) func(context.Context) error {
	return func(ctx context.Context) error {
		if err := h.rules.read(ctx); err != nil {
			return err
		}
		return h.reviewScope(ctx, scopes...)
	}
}

// maySet refuses a caller who may not set something for a scope, or take it from the scope that the
// row of this id has, which it returns.
func (h *Service) maySet(c *gin.Context, table string, id *uuid.UUID, scope health.Scope) (before []health.Scope, err error) {
	ctx := c.Request.Context()
	if id != nil {
		old, err := h.store.scopeOf(ctx, table, *id)
		if err != nil {
			return nil, err
		}
		before = append(before, old)
	}
	return before, h.fleet.MayAt(ctx, front.CallerOf(c), access.PolicyManage, append(before, scope)...)
}

// RemovePolicy removes a policy: DELETE /policies/{id}.
func (h *Service) RemovePolicy(c *gin.Context, id api.ID) {
	h.removeSet(c, "policy.remove", "policy", "policies", id)
}

// removeSet removes a row of a table of what is set for a scope, where the caller may; what it covered
// is judged anew.
func (h *Service) removeSet(c *gin.Context, action, what, table string, id uuid.UUID) {
	ctx := c.Request.Context()
	scope, err := h.store.scopeOf(ctx, table, id)
	if err == nil {
		err = h.fleet.MayAt(ctx, front.CallerOf(c), access.PolicyManage, scope)
	}
	if err != nil {
		front.Fail(c, missing(err, what))
		return
	}
	h.removed(c, action, what, func(ctx context.Context) (string, error) { return h.store.remove(ctx, table, id) })
	h.reviewScope(ctx, scope) // judged soon in any case
}

// trialEpisodes is how many episodes a trial shows.
const trialEpisodes = 200

// TryPolicy tries a setting on the past: POST /policies/trial.
func (h *Service) TryPolicy(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Trial](c)
		if !ok {
			return nil
		}
		ctx := c.Request.Context()
		if err := in.Setting.Validate(); err != nil {
			return bad("The setting cannot be tried.", err.Error())
		}
		reading := readingOf(in.Setting.Check)
		if reading == "" {
			return bad("The check cannot be tried on the past.", "Only checks of readings, whose history is kept, can: "+triable()+".")
		}
		devices, err := h.fleet.Scopes(ctx, in.Scope)
		if err != nil {
			return err
		}
		devices = h.fleet.Sees(front.CallerOf(c), devices)
		days := front.Limit(in.Days, 7)
		to := time.Now()
		out := api.TrialResult{From: to.AddDate(0, 0, -days), Items: []api.TrialEpisode{}}
		want := func(column string) bool {
			kind, _ := device.SplitReading(column)
			return kind == reading && series.Reading(column) == column
		}
		for _, d := range devices {
			whole, gap := &series.Table{}, time.Duration(0)
			if err := h.history.Past(ctx, d.ID, out.From, to, want,
				func(t *series.Table, g time.Duration) { whole.Merge(t); gap = max(gap, g) }); err != nil {
				return err
			}
			whole.Sort()
			if len(whole.Columns) > 0 {
				out.Checked++
			}
			found := health.Replay(in.Setting, whole, gap)
			if len(found) > 0 {
				out.Devices++
			}
			for _, e := range found {
				if out.Alerts++; len(out.Items) < trialEpisodes {
					out.Items = append(out.Items, api.TrialEpisode{DeviceID: d.ID, Device: d.Name, Reading: e.Reading, Level: e.Level,
						From: e.From, To: e.To})
				}
			}
		}
		c.JSON(http.StatusOK, out)
		return nil
	})
}

func readingOf(check string) string {
	for _, k := range health.Kinds {
		if k.Name == check {
			return k.Reading
		}
	}
	return ""
}

func triable() (names string) {
	for _, k := range health.Kinds {
		if k.Reading != "" {
			if names != "" {
				names += ", "
			}
			names += k.Name
		}
	}
	return names
}

// ListWindows lists maintenance windows by name: GET /maintenance-windows.
func (h *Service) ListWindows(c *gin.Context, in api.ListWindowsParams) {
	front.List(c, in.Cursor, in.Limit, "", h.store.windows, func(w api.Window) string { return w.Name },
		func(items []api.Window, next *string) any {
			for i := range items {
				items[i].Next = nextStart(items[i].Span)
			}
			return api.WindowPage{Items: own(h, c, items, func(w api.Window) health.Scope { return w.Scope }), Next: next}
		})
}

func nextStart(w calendar.Window) *time.Time {
	at := w.Next(time.Now(), time.UTC)
	if at.IsZero() || at.Year() > math.MaxInt16 {
		return nil
	}
	return &at
}

// AddWindow adds a maintenance window: POST /maintenance-windows.
func (h *Service) AddWindow(c *gin.Context) { h.putWindow(c, nil, http.StatusCreated, "window.add") }

// SetWindow changes a maintenance window: PUT /maintenance-windows/{id}.
func (h *Service) SetWindow(c *gin.Context, id api.ID) {
	h.putWindow(c, &id, http.StatusOK, "window.change")
}

func (h *Service) putWindow(c *gin.Context, id *uuid.UUID, status int, action string) {
	front.Write(c, h.audit, status, h.change(action, "window"), func(ctx context.Context, in api.NewWindow, x *front.Change) (
		w api.Window, err error) {
		in.Name = device.CleanName(in.Name)
		x.Detail = in.Name
		if err := in.Span.Validate(); err != nil {
			return w, bad("The window cannot be kept.", err.Error())
		}
		if err := h.fleet.KnownScope(ctx, in.Scope); err != nil {
			return w, err
		}
		if _, err := h.maySet(c, "maintenance_windows", id, in.Scope); err != nil {
			return w, err
		}
		x.Then = h.rulesFor(in.Scope)
		w, err = h.store.setWindow(ctx, id, in, front.CallerOf(c).Email)
		w.Next = nextStart(w.Span)
		return w, err
	})
}

// RemoveWindow removes a maintenance window: DELETE /maintenance-windows/{id}. What it muted speaks
// again.
func (h *Service) RemoveWindow(c *gin.Context, id api.ID) {
	h.removeSet(c, "window.remove", "window", "maintenance_windows", id)
}
