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
	"moorwatch.example/core/patch"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
)

func unable(err error) error {
	return front.Problem(http.StatusBadRequest, "The rollout cannot be begun.", err.Error()+".")
}

// samples is how many names of devices a ring tells.
const samples = 12

// AddRollout begins a rollout, or tells what it would do: POST /rollouts.
func (c *Service) AddRollout(g *gin.Context) {
	front.Serve(g, func() error {
		in, ok := front.Bind[api.NewRollout](g)
		if !ok {
			return nil
		}
		ctx, now := g.Request.Context(), time.Now()
		r := rollout{id: uuid.New(), spec: in.Spec, selection: selection{in.Where, in.Group}, begunAt: now,
			begunBy: front.CallerOf(g).Email,
			owner:   front.CallerOf(g).ID}
		r.spec.Name = device.CleanText(strings.TrimSpace(r.spec.Name))
		err := r.spec.Validate()
		if err == nil && in.Where == nil && in.Group == nil {
			err = fmt.Errorf("it names no devices: give an expression or a group; an empty expression is all")
		}
		if err != nil {
			return unable(err)
		}
		if len(r.spec.Rings) < 2 { // nothing is tried before all have it
			if err := front.Recent(front.CallerOf(g), now); err != nil {
				return err
			}
		}
		if front.CallerOf(g).Limited {
			return front.Problem(http.StatusForbidden, "A limited API token begins no rollout.",
				"Sign in, or use a token without limits: a rollout goes on with the rights of its owner.")
		}
		targets, err := c.fleet.Targets(front.CallerOf(g), act, in.Where, in.Group)
		if err != nil {
			return err
		}
		targets = slices.DeleteFunc(targets, func(m fleet.Target) bool {
			return !slices.Contains(m.Subject.Capabilities, device.CapabilityUpdates)
		})
		if len(targets) == 0 {
			return unable(fmt.Errorf("no device is selected that offers updates and where you may install them"))
		}
		if err := c.mayAll(g, r, in.Where, in.Group, targets); err != nil {
			return err
		}
		members, ids := make([]patch.Member, len(targets)), make([]uuid.UUID, len(targets))
		for i, m := range targets {
			members[i], ids[i] = patch.Member{ID: m.ID.String(), Subject: m.Subject}, m.ID
		}
		rings, err := patch.Assign(r.id.String(), r.spec.Rings, members, now)
		if err != nil {
			return unable(err)
		}
		counts := make([]int, len(r.spec.Rings))
		var chosen []uuid.UUID
		var at []int
		for i, n := range rings {
			if n >= 0 {
				counts[n]++
				chosen, at = append(chosen, ids[i]), append(at, n)
			}
		}
		r.state = r.spec.Begun(counts)
		if in.Plan != nil && *in.Plan {
			out, err := c.plan(ctx, r, targets, rings, now)
			if err != nil {
				return err
			}
			g.JSON(http.StatusCreated, out)
			return nil
		}
		entry := front.EntryOf(g, "rollout.begin", "begun")
		entry.Detail = fmt.Sprintf("%s on %d devices in %d rings, rollout %s", r.spec.Name, len(chosen), len(counts), r.id)
		if err := c.audit.Record(ctx, entry); err != nil {
			return err
		}
		if err := c.store.addRollout(ctx, r, chosen, at); err != nil {
			return err
		}
		c.poke()
		c.show(g, r.id, http.StatusCreated)
		return nil
	})
}

// mayAll refuses a rollout that does more than install updates, where its beginner may not do so at each of its
// devices: scripts of their own are commands, and waking is a matter of power.
func (c *Service) mayAll(g *gin.Context, r rollout, where *string, group *uuid.UUID, targets []fleet.Target) error {
	for _, p := range r.asks()[1:] { // the first chose the devices
		may, err := c.fleet.Targets(front.CallerOf(g), p, where, group)
		if err != nil {
			return err
		}
		at := map[uuid.UUID]bool{}
		for _, m := range may {
			at[m.ID] = true
		}
		for _, m := range targets {
			if !at[m.ID] {
				return front.Lacking(p)
			}
		}
	}
	return nil
}

