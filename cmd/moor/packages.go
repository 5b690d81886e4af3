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

// packages are those of the library.
var packages = kind[api.Package]{
	word: "package",
	name: func(p api.Package) string { return p.Content.Name },
	list: func(ctx context.Context, k *client.Client) iter.Seq2[api.Package, error] {
		return client.Pages(func(cursor *string) (*api.PackagePage, error) {
			return client.Result(k.ListPackagesWithResponse(ctx, &api.ListPackagesParams{Cursor: cursor}))
		})
	},
	version: func(ctx context.Context, k *client.Client, p api.Package, version int) (api.Package, error) {
		one, err := client.Result(k.GetPackageWithResponse(ctx, p.ID, &api.GetPackageParams{Version: versionParam(version)}))
		if err != nil {
			return p, err
		}
		return *one, nil
	},
	versions: func(ctx context.Context, k *client.Client, p api.Package) iter.Seq2[api.Package, error] {
		return client.Pages(func(cursor *string) (*api.PackagePage, error) {
			return client.Result(k.ListPackageVersionsWithResponse(ctx, p.ID, &api.ListPackageVersionsParams{Cursor: cursor}))
		})
	},
	file:  func(p api.Package) (int, string) { return p.Version, p.File },
	heads: []string{"VERSION", "OF THE PACKAGE", "CHANGED", "BY"},
	row: func(p api.Package) []string {
		return []string{fmt.Sprint(p.Version), p.Content.Version, minute(p.ChangedAt), p.ChangedBy}
	},
}

func packagesCommand() *cli.Command {
	on := func(name, usage string, remove bool) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Flags: beginFlags(),
			Action: func(ctx context.Context, c *cli.Command) error {
				k, p, err := packages.named(ctx, c)
				if err != nil {
					return err
				}
				return begin(ctx, c, k, api.NewJob{Package: &p.ID, Remove: &remove}, p.Content.Parameters)
			}}
	}
	return &cli.Command{Name: "packages", Usage: "the library of packages: files and steps, installed and removed on many devices",
		Commands: []*cli.Command{{
			Name: "list", Usage: "list the library", Flags: listFlags(),
			Action: func(ctx context.Context, c *cli.Command) error {
				k, err := dial()
				if err != nil {
					return err
				}
				return list(c, packages.list(ctx, k), 0, []string{"NAME", "VERSION", "FOR", "STEPS", "FILES", "DEVICES", "CHANGED", "BY"},
					func(p api.Package) []string {
						devices := ""
						if p.Devices != nil {
							devices = fmt.Sprint(*p.Devices)
						}
						return []string{p.Content.Name, p.Content.Version, orAll(p.Content.Systems), fmt.Sprint(len(p.Content.Install)),
							fmt.Sprint(len(p.Content.Files)), devices, minute(p.ChangedAt), p.ChangedBy}
					})
			},
		}, {
			Name: "show", Usage: "print a package's file", ArgsUsage: "NAME",
			Flags: []cli.Flag{jsonFlag, packages.asOf()},
			Action: func(ctx context.Context, c *cli.Command) error {
				_, p, err := packages.named(ctx, c)
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
			Name: "add", Usage: "take packages from their files into the library; one of the same name becomes a new version",
			ArgsUsage: "FILE...",
			Description: "What a package brings is named under files, and may lie beside the file: then moor sends it to the\ncontent " +
				"store, and fills in its digest and size.",
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
		}, on("install", "install a package on the chosen devices, with what it needs", false),
			on("uninstall", "remove a package from the chosen devices", true), packages.versionsCommand(), packages.changesCommand(),
			packages.dropCommand("remove a package from the library; devices keep what was installed",
				func(ctx context.Context, k *client.Client, p api.Package) error {
					return client.Done(k.RemovePackageWithResponse(ctx, p.ID))
				}), {
				Name: "files", Usage: "list the content store: what packages bring", Flags: listFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					k, err := dial()
					if err != nil {
						return err
					}
					rows := client.Pages(func(cursor *string) (*api.ContentPage, error) {
						return client.Result(k.ListContentsWithResponse(ctx, &api.ListContentsParams{Cursor: cursor}))
					})
					return list(c, rows, 0, []string{"NAME", "SIZE", "THERE", "SHA-256", "BROUGHT BY"}, func(x api.Content) []string {
						there := "whole"
						if !x.Whole {
							there = fmt.Sprintf("%d %%", 100*x.Have/max(x.Size, 1))
						}
						return []string{x.Name, fmt.Sprint(x.Size), there, x.Sha256[:16], strings.Join(*x.Packages, ", ")}
					})
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
	text, err := readBounded(path, pack.MaxBytes)
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
	made, err := packages.put(ctx, k, p.Name, func() (*api.Package, error) { return client.Made(k.AddPackageWithResponse(ctx, in)) },
		func(old api.Package) (*api.Package, error) {
			return client.Result(k.SetPackageWithResponse(ctx, old.ID, in))
		})
	if err == nil {
		fmt.Printf("%s %s is in the library.\n", made.Content.Name, made.Content.Version)
	}
	return err
}
