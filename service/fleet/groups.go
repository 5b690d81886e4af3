package fleet

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/roster"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// readGroups brings the roster's groups up to date.
func (f *Service) readGroups(ctx context.Context) error {
	rows, err := f.store.groups(ctx, nil, "", 0)
	if err != nil {
		return err
	}
	var all []roster.Group
	for _, row := range rows {
		g := roster.Group{ID: row.ID, Name: row.Name, Members: map[uuid.UUID]bool{}}
		if row.Organisation != nil {
			g.Organisation = row.Organisation.String()
		}
		if row.Expression != "" {
			if g.Match, err = selector.CompileGroup(row.Expression); err != nil {
				slog.Warn("a group's expression cannot be read any more", "group", row.Name, "error", err)
			}
		} else {
			for _, id := range *row.Members {
				g.Members[id] = true
			}
		}
		all = append(all, g)
	}
	if moved := f.roster.SetGroups(all, time.Now()); len(moved) > 0 {
		f.judgeAgain(ctx, moved...)
		f.Changed(moved)
	}
	return nil
}

// ListGroups lists groups by name: GET /groups.
func (f *Service) ListGroups(c *gin.Context, in api.ListGroupsParams) {
	caller := front.CallerOf(c)
	var own []uuid.UUID // nil is all
	if !caller.Rights.Everywhere(access.FleetRead) {
		own = f.roster.GroupsWith(func(e *roster.Entry) bool { return sees(caller, e) })
	}
	front.List(c, in.Cursor, in.Limit, "", func(ctx context.Context, after string, limit int) ([]api.Group, error) {
		return f.store.groups(ctx, own, after, limit)
	}, func(g api.Group) string { return g.Name }, func(items []api.Group, next *string) any {
		f.count(caller, items)
		return api.GroupPage{Items: items, Next: next}
	})
}

// count fills in how many devices each group has that the caller may see, and leaves of its members
// those.
func (f *Service) count(caller *front.Caller, groups []api.Group) {
	counts := map[string]int{}
	for _, e := range seen(caller, f.roster.All()) {
		for _, id := range e.Place.Groups {
			counts[id]++
		}
	}
	for i := range groups {
		groups[i].Devices = counts[groups[i].ID.String()]
		if m := groups[i].Members; m != nil && !caller.Rights.Everywhere(access.FleetRead) {
			own := slices.DeleteFunc(slices.Clone(*m), func(id uuid.UUID) bool { return !f.seesDevice(caller, id) })
			groups[i].Members = &own
		}
	}
}

// AddGroup adds a group: POST /groups.
func (f *Service) AddGroup(c *gin.Context) { f.putGroup(c, nil, http.StatusCreated, "group.add") }

// SetGroup changes a group: PUT /groups/{id}.
func (f *Service) SetGroup(c *gin.Context, id api.ID) {
	f.putGroup(c, &id, http.StatusOK, "group.change")
}

func (f *Service) putGroup(c *gin.Context, id *uuid.UUID, status int, action string) {
	in, ok := front.Bind[api.NewGroup](c)
	if !ok {
		return
	}
	ctx, name, expression := c.Request.Context(), device.CleanName(in.Name), ""
	var members []uuid.UUID
	if in.Expression != nil && *in.Expression != "" {
		expression = *in.Expression
		if _, err := selector.CompileGroup(expression); err != nil {
			front.Fail(c, front.Problem(http.StatusBadRequest, "The expression cannot be read.", err.Error()))
			return
		}
	} else if in.Members != nil {
		members = *in.Members
	}
	g, err := func() (api.Group, error) {
		of, err := f.groupOf(ctx, id, in)
		if err != nil {
			return api.Group{}, err
		}
		if id != nil {
			if err := f.mayRest(ctx, *id, expression); err != nil {
				return api.Group{}, err
			}
		}
		return f.store.setGroup(ctx, id, of, name, expression, members, front.CallerOf(c).Email)
	}()
	what := cmp.Or(expression, fmt.Sprintf("%d devices", len(members)))
	if !front.Changed(c, f.audit, front.Change{Action: action, Detail: name + ": " + what, What: "group", Then: f.readGroups,
		Taken: front.Problem(http.StatusConflict, "There is a group of this name already.", "Choose another name.")}, err) {
		return
	}
	one := []api.Group{g}
	f.count(front.CallerOf(c), one)
	c.JSON(status, one[0])
}

// RemoveGroup removes a group that nothing is set for: DELETE /groups/{id}.
func (f *Service) RemoveGroup(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	user, err := f.bus.ScopeUser.Ask(ctx, health.Scope{Kind: health.Group, ID: id.String()})
	if user != "" {
		err = front.Problem(http.StatusConflict, "The group is in use.", fmt.Sprintf("It is the scope of %s: change that first.", user))
	}
	var name string
	if err == nil {
		name, err = f.store.removeGroup(ctx, id)
	}
	if front.Changed(c, f.audit, front.Change{Action: "group.remove", Detail: name, What: "group", Then: f.readGroups}, err) {
		c.Status(http.StatusNoContent)
	}
}