// mostPlanned is of how many devices a plan tells one by one.
const mostPlanned = 1000

// plan tells what a rollout would do now.
func (c *Service) plan(ctx context.Context, r rollout, targets []fleet.Target, rings []int, now time.Time) (api.Rollout, error) {
	ids := make([]uuid.UUID, len(targets))
	for i, m := range targets {
		ids[i] = m.ID
	}
	s, err := c.readDecisions(ctx, now)
	if err != nil {
		return api.Rollout{}, err
	}
	out := c.outline(r)
	busy := map[uuid.UUID]int{} // how many updates it would get
	sums := map[int32]*api.MissingUpdate{}
	if err := c.store.briefly(ctx, nil, ids, func(b brief) {
		m, ok := c.fleet.Known(b.device)
		if !ok {
			return
		}
		state := s.at(m.Place)
		s.each(b, func(id int32, u *known, blocked bool) {
			if blocked || !r.spec.Takes(&u.Update) || state(id) != patch.Approved {
				return
			}
			busy[b.device]++
			x := sums[id]
			if x == nil {
				x = &api.MissingUpdate{Update: u.Update, FirstSeen: u.firstSeen, States: map[string]int{}}
				sums[id] = x
			}
			x.Devices++
		})
	}); err != nil {
		return api.Rollout{}, err
	}
	for _, x := range sums {
		out.Updates = append(out.Updates, *x)
	}
	slices.SortFunc(out.Updates, func(a, b api.MissingUpdate) int { return b.Devices - a.Devices })
	left := 0
	of := slices.Clone(rings)
	for i, m := range targets {
		if busy[m.ID] == 0 {
			of[i] = -1
		}
	}
	starts := patch.Earliest(r.spec.Rings, of, time.Duration(r.spec.WaitHours)*time.Hour, now, func(i int, from time.Time) time.Time {
		m := targets[i]
		if !r.spec.Windows || !c.windows.WindowUntil(m.Place, m.Subject.TimeZone, from).IsZero() {
			return from
		}
		return c.windows.WindowNext(m.Place, m.Subject.TimeZone, from)
	})
	plan := []api.PlannedDevice{}
	for i, m := range targets {
		n := of[i]
		if n < 0 {
			left++
			continue
		}
		to := &out.Rings[n]
		to.States["planned"]++
		if len(*to.Sample) < samples {
			*to.Sample = append(*to.Sample, m.Subject.Name)
		}
		one := api.PlannedDevice{DeviceID: m.ID, Device: m.Subject.Name, Ring: n, Updates: busy[m.ID]}
		if at := starts[i]; at.IsZero() {
			*to.Shut++
		} else {
			one.At = &at
		}
		plan = append(plan, one)
	}
	slices.SortFunc(plan, func(a, b api.PlannedDevice) int {
		when := func(x api.PlannedDevice) time.Time {
			if x.At == nil {
				return time.Time{} // first: they need a person
			}
			return *x.At
		}
		return cmp.Or(a.Ring-b.Ring, when(a).Compare(when(b)), cmp.Compare(a.Device, b.Device))
	})
	out.Plan = new(plan[:min(len(plan), mostPlanned)])
	out.LeftOut = &left
	return out, nil
}

