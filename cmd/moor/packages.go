package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/pack"
)

func packages(ctx context.Context, k *client.Client) iter.Seq2[api.Package, error] {
	return client.Pages(func(cursor *string) ([]api.Package, *string, error) {
		page, err := client.Result(k.ListPackagesWithResponse(ctx, &api.ListPackagesParams{Cursor: cursor}))
		if err != nil {
			return nil, nil, err
		}
		return page.Items, page.Next, nil
	})
}

// packageOf finds the package that a command names first.
func packageOf(ctx context.Context, c *cli.Command) (*client.Client, api.Package, error) {
	name := c.Args().First()
	if name == "" {
		return nil, api.Package{}, errors.New("name a package; moor packages list shows them")
	}
	k, err := dial()
	if err != nil {
		return nil, api.Package{}, err
	}
	for p, err := range packages(ctx, k) {
		if err != nil || strings.EqualFold(p.Content.Name, name) {
			return k, p, err
		}
	}
	return nil, api.Package{}, fmt.Errorf("the library has no package %q; moor packages list shows them", name)
}

func packagesCommand() *cli.Command {
	on := func(name, usage string, remove bool) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Flags: beginFlags(), Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := packageOf(ctx, c)
			if err != nil {
				return err
			}
			return begin(ctx, c, k, api.NewJob{Package: &p.ID, Remove: &remove}, p.Content.Parameters)
		}}
	}
	return &cli.Command{Name: "packages", Usage: "the library of packages: files and steps, installed and removed on many devices", Commands: []*cli.Command{{
		Name: "list", Usage: "list the library", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return jsonList(packages(ctx, k))
			}
			t := newTable("NAME", "VERSION", "FOR", "STEPS", "FILES", "DEVICES", "CHANGED", "BY")
			for p, err := range packages(ctx, k) {
				if err != nil {
					return err
				}
				devices := ""
				if p.Devices != nil {
					devices = fmt.Sprint(*p.Devices)
				}
				t.row(p.Content.Name, p.Content.Version, orAll(p.Content.Systems), fmt.Sprint(len(p.Content.Install)), fmt.Sprint(len(p.Content.Files)), devices, p.ChangedAt.Local().Format("2006-01-02 15:04"), p.ChangedBy)
			}
			return t.flush()
		},
	}, {
		Name: "show", Usage: "print a package's file", ArgsUsage: "NAME",
		Flags: []cli.Flag{jsonFlag, &cli.IntFlag{Name: "version", Usage: "as it was as this `VERSION`, as moor packages versions counts them"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := packageOf(ctx, c)
			if err == nil && c.Int("version") > 0 {
				var old *api.Package
				if old, err = client.Result(k.GetPackageWithResponse(ctx, p.ID, &api.GetPackageParams{Version: new(c.Int("version"))})); err == nil {
					p = *old
				}
			}
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(p)
			}
			_, err = os.Stdout.WriteString(p.File)
			return err
		},
	}, {
		Name: "add", Usage: "take packages from their files into the library; one of the same name becomes a new version", ArgsUsage: "FILE...",
		Description: "What a package brings is named under files, and may lie beside the file: then moor sends it to the\ncontent store, and fills in its digest and size.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return errors.New("give the files; moor packages show prints how one looks")
			}
			k, err := dial()
			if err != nil {
				return err
			}
			for _, path := range c.Args().Slice() {
				if err := addPackage(ctx, k, path); err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
			}
			return nil
		},
	}, on("install", "install a package on the chosen devices, with what it needs", false), on("uninstall", "remove a package from the chosen devices", true), {
		Name: "versions", Usage: "list what a package was", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := packageOf(ctx, c)
			if err != nil {
				return err
			}
			t := newTable("VERSION", "OF THE PACKAGE", "CHANGED", "BY")
			for v, err := range packageVersions(ctx, k, p.ID) {
				if err != nil {
					return err
				}
				t.row(fmt.Sprint(v.Version), v.Content.Version, v.ChangedAt.Local().Format("2006-01-02 15:04"), v.ChangedBy)
			}
			return t.flush()
		},
	}, {
		Name: "changes", Usage: "print what the latest version changed, or what two versions differ in", ArgsUsage: "NAME [BEFORE AFTER]",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := packageOf(ctx, c)
			if err != nil {
				return err
			}
			return printChanges(c, func(version int) (int, string, error) {
				one, err := client.Result(k.GetPackageWithResponse(ctx, p.ID, versionParam[api.GetPackageParams](version)))
				if err != nil {
					return 0, "", err
				}
				return one.Version, one.File, nil
			})
		},
	}, {
		Name: "drop", Usage: "remove a package from the library; devices keep what was installed", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := packageOf(ctx, c)
			if err != nil {
				return err
			}
			return client.Done(k.RemovePackageWithResponse(ctx, p.ID))
		},
	}, {
		Name: "files", Usage: "list the content store: what packages bring", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := client.Pages(func(cursor *string) ([]api.Content, *string, error) {
				page, err := client.Result(k.ListContentsWithResponse(ctx, &api.ListContentsParams{Cursor: cursor}))
				if err != nil {
					return nil, nil, err
				}
				return page.Items, page.Next, nil
			})
			if c.Bool("json") {
				return jsonList(rows)
			}
			t := newTable("NAME", "SIZE", "THERE", "SHA-256", "BROUGHT BY")
			for x, err := range rows {
				if err != nil {
					return err
				}
				there := "whole"
				if !x.Whole {
					there = fmt.Sprintf("%d %%", 100*x.Have/max(x.Size, 1))
				}
				t.row(x.Name, fmt.Sprint(x.Size), there, x.Sha256[:16], strings.Join(*x.Packages, ", "))
			}
			return t.flush()
		},
	}}}
}