// previewed is how many devices a preview shows.
const previewed = 10

// PreviewGroup counts the devices for which an expression holds: POST /groups/preview.
func (f *Service) PreviewGroup(c *gin.Context) {
	in, ok := front.Bind[api.Expression](c)
	if !ok {
		return
	}
	match, err := f.matching(in.Expression, seen(front.CallerOf(c), f.roster.All()))
	var rows []api.Device
	if err == nil {
		rows, err = f.rows(c.Request.Context(), match.Found[:min(previewed, len(match.Found))])
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	out := api.GroupPreview{Count: len(match.Found), Of: match.Of, Items: append([]api.Device{}, rows...), Undecided: match.Undecided}
	if match.Why != nil {
		out.Why = new(match.Why.Error())
	}
	c.JSON(http.StatusOK, out)
}

// wordValues is how many values of a word are shown, and wordSample of how many devices software and
// readings are looked at for them.
const (
	wordValues = 20
	wordSample = 500
)

// ListWords lists what an expression may use: GET /words.
func (f *Service) ListWords(c *gin.Context) {
	counts := map[string]map[string]int{}
	note := func(word string, values ...string) {
		if counts[word] == nil {
			counts[word] = map[string]int{}
		}
		for _, v := range values {
			if v != "" {
				counts[word][v]++
			}
		}
	}
	for i, e := range seen(front.CallerOf(c), f.roster.All()) {
		s := &e.Subject
		note("organisation", s.Organisation)
		note("site", s.Site)
		note("os", s.OS)
		note("os_name", s.OSName)
		note("os_version", s.OSVersion)
		note("arch", s.Arch)
		note("model", s.Model)
		note("condition", s.Condition)
		note("agent_version", s.AgentVersion)
		note("vendor", s.Vendor)
		note("kernel", s.Kernel)
		note("cpu_model", s.CPUModel)
		note("time_zone", s.TimeZone)
		if s.Readings != nil && i < wordSample {
			note("readings", s.Readings.Names()...)
		}
		note("capabilities", s.Capabilities...)
		note("tags", s.Tags...)
		note("people", s.People...)
		note("last_people", s.LastPeople...)
		note("groups", s.Groups...)
		if s.Software != nil && i < wordSample {
			note("software", s.Software.Names()...)
		}
	}
	out := api.WordList{Items: []api.Word{}}
	for _, w := range selector.Words {
		word := api.Word{Name: w.Name, Type: w.Type, About: w.About}
		if bins := frequent(counts[w.Name]); len(bins) > 0 {
			word.Values = &bins
		}
		out.Items = append(out.Items, word)
	}
	c.JSON(http.StatusOK, out)
}

func frequent(counts map[string]int) []string {
	values := make([]string, 0, len(counts))
	for v := range counts {
		values = append(values, v)
	}
	slices.SortFunc(values, func(a, b string) int { return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b)) })
	return values[:min(len(values), wordValues)]
}

// SetTags sets the tags of a device: PUT /devices/{id}/tags.
func (f *Service) SetTags(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.TagList](c)
	if !ok {
		return
	}
	ctx, tags := c.Request.Context(), []string{}
	for _, t := range in.Tags {
		if t = device.CleanName(t); !slices.Contains(tags, t) {
			tags = append(tags, t)
		}
	}
	slices.Sort(tags)
	name, err := f.store.setTags(ctx, id, tags)
	if db.Missing(err) {
		err = front.NotFound("device")
	}
	if err == nil {
		f.Changed([]uuid.UUID{id})
		entry := front.EntryOf(c, "device.tag", "done")
		entry.Device, entry.DeviceName, entry.Detail = id, name, fmt.Sprint(tags)
		err = f.audit.Record(ctx, entry)
	}
	front.Answer(c, http.StatusOK, api.TagList{Tags: tags}, err)
}

// AddFavourite makes a device one of the caller's favourites: PUT /favourites/{id}.
func (f *Service) AddFavourite(c *gin.Context, id api.ID) {
	front.Done(c, func() error {
		ctx := c.Request.Context()
		d, err := f.Device(ctx, id)
		if err != nil {
			return err
		}
		if !f.seesDevice(front.CallerOf(c), d.ID) {
			return front.NotFound("device")
		}
		return f.store.addFavourite(ctx, front.CallerOf(c).ID, id)
	}())
}

// RemoveFavourite takes a device from the caller's favourites: DELETE /favourites/{id}.
func (f *Service) RemoveFavourite(c *gin.Context, id api.ID) {
	if err := f.store.removeFavourite(c.Request.Context(), front.CallerOf(c).ID, id); err != nil {
		front.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// markFavourites marks which of the devices are the caller's favourites.
func (f *Service) markFavourites(ctx context.Context, caller *front.Caller, rows []api.Device) error {
	if caller == nil || len(rows) == 0 {
		return nil
	}
	ids, err := f.store.favourites(ctx, caller.ID)
	for i := range rows {
		if slices.Contains(ids, rows[i].ID) {
			yes := true
			rows[i].Favourite = &yes
		}
	}
	return err
}
