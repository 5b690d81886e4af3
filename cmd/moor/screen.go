package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"image/png"
	"iter"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
)

// stillFor is how long a screen must not change to be taken for exact: longer than what is rough takes
// to be sent exactly.
const stillFor = 700 * time.Millisecond

// consoleDesktop begins the ID of a desktop that is a console of another computer.
const consoleDesktop = "console:"

func screenCommand() *cli.Command {
	return &cli.Command{Name: "screen", Usage: "list a device's desktops, and keep a picture of one", Commands: []*cli.Command{{
		Name: "list", Usage: "list the desktops of a device", ArgsUsage: "NAME", Flags: listFlags(),
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			all, err := client.Result(k.ListDesktopsWithResponse(ctx, d.ID))
			if err != nil {
				return err
			}
			heads := []string{"ID", "PERSON", "DESKTOP", "STATE"}
			return listOr(c, client.Each(all.Items), 0, "It has no desktop.", heads, func(one link.Desktop) []string {
				state := "in use"
				if strings.HasPrefix(one.ID, consoleDesktop) {
					state = "a console"
				}
				if one.Locked {
					state = "locked"
				}
				if one.Missing != "" {
					state = one.Missing
				}
				return []string{one.ID, one.Name, one.Title, state}
			})
		},
	}, {
		Name: "picture", Usage: "keep a picture of a desktop, after the person there allowed it", ArgsUsage: "NAME FILE",
		ShellComplete: completeDevices,
		Flags: []cli.Flag{&cli.StringFlag{Name: "desktop", Usage: "which `DESKTOP`, as moor screen list shows it"},
			&cli.DurationFlag{Name: "wait", Value: 10 * time.Second, Usage: "how long to wait for it to be still"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			path := c.Args().Get(1)
			if path == "" {
				return errors.New("give the file to write, such as screen.png")
			}
			if !strings.HasPrefix(c.String("desktop"), consoleDesktop) {
				fmt.Fprintf(os.Stderr, "The person at %s may be asked.\n", d.Name)
			}
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
	}, {
		Name: "add", Usage: "add a console that the device reaches over its network: of a virtual machine, a management board or " +
			"another server of RFB", ArgsUsage: "NAME CONSOLE ADDRESS", ShellComplete: completeDevices,
		Flags: []cli.Flag{&cli.BoolFlag{Name: "password", Usage: "ask for its password, or read it from the first line of standard input"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			in := api.NewConsole{Name: c.Args().Get(1), Address: c.Args().Get(2)}
			if in.Name == "" || in.Address == "" {
				return errors.New("give a name for the console and its address, such as: moor screen add hut-pi \"Board 7\" " +
					"board7.example:5900")
			}
			if c.Bool("password") {
				secret, err := askSecret(bufio.NewReader(os.Stdin))
				if err != nil {
					return err
				}
				in.Password = &secret
			}
			o, err := client.Made(k.AddConsoleWithResponse(ctx, d.ID, in))
			if err == nil {
				fmt.Printf("Added %s at %s. See it with: moor screen picture %s FILE --desktop console:%s\n", o.Name, o.Address, d.Name,
					o.ID)
			}
			return err
		},
	}, {
		Name: "remove", Usage: "remove a console", ArgsUsage: "NAME CONSOLE", ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			for o, err := range consoles(ctx, k, d.ID) {
				if err != nil {
					return err
				}
				if o.Name == c.Args().Get(1) {
					return client.Done(k.RemoveConsoleWithResponse(ctx, d.ID, o.ID))
				}
			}
			return fmt.Errorf("%s has no console named %q; moor screen list %s shows them", d.Name, c.Args().Get(1), d.Name)
		},
	}}}
}

func consoles(ctx context.Context, k *client.Client, id uuid.UUID) iter.Seq2[api.Console, error] {
	return client.Pages(func(cursor *string) (*api.ConsolePage, error) {
		return client.Result(k.ListConsolesWithResponse(ctx, id, &api.ListConsolesParams{Cursor: cursor}))
	})
}