// outline is a rollout as it is told, but for what must be counted.
func (c *Service) outline(r rollout) api.Rollout {
	some := func(s string) *string {
		if s == "" {
			return nil
		}
		return &s
	}
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	job := func(s string) *uuid.UUID {
		id, err := uuid.Parse(s)
		if err != nil {
			return nil
		}
		return &id
	}
	out := api.Rollout{ID: r.id, Spec: r.spec, Phase: string(r.state.Phase), Why: some(r.state.Why), At: r.state.At,
		Agreed: some(r.state.Agreed), Where: r.selection.Where, Group: r.selection.Group,
		BegunAt: r.begunAt, BegunBy: r.begunBy, EndedAt: r.endedAt, Updates: []api.MissingUpdate{}}
	for i, s := range r.state.Rings {
		out.Rings = append(out.Rings, api.RolloutRing{Name: r.spec.Rings[i].Name, Devices: s.Devices, States: map[string]int{},
			Try: new(s.Try), JobID: job(s.Job), BackID: job(s.Back), BeganAt: moment(s.BeganAt),
			ThroughAt: moment(s.Through), Until: moment(s.Until), Verdict: s.Verdict, Released: some(s.Released), Reverted: new(s.Reverted),
			Sample: &[]string{}, Shut: new(0), Past: new(append([]patch.Past{}, s.Past...))})
	}
	return out
}

// told is a rollout with what is counted of the devices in a view.
func (c *Service) told(ctx context.Context, r rollout, view []uuid.UUID) (api.Rollout, error) {
	out := c.outline(r)
	if r.endedAt == nil {
		if owned, err := c.owned(ctx, &r); err == nil && !owned {
			out.Unowned = new(true)
		}
	}
	states, err := c.store.ringStates(ctx, r.id, view)
	for i := range out.Rings {
		if view != nil { // who sees some of the devices is told of those, and not what was judged of all
			out.Rings[i].Devices, out.Rings[i].Verdict, out.Rings[i].Past = 0, nil, new([]patch.Past{})
			for _, n := range states[i] {
				out.Rings[i].Devices += n
			}
		}
		if states[i] != nil {
			out.Rings[i].States = states[i]
		}
	}
	return out, err
}

var latest = moment{time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), uuid.Max}

// ListRollouts lists rollouts: GET /rollouts.
func (c *Service) ListRollouts(g *gin.Context, in api.ListRolloutsParams) {
	view, err := c.fleet.View(g.Request.Context(), front.CallerOf(g), see)
	if err != nil {
		front.Fail(g, err)
		return
	}
	front.List(g, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.Rollout, error) {
		all, err := c.store.rollouts(ctx, view, nil, before, limit)
		if err != nil {
			return nil, err
		}
		out := make([]api.Rollout, len(all))
		for i := range all {
			if out[i], err = c.told(ctx, all[i], view); err != nil {
				return nil, err
			}
		}
		return out, nil
	}, func(r api.Rollout) moment { return moment{r.BegunAt, r.ID} },
		func(items []api.Rollout, next *string) any { return api.RolloutPage{Items: items, Next: next} })
}

// one reads a rollout of which the caller sees a device.
func (c *Service) one(g *gin.Context, id uuid.UUID) (rollout, []uuid.UUID, error) {
	ctx := g.Request.Context()
	view, err := c.fleet.View(ctx, front.CallerOf(g), see)
	if err != nil {
		return rollout{}, nil, err
	}
	found, err := c.store.rollouts(ctx, view, &id, latest, 1)
	if err != nil {
		return rollout{}, nil, err
	}
	if len(found) == 0 {
		return rollout{}, nil, front.NotFound("rollout")
	}
	return found[0], view, nil
}

// GetRollout shows a rollout: GET /rollouts/{id}.
func (c *Service) GetRollout(g *gin.Context, id api.ID) { c.show(g, id, http.StatusOK) }

func (c *Service) show(g *gin.Context, id uuid.UUID, status int) {
	out, err := c.detailed(g, id)
	front.Answer(g, status, out, err)
}

// detailed is a rollout with what is only told of one at a time.
func (c *Service) detailed(g *gin.Context, id uuid.UUID) (out api.Rollout, err error) {
	r, view, err := c.one(g, id)
	if err != nil {
		return out, err
	}
	if out, err = c.told(g.Request.Context(), r, view); err != nil {
		return out, err
	}
	out.Updates, err = c.store.brought(g.Request.Context(), id, view)
	return out, err
}

