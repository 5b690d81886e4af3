package session

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/query"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// ListSettings lists what stands at a place of the settings: GET /devices/{id}/settings.
func (s *Service) ListSettings(c *gin.Context, id api.ID, in api.ListSettingsParams) {
	at := link.SettingsAt{Path: []string{}}
	if in.At != nil {
		at.Path = *in.At
	}
	one[link.SettingPage](s, c, id, http.StatusOK, job{tool: "settings", path: "/settings/list", in: at}, nil)
}

// SearchSettings looks through the settings: POST /devices/{id}/settings/search.
func (s *Service) SearchSettings(c *gin.Context, id api.ID) {
	if q, ok := front.Bind[link.SettingSearch](c); ok {
		s.passLines(c, id, job{tool: "settings", path: "/settings/search", in: q})
	}
}

// ChangeSetting sets or removes a setting: POST /devices/{id}/settings.
func (s *Service) ChangeSetting(c *gin.Context, id api.ID) {
	if d, ok := front.Bind[link.SettingAction](c); ok {
		one(s, c, id, http.StatusOK, settingJob(d), told)
	}
}

func settingJob(d link.SettingAction) job {
	detail := strings.Join(append(append([]string{}, d.Path...), d.Name), "/")
	if d.Action == link.SettingSet {
		detail += " = " + strings.ReplaceAll(d.Value, "\n", ", ")
	}
	if d.Was != nil {
		detail += ", was " + strings.ReplaceAll(*d.Was, "\n", ", ")
	}
	return job{"settings", "/settings/do", d, "setting." + d.Action, detail}
}

// ListQueryClasses lists what a device can be asked for: GET /devices/{id}/queries.
func (s *Service) ListQueryClasses(c *gin.Context, id api.ID) {
	one[link.QueryClasses](s, c, id, http.StatusOK, job{tool: "queries", path: "/queries/classes"}, nil)
}

// AskQuery asks a device for management data: POST /devices/{id}/queries.
func (s *Service) AskQuery(c *gin.Context, id api.ID) {
	q, ok := front.Bind[link.Query](c)
	if !ok {
		return
	}
	if err := readable(q.Text); err != nil {
		front.Fail(c, err)
		return
	}
	s.passLines(c, id, queryJob(q))
}

func queryJob(q link.Query) job { return job{"queries", "/queries/ask", q, "query.ask", q.Text} }

// readable refuses a query that cannot be read, before a device is asked.
func readable(text string) error {
	if _, err := query.Parse(text); err != nil {
		return front.Problem(http.StatusBadRequest, "The query cannot be read.", err.Error()+".")
	}
	return nil
}

// readRows reads the rows of one of many devices. Equal rows make equal answers.
func readRows(r *http.Response) (*link.Answer, error) {
	a := &link.Answer{Value: "no row"}
	for in := json.NewDecoder(&limited{r: r.Body}); ; {
		var row link.QueryRow
		if err := in.Decode(&row); err != nil {
			return nil, errors.New("the connection was lost")
		}
		switch {
		case row.Error != "":
			return nil, errors.New(device.CleanText(row.Error))
		case row.Done:
			if len(a.Lines) > 0 {
				a.Value = strings.Join(a.Lines, "\n")
			}
			return a, nil
		case len(a.Lines) < link.MaxAnswerLines:
			a.Lines = append(a.Lines, device.CleanText(rowText(row.Row)))
		}
	}
}

// rowText is a row in one line, its fields in the order of their names.
func rowText(row map[string]any) string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(row)) {
		if text := query.Text(row[name]); text != "" {
			words = append(words, name+" "+text)
		}
	}
	return strings.Join(words, ", ")
}

// ListQueries lists saved queries: GET /queries.
func (s *Service) ListQueries(c *gin.Context, in api.ListQueriesParams) {
	// What somebody looks for tells of the devices that they look after: who works at some places alone sees their own.
	var own *uuid.UUID
	if caller := front.CallerOf(c); !caller.Rights.Everywhere(access.Of("queries", access.See)) {
		own = &caller.ID
	}
	read := func(ctx context.Context, after string, limit int) ([]api.SavedQuery, error) {
		return s.store.queries(ctx, own, after, limit)
	}
	front.List(c, in.Cursor, in.Limit, "", read, func(q api.SavedQuery) string { return q.Name },
		func(items []api.SavedQuery, next *string) any { return api.SavedQueryPage{Items: items, Next: next} })
}

// SaveQuery saves a query: POST /queries.
func (s *Service) SaveQuery(c *gin.Context) {
	in, ok := front.Bind[api.NewSavedQuery](c)
	if !ok {
		return
	}
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	err := readable(in.Text)
	var q api.SavedQuery
	if err == nil {
		q, err = s.store.saveQuery(ctx, device.CleanName(in.Name), in.Text, caller.ID, caller.Email)
	}
	if db.Duplicate(err) {
		err = front.Problem(http.StatusConflict, "There is a query of this name already.", "Choose another name.")
	}
	s.noted(c, "query.save", in.Name+": "+in.Text, err, func() { c.JSON(http.StatusCreated, q) })
}

// RemoveQuery removes a saved query: DELETE /queries/{id}. Those of others are removed by who may set
// policies everywhere.
func (s *Service) RemoveQuery(c *gin.Context, id api.ID) {
	caller := front.CallerOf(c)
	owner := &caller.ID
	if caller.Rights.Everywhere(access.PolicyManage) {
		owner = nil
	}
	name, err := s.store.removeQuery(c.Request.Context(), id, owner)
	if db.Missing(err) {
		err = front.NotFound("saved query of yours")
	}
	s.noted(c, "query.remove", name, err, func() { c.Status(http.StatusNoContent) })
}

// noted notes an action that concerns no device, and answers; or answers with what went wrong.
func (s *Service) noted(c *gin.Context, action, detail string, err error, answer func()) {
	if front.Changed(c, s.audit, front.Change{Action: action, Detail: detail}, err) {
		answer()
	}
}
