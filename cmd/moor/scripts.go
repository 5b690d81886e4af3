package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/script"
)

func scripts(ctx context.Context, k *client.Client) iter.Seq2[api.Script, error] {
	return client.Pages(func(cursor *string) ([]api.Script, *string, error) {
		page, err := client.Result(k.ListScriptsWithResponse(ctx, &api.ListScriptsParams{Cursor: cursor}))
		if err != nil {
			return nil, nil, err
		}
		return page.Items, page.Next, nil
	})
}

// findScript finds a script of the library by its name; case does not count.
func findScript(ctx context.Context, k *client.Client, name string) (api.Script, error) {
	for s, err := range scripts(ctx, k) {
		if err != nil || strings.EqualFold(s.Content.Name, name) {
			return s, err
		}
	}
	return api.Script{}, fmt.Errorf("the library has no script %q; moor scripts list shows them", name)
}

func scriptsCommand() *cli.Command {
	return &cli.Command{Name: "scripts", Usage: "the library of scripts that jobs run", Commands: []*cli.Command{{
		Name: "list", Usage: "list the library", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return jsonList(scripts(ctx, k))
			}
			t := newTable("NAME", "VERSION", "FOR", "ASKS FOR", "CHANGED", "BY")
			for s, err := range scripts(ctx, k) {
				if err != nil {
					return err
				}
				systems := s.Content.Systems
				if len(systems) == 0 {
					systems = script.Interpreters[s.Content.Interpreter].Systems
				}
				var asks []string
				for _, p := range s.Content.Parameters {
					name := p.Name
					if p.Required {
						name += "*"
					}
					asks = append(asks, name)
				}
				t.row(s.Content.Name, fmt.Sprint(s.Version), s.Content.Interpreter+" on "+strings.Join(systems, ", "), strings.Join(asks, " "), s.ChangedAt.Local().Format("2006-01-02 15:04"), s.ChangedBy)
			}
			return t.flush()
		},
	}, {
		Name: "export", Usage: "write a script's file, or print it", ArgsUsage: "NAME [FILE]",
		Flags: []cli.Flag{&cli.IntFlag{Name: "version", Usage: "as it was as this `VERSION`"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, s, err := scriptOf(ctx, c)
			if err == nil && c.Int("version") > 0 {
				var old *api.Script
				if old, err = client.Result(k.GetScriptWithResponse(ctx, s.ID, &api.GetScriptParams{Version: new(c.Int("version"))})); err == nil {
					s = *old
				}
			}
			if err != nil {
				return err
			}
			path := c.Args().Get(1)
			if path == "" {
				_, err = os.Stdout.WriteString(s.File)
				return err
			}
			f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o755)
			if err != nil {
				return err
			}
			_, err = f.WriteString(s.File)
			return errors.Join(err, f.Close())
		},
	}, {
		Name: "import", Usage: "take scripts from their files into the library; one of the same name becomes a new version", ArgsUsage: "FILE...",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return errors.New("give the files; moor scripts export shows how one looks")
			}
			k, err := dial()
			if err != nil {
				return err
			}
			for _, path := range c.Args().Slice() {
				if err := importScript(ctx, k, path); err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
			}
			return nil
		},
	}, {
		Name: "versions", Usage: "list what a script was", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, s, err := scriptOf(ctx, c)
			if err != nil {
				return err
			}
			t := newTable("VERSION", "LINES", "CHANGED", "BY")
			for v, err := range client.Pages(func(cursor *string) ([]api.Script, *string, error) {
				page, err := client.Result(k.ListScriptVersionsWithResponse(ctx, s.ID, &api.ListScriptVersionsParams{Cursor: cursor}))
				if err != nil {
					return nil, nil, err
				}
				return page.Items, page.Next, nil
			}) {
				if err != nil {
					return err
				}
				t.row(fmt.Sprint(v.Version), fmt.Sprint(strings.Count(v.Content.Body, "\n")), v.ChangedAt.Local().Format("2006-01-02 15:04"), v.ChangedBy)
			}
			return t.flush()
		},
	}, {
		Name: "changes", Usage: "print what the latest version changed, or what two versions differ in", ArgsUsage: "NAME [BEFORE AFTER]",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, s, err := scriptOf(ctx, c)
			if err != nil {
				return err
			}
			return printChanges(c, func(version int) (int, string, error) {
				one, err := client.Result(k.GetScriptWithResponse(ctx, s.ID, versionParam[api.GetScriptParams](version)))
				if err != nil {
					return 0, "", err
				}
				return one.Version, one.File, nil
			})
		},
	}, {
		Name: "try", Usage: "run a script that is not in the library on one device", ArgsUsage: "FILE DEVICE",
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "set", Usage: "a parameter, as `NAME=VALUE`"}, &cli.StringSliceFlag{Name: "ask", Usage: "ask for the secret parameter of this `NAME`"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return errors.New("give the script's file and the device: moor scripts try mine.sh hay-desk-01")
			}
			text, err := os.ReadFile(c.Args().First())
			if err != nil {
				return err
			}
			s, err := script.Parse(text)
			if err != nil {
				return err
			}
			k, err := dial()
			if err != nil {
				return err
			}
			d, err := k.Find(ctx, c.Args().Get(1))
			if err != nil {
				return err
			}
			values, err := given(c, s.Parameters)
			if err != nil {
				return err
			}
			j, err := client.Made(k.AddJobWithResponse(ctx, api.NewJob{Draft: new(string(text)), Devices: &[]uuid.UUID{d.ID}, Values: &values}))
			if err != nil {
				return err
			}
			return followJob(ctx, k, j.ID)
		},
	}, {
		Name: "remove", Usage: "remove a script from the library", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, s, err := scriptOf(ctx, c)
			if err != nil {
				return err
			}
			return client.Done(k.RemoveScriptWithResponse(ctx, s.ID))
		},
	}}}
}

// scriptOf finds the script that a command names first.
func scriptOf(ctx context.Context, c *cli.Command) (*client.Client, api.Script, error) {
	name := c.Args().First()
	if name == "" {
		return nil, api.Script{}, errors.New("name a script; moor scripts list shows them")
	}
	k, err := dial()
	if err != nil {
		return nil, api.Script{}, err
	}
	s, err := findScript(ctx, k, name)
	return k, s, err
}

func importScript(ctx context.Context, k *client.Client, path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if info.Size() > 2*script.MaxBytes {
		return fmt.Errorf("it has %d bytes, and 1 MiB may be", info.Size())
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	s, err := script.Parse(text)
	if err != nil {
		return err
	}
	var made *api.Script
	if old, found := findScript(ctx, k, s.Name); found == nil {
		made, err = client.Result(k.SetScriptWithResponse(ctx, old.ID, api.NewScript{Content: &s}))
	} else {
		made, err = client.Made(k.AddScriptWithResponse(ctx, api.NewScript{Content: &s}))
	}
	if err == nil {
		fmt.Printf("%s, version %d.\n", made.Content.Name, made.Version)
	}
	return err
}