// ListRolloutDevices lists the devices of a rollout: GET /rollouts/{id}/devices.
func (c *Service) ListRolloutDevices(g *gin.Context, id api.ID, in api.ListRolloutDevicesParams) {
	_, view, err := c.one(g, id)
	if err != nil {
		front.Fail(g, err)
		return
	}
	at := map[uuid.UUID]standing{}
	front.List(g, in.Cursor, in.Limit, standing{Ring: -1},
		func(ctx context.Context, after standing, limit int) ([]api.RolloutDevice, error) {
			out, places, err := c.store.devices(ctx, id, view, in.Ring, after, limit)
			for i, x := range out {
				at[x.DeviceID] = places[i]
			}
			return out, err
		}, func(x api.RolloutDevice) standing { return at[x.DeviceID] }, func(items []api.RolloutDevice, next *string) any {
			return api.RolloutDevicePage{Items: items, Next: next}
		})
}

// SteerRollout says how a rollout goes on: PATCH /rollouts/{id}.
func (c *Service) SteerRollout(g *gin.Context, id api.ID) {
	in, ok := front.Bind[api.RolloutAction](g)
	if !ok {
		return
	}
	c.moving.Lock()
	defer c.moving.Unlock()
	x := front.Change{Action: "rollout.set"}
	if err := c.steer(g, id, in, &x); !c.done(g, x.Action, x.Detail, err) {
		return
	}
	c.fleet.Publish("rollouts", map[string]any{"ids": []uuid.UUID{id}})
	c.poke()
	c.show(g, id, http.StatusOK)
}

// steer changes a rollout as somebody says, and completes what is to be put on record.
func (c *Service) steer(g *gin.Context, id uuid.UUID, in api.RolloutAction, x *front.Change) error {
	r, err := c.maySteer(g, id)
	if err != nil {
		return err
	}
	x.Detail = r.spec.Name + ", rollout " + id.String()
	if in.Without != nil {
		x.Detail += ", without " + strings.Join(*in.Without, ", ")
		if r.state.Phase.Over() {
			return front.Problem(http.StatusConflict, "The rollout is over.", "Begin another one.")
		}
		r.spec.Without = *in.Without
		if bad := r.spec.Validate(); bad != nil {
			return front.Problem(http.StatusBadRequest, "That cannot be left out.", bad.Error()+".")
		}
	}
	if in.Action != nil {
		x.Action = "rollout." + *in.Action
		if err := c.do(g, &r, *in.Action); err != nil {
			return err
		}
	}
	return c.store.save(g.Request.Context(), r)
}

func (c *Service) do(g *gin.Context, r *rollout, action string) error {
	if action == actionAdopt {
		return c.adopt(g, r)
	}
	if bad := r.spec.Do(&r.state, action, front.CallerOf(g).Email, r.begunBy, time.Now()); bad != nil {
		return front.Problem(http.StatusConflict, "The rollout cannot do that now.", bad.Error()+".")
	}
	return c.steered(g.Request.Context(), r, action)
}

// maySteer refuses who may not steer a rollout: that is for who may do so at all of its devices.
func (c *Service) maySteer(g *gin.Context, id uuid.UUID) (rollout, error) {
	ctx := g.Request.Context()
	r, _, err := c.one(g, id)
	if err != nil {
		return r, err
	}
	view, err := c.fleet.View(ctx, front.CallerOf(g), act)
	if err != nil {
		return r, err
	}
	outside, err := c.store.outside(ctx, id, view)
	if err == nil && outside > 0 {
		err = front.Lacking(act)
	}
	return r, err
}

// steered does what an action asks for beside the state.
func (c *Service) steered(ctx context.Context, r *rollout, action string) error {
	switch action {
	case patch.ActionAgain:
		for i := r.state.At; i < len(r.state.Rings); i++ {
			r.state.Rings[i].Try++
		}
		return c.store.again(ctx, r.id, r.state.At)
	case patch.ActionCancel:
		for _, ring := range r.state.Rings {
			for _, one := range []string{ring.Job, ring.Staging} {
				if id, err := uuid.Parse(one); err == nil {
					if err := c.jobs.End(ctx, id); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}
