package job

import (
	"context"
	"embed"
	"fmt"
	"math"
	"net/http"
	"path"
	"strconv"

	"github.com/gin-gonic/gin"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/script"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// starter are the scripts that a new library begins with.
//
//go:embed starter
var starter embed.FS

// starterBy is who the starter set is by, in the library.
const starterBy = "Moorwatch"

// fill fills a library that never held anything.
func (c *Service) fill(ctx context.Context) error {
	none, err := c.store.noScripts(ctx)
	if err != nil || !none {
		return err
	}
	files, err := starter.ReadDir("starter")
	if err != nil {
		return err
	}
	for _, f := range files {
		text, err := starter.ReadFile(path.Join("starter", f.Name()))
		if err != nil {
			return err
		}
		s, err := script.Parse(text)
		if err == nil {
			_, err = c.store.setScript(ctx, nil, s, starterBy)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
	}
	return nil
}

// ListScripts lists the library: GET /scripts.
func (c *Service) ListScripts(g *gin.Context, in api.ListScriptsParams) {
	front.List(g, in.Cursor, in.Limit, "", c.store.scripts, func(s api.Script) string { return s.Content.Name },
		func(items []api.Script, next *string) any { return api.ScriptPage{Items: items, Next: next} })
}

// GetScript shows a script: GET /scripts/{id}.
func (c *Service) GetScript(g *gin.Context, id api.ID, in api.GetScriptParams) {
	s, err := c.store.script(g.Request.Context(), id, in.Version)
	if db.Missing(err) {
		err = front.NotFound("script, or version of it")
	}
	front.Answer(g, http.StatusOK, s, err)
}

// ListScriptVersions lists what a script was: GET /scripts/{id}/versions.
func (c *Service) ListScriptVersions(g *gin.Context, id api.ID, in api.ListScriptVersionsParams) {
	front.List(g, in.Cursor, in.Limit, math.MaxInt32, func(ctx context.Context, before, limit int) ([]api.Script, error) {
		return scripts.past(ctx, c.store, id, before, limit)
	}, func(s api.Script) int { return s.Version },
		func(items []api.Script, next *string) any { return api.ScriptPage{Items: items, Next: next} })
}

// AddScript adds a script: POST /scripts.
func (c *Service) AddScript(g *gin.Context) { c.putScript(g, nil, http.StatusCreated, "script.add") }

// SetScript changes a script: PUT /scripts/{id}.
func (c *Service) SetScript(g *gin.Context, id api.ID) {
	c.putScript(g, &id, http.StatusOK, "script.change")
}

func (c *Service) putScript(g *gin.Context, id *api.ID, status int, action string) {
	front.Write(g, c.audit, status, front.Change{Action: action, What: "script"}, func(ctx context.Context, in api.NewScript,
		x *front.Change) (made api.Script, err error) {
		s, err := read(in)
		if err != nil {
			return made, front.Problem(http.StatusBadRequest, "The script cannot be taken.", err.Error()+".")
		}
		x.Taken = front.Problem(http.StatusConflict, "The library has a script named "+s.Name+" already.",
			"Change that one, or choose another name.")
		made, err = c.store.setScript(ctx, id, s, front.CallerOf(g).Email)
		x.Detail = s.Name + ", version " + strconv.Itoa(made.Version)
		return made, err
	})
}

// read reads a script that is given in parts or as its file.
func read(in api.NewScript) (script.Script, error) {
	if in.File != nil {
		return script.Parse([]byte(*in.File))
	}
	if in.Content == nil {
		return script.Script{}, fmt.Errorf("give its content, or its file")
	}
	s := *in.Content
	s.Body = script.Clean(s.Interpreter, s.Body)
	return s, s.Validate()
}

// RemoveScript removes a script: DELETE /scripts/{id}.
func (c *Service) RemoveScript(g *gin.Context, id api.ID) {
	front.Do(g, c.audit, front.Change{Action: "script.remove", What: "script"}, func(ctx context.Context, x *front.Change) (err error) {
		x.Detail, err = scripts.remove(ctx, c.store, id)
		return err
	})
}

// done puts an action on record, or answers with what went wrong.
func (c *Service) done(g *gin.Context, action, detail string, err error) bool {
	return front.Changed(g, c.audit, front.Change{Action: action, Detail: detail}, err)
}
