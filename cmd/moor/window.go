package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
)

func windowsCommand() *cli.Command {
	return &cli.Command{Name: "windows", Usage: "list, add and remove maintenance windows", Commands: []*cli.Command{{
		Name: "list", Usage: "list maintenance windows by name", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := client.Pages(func(cursor *string) (*api.WindowPage, error) {
				return client.Result(k.ListWindowsWithResponse(ctx, &api.ListWindowsParams{Cursor: cursor}))
			})
			return list(c, rows, 0, []string{"ID", "NAME", "SCOPE", "FIRST", "REPEATS", "MINUTES", "ZONE"}, func(w api.Window) []string {
				zone := w.Span.Zone
				if zone == "" {
					zone = "each device's own"
				}
				return []string{w.ID.String(), w.Name, strings.TrimSpace(string(w.Scope.Kind) + " " + w.ScopeName), w.Span.Start,
					calendar.Words(w.Span.Rule),
					fmt.Sprint(w.Span.Minutes), zone}
			})
		},
	}, {
		Name: "add", Usage: "add a maintenance window: alerts in it are kept, and told to nobody", ArgsUsage: "NAME",
		Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "start", Required: true, Usage: "first start, local time, as 2026-11-24T22:00"},
			&cli.DurationFlag{Name: "for", Value: 2 * time.Hour, Usage: "how long it lasts"},
			&cli.StringFlag{Name: "rule", Usage: "RRULE such as FREQ=WEEKLY;BYDAY=TU; once when left out"},
			&cli.StringFlag{Name: "zone", Usage: "time zone; each device's own when left out"},
			&cli.StringFlag{Name: "site", Usage: "only devices of this site, by its name"},
			&cli.StringFlag{Name: "group", Usage: "only devices of this group, by its name"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if !c.Args().Present() {
				return errors.New("name the window: moor windows add NAME --start 2026-11-24T22:00")
			}
			in := api.NewWindow{Name: c.Args().First(), Span: calendar.Window{Start: c.String("start"), Rule: c.String("rule"),
				Minutes: int(c.Duration("for").Minutes()), Zone: c.String("zone")}}
			if in.Scope, err = scopeOf(ctx, k, c.String("site"), c.String("group")); err != nil {
				return err
			}
			w, err := client.Made(k.AddWindowWithResponse(ctx, in))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(w)
			}
			fmt.Printf("%s holds for %s.\n", device.CleanText(w.Name),
				strings.TrimSpace(string(w.Scope.Kind)+" "+device.CleanText(w.ScopeName)))
			return nil
		},
	}, {
		Name: "remove", Usage: "remove a maintenance window", ArgsUsage: "ID",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := identified(c)
			if err != nil {
				return err
			}
			return client.Done(k.RemoveWindowWithResponse(ctx, id))
		},
	}}}
}
