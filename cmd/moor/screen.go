package main

import (
	"context"
	"errors"
	"fmt"
	"image/png"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
)

// stillFor is how long a screen must not change to be taken for exact: longer than what is rough takes
// to be sent exactly.
const stillFor = 700 * time.Millisecond

func screenCommand() *cli.Command {
	return &cli.Command{Name: "screen", Usage: "list a device's desktops, and keep a picture of one", Commands: []*cli.Command{{
		Name: "list", Usage: "list the desktops of a device", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			list, err := client.Result(k.ListDesktopsWithResponse(ctx, d.ID))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(list)
			}
			t := newTable("ID", "PERSON", "DESKTOP", "STATE")
			for _, one := range list.Items {
				state := "in use"
				if one.Locked {
					state = "locked"
				}
				if one.Missing != "" {
					state = one.Missing
				}
				t.row(one.ID, one.Name, one.Title, state)
			}
			return t.flush()
		},
	}, {
		Name: "picture", Usage: "keep a picture of a desktop, after the person there allowed it", ArgsUsage: "NAME FILE", ShellComplete: completeDevices,
		Flags: []cli.Flag{&cli.StringFlag{Name: "desktop", Usage: "which `DESKTOP`, as moor screen list shows it"}, &cli.DurationFlag{Name: "wait", Value: 10 * time.Second, Usage: "how long to wait for it to be still"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			path := c.Args().Get(1)
			if path == "" {
				return errors.New("give the file to write, such as screen.png")
			}
			fmt.Fprintf(os.Stderr, "The person at %s may be asked.\n", d.Name)
			s, err := k.Screen(ctx, d.ID, client.ScreenOptions{Desktop: c.String("desktop"), Mode: "view"})
			if err != nil {
				return err
			}
			defer s.Close()
			if err := s.Still(ctx, stillFor, c.Duration("wait")); err != nil {
				return err
			}
			f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			if err := errors.Join(png.Encode(f, s.Picture()), f.Close()); err != nil {
				return err
			}
			fmt.Printf("%s, %d × %d.\n", path, s.Picture().W, s.Picture().H)
			return nil
		},
	}}}
}
