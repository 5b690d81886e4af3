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

// scripts are those of the library.
var scripts = kind[api.Script]{
	word: "script",
	name: func(s api.Script) string { return s.Content.Name },
	list: func(ctx context.Context, k *client.Client) iter.Seq2[api.Script, error] {
		return client.Pages(func(cursor *string) (*api.ScriptPage, error) {
			return client.Result(k.ListScriptsWithResponse(ctx, &api.ListScriptsParams{Cursor: cursor}))
		})
	},
	version: func(ctx context.Context, k *client.Client, s api.Script, version int) (api.Script, error) {
		one, err := client.Result(k.GetScriptWithResponse(ctx, s.ID, &api.GetScriptParams{Version: versionParam(version)}))
		if err != nil {
			return s, err
		}
		return *one, nil
	},
	versions: func(ctx context.Context, k *client.Client, s api.Script) iter.Seq2[api.Script, error] {
		return client.Pages(func(cursor *string) (*api.ScriptPage, error) {
			return client.Result(k.ListScriptVersionsWithResponse(ctx, s.ID, &api.ListScriptVersionsParams{Cursor: cursor}))
		})
	},
	file:  func(s api.Script) (int, string) { return s.Version, s.File },
	heads: []string{"VERSION", "LINES", "CHANGED", "BY"},
	row: func(s api.Script) []string {
		return []string{fmt.Sprint(s.Version), fmt.Sprint(strings.Count(s.Content.Body, "\n")), minute(s.ChangedAt), s.ChangedBy}
	},
}

func scriptsCommand() *cli.Command {
	return &cli.Command{Name: "scripts", Usage: "the library of scripts that jobs run", Commands: []*cli.Command{{
		Name: "list", Usage: "list the library", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return list(c, scripts.list(ctx, k), 0, []string{"NAME", "VERSION", "FOR", "ASKS FOR", "CHANGED", "BY"},
				func(s api.Script) []string {
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
					return []string{s.Content.Name, fmt.Sprint(s.Version), s.Content.Interpreter + " on " + strings.Join(systems, ", "),
						strings.Join(asks, " "), minute(s.ChangedAt), s.ChangedBy}
				})
		},
	}, {
		Name: "export", Usage: "write a script's file, or print it", ArgsUsage: "NAME [FILE]",
		Flags: []cli.Flag{scripts.asOf()},
		Action: func(ctx context.Context, c *cli.Command) error {
			_, s, err := scripts.named(ctx, c)
			if err != nil {
				return err
			}
			path := c.Args().Get(1)
			if path == "" || path == "-" {
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
		Name: "import", Usage: "take scripts from their files into the library; one of the same name becomes a new version",
		ArgsUsage: "FILE...",
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
	}, scripts.versionsCommand(), scripts.changesCommand(), {
		Name: "try", Usage: "run a script that is not in the library on one device", ArgsUsage: "FILE DEVICE",
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "set", Usage: "a parameter, as `NAME=VALUE`"},
			&cli.StringSliceFlag{Name: "ask", Usage: "ask for the secret parameter of this `NAME`"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return errors.New("give the script's file and the device: moor scripts try mine.sh hay-desk-01")
			}
			text, err := readBounded(c.Args().First(), 2*script.MaxBytes)
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
			j, err := client.Made(k.AddJobWithResponse(ctx,
				api.NewJob{Draft: new(string(text)), Devices: &[]uuid.UUID{d.ID}, Values: &values}))
			if err != nil {
				return err
			}
			return followJob(ctx, k, j.ID)
		},
	}, scripts.dropCommand("remove a script from the library", func(ctx context.Context, k *client.Client, s api.Script) error {
		return client.Done(k.RemoveScriptWithResponse(ctx, s.ID))
	})}}
}

func importScript(ctx context.Context, k *client.Client, path string) error {
	text, err := readBounded(path, 2*script.MaxBytes)
	if err != nil {
		return err
	}
	s, err := script.Parse(text)
	if err != nil {
		return err
	}
	in := api.NewScript{Content: &s}
	made, err := scripts.put(ctx, k, s.Name, func() (*api.Script, error) { return client.Made(k.AddScriptWithResponse(ctx, in)) },
		func(old api.Script) (*api.Script, error) {
			return client.Result(k.SetScriptWithResponse(ctx, old.ID, in))
		})
	if err == nil {
		fmt.Printf("%s, version %d.\n", made.Content.Name, made.Version)
	}
	return err
}