func orAll(systems []string) string {
	if len(systems) == 0 {
		return "all"
	}
	return strings.Join(systems, ", ")
}

// addPackage takes a package from its file, sending what it brings that lies beside the file.
func addPackage(ctx context.Context, k *client.Client, path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if info.Size() > pack.MaxBytes {
		return fmt.Errorf("it has %d bytes, and 1 MiB may be", info.Size())
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var p pack.Package
	if err := yaml.UnmarshalWithOptions(text, &p, yaml.Strict()); err != nil {
		return fmt.Errorf("it cannot be read: %s", yaml.FormatError(err, false, false))
	}
	for i, f := range p.Files {
		beside := filepath.Join(filepath.Dir(path), f.Name)
		if _, err := os.Stat(beside); err != nil {
			if f.SHA256 != "" {
				continue // the store may have it
			}
			return fmt.Errorf("%s is not beside it, and has no digest by which the content store could have it", f.Name)
		}
		last := -1
		sent, err := k.StoreContent(ctx, beside, func(done, size int64) {
			if percent := int(100 * done / max(size, 1)); percent != last && percent%10 == 0 {
				last = percent
				fmt.Fprintf(os.Stderr, "%s %d %%\n", f.Name, percent)
			}
		})
		if err != nil {
			return err
		}
		if f.SHA256 != "" && f.SHA256 != sent.SHA256 {
			return fmt.Errorf("%s has the digest %s, and the package says %s", f.Name, sent.SHA256, f.SHA256)
		}
		p.Files[i] = sent
	}
	if err := p.Validate(); err != nil {
		return err
	}
	file, err := p.File()
	if err != nil {
		return err
	}
	in := api.NewPackage{File: string(file)}
	var made *api.Package
	for old, err := range packages(ctx, k) {
		if err != nil {
			return err
		}
		if old.Content.Name == p.Name {
			made, err = client.Result(k.SetPackageWithResponse(ctx, old.ID, in))
			if err != nil {
				return err
			}
		}
	}
	if made == nil {
		if made, err = client.Made(k.AddPackageWithResponse(ctx, in)); err != nil {
			return err
		}
	}
	fmt.Printf("%s %s is in the library.\n", made.Content.Name, made.Content.Version)
	return nil
}
