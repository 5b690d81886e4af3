package job

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// ListPackages lists the library of packages: GET /packages.
func (c *Service) ListPackages(g *gin.Context, in api.ListPackagesParams) {
	front.List(g, in.Cursor, in.Limit, "", c.store.packages, func(p api.Package) string { return p.Content.Name },
		func(items []api.Package, next *string) any { return api.PackagePage{Items: items, Next: next} })
}

// GetPackage shows a package: GET /packages/{id}.
func (c *Service) GetPackage(g *gin.Context, id api.ID, in api.GetPackageParams) {
	p, err := c.store.pack(g.Request.Context(), id, in.Version)
	if db.Missing(err) {
		err = front.NotFound("package, or version of it")
	}
	front.Answer(g, http.StatusOK, p, err)
}

// ListPackageVersions lists what a package was: GET /packages/{id}/versions.
func (c *Service) ListPackageVersions(g *gin.Context, id api.ID, in api.ListPackageVersionsParams) {
	front.List(g, in.Cursor, in.Limit, math.MaxInt32, func(ctx context.Context, before, limit int) ([]api.Package, error) {
		return c.store.packageVersions(ctx, id, before, limit)
	}, func(p api.Package) int { return p.Version },
		func(items []api.Package, next *string) any { return api.PackagePage{Items: items, Next: next} })
}

// AddPackage adds a package: POST /packages.
func (c *Service) AddPackage(g *gin.Context) {
	c.putPackage(g, nil, http.StatusCreated, "package.add")
}

// SetPackage changes a package: PUT /packages/{id}.
func (c *Service) SetPackage(g *gin.Context, id api.ID) {
	c.putPackage(g, &id, http.StatusOK, "package.change")
}

func (c *Service) putPackage(g *gin.Context, id *api.ID, status int, action string) {
	front.Write(g, c.audit, status, front.Change{Action: action, What: "package"}, func(ctx context.Context, in api.NewPackage,
		x *front.Change) (made api.Package, err error) {
		p, err := pack.Parse([]byte(in.File))
		if err == nil {
			err = c.whole(ctx, p)
		}
		if err != nil {
			return made, front.Problem(http.StatusBadRequest, "The package cannot be taken.", err.Error()+".")
		}
		x.Detail = p.Name + " " + p.Version
		x.Taken = front.Problem(http.StatusConflict, "The library has a package named "+p.Name+" already.",
			"Change that one, or choose another name.")
		return c.store.setPackage(ctx, id, p, front.CallerOf(g).Email)
	})
}

// whole refuses a package whose files are not in the store.
func (c *Service) whole(ctx context.Context, p pack.Package) error {
	var missing []string
	for _, f := range p.Files {
		x, err := c.store.content(ctx, f.SHA256)
		switch {
		case db.Missing(err) || err == nil && !x.Whole:
			missing = append(missing, f.Name)
		case err != nil:
			return err
		case x.Size != f.Size:
			return fmt.Errorf("the file %s has %d bytes in the store, and %d in the package", f.Name, x.Size, f.Size)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("the content store does not have %s: send what is missing first, as moor packages add does",
			strings.Join(missing, ", "))
	}
	return nil
}

// RemovePackage removes a package from the library: DELETE /packages/{id}.
func (c *Service) RemovePackage(g *gin.Context, id api.ID) {
	front.Do(g, c.audit, front.Change{Action: "package.remove", What: "package"}, func(ctx context.Context, x *front.Change) error {
		p, err := c.store.pack(ctx, id, nil)
		if err != nil {
			return err
		}
		x.Detail = p.Content.Name
		all, err := c.store.packages(ctx, "", math.MaxInt32)
		if err != nil {
			return err
		}
		for _, other := range all {
			if slices.Contains(other.Content.Needs, p.Content.Name) {
				return front.Problem(http.StatusConflict, "The package "+other.Content.Name+" needs it.", "Change that one first.")
			}
		}
		_, err = c.store.removePackage(ctx, id)
		return err
	})
}

// shelved finds a package of the library by its name.
func shelved(all []api.Package) func(name string) (pack.Package, bool) {
	return func(name string) (pack.Package, bool) {
		for _, one := range all {
			if one.Content.Name == name {
				return one.Content, true
			}
		}
		return pack.Package{}, false
	}
}

// packageWork is the work of installing or removing a package of the library.
func (c *Service) packageWork(ctx context.Context, id uuid.UUID, version *int, remove bool) (w job.Work, err error) {
	p, err := c.store.pack(ctx, id, version)
	if db.Missing(err) {
		return w, front.NotFound("package, or version of it")
	}
	if err != nil {
		return w, err
	}
	all, err := c.store.packages(ctx, "", math.MaxInt32)
	if err != nil {
		return w, err
	}
	w, err = job.OfPackage(p.Content, remove, shelved(all))
	if err != nil {
		err = unable(err)
	}
	return w, err
}
