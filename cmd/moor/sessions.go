package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

func sessionsCommand() *cli.Command {
	return &cli.Command{
		Name:          "sessions",
		Usage:         "list who worked on a device, with which tool and whose consent",
		ArgsUsage:     "[NAME]",
		Flags:         []cli.Flag{jsonFlag},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			var read func(cursor *string) ([]api.ToolSession, *string, error)
			if c.NArg() > 0 {
				d, err := k.Find(ctx, c.Args().First())
				if err != nil {
					return err
				}
				read = func(cursor *string) ([]api.ToolSession, *string, error) {
					page, err := client.Result(k.ListDeviceSessionsWithResponse(ctx, d.ID, &api.ListDeviceSessionsParams{Cursor: cursor}))
					if err != nil {
						return nil, nil, err
					}
					return page.Items, page.Next, nil
				}
			} else {
				read = func(cursor *string) ([]api.ToolSession, *string, error) {
					page, err := client.Result(k.ListSessionsWithResponse(ctx, &api.ListSessionsParams{Cursor: cursor}))
					if err != nil {
						return nil, nil, err
					}
					return page.Items, page.Next, nil
				}
			}
			rows := client.Pages(read)
			if c.Bool("json") {
				return jsonList(rows)
			}
			t := newTable("BEGAN", "DEVICE", "TOOL", "WHO", "LASTED", "ACTIONS", "CONSENT")
			for s, err := range rows {
				if err != nil {
					return err
				}
				end := s.LastAt
				if s.EndedAt != nil {
					end = *s.EndedAt
				}
				t.row(minute(s.BeganAt), s.Device, s.Tool, s.Actor, lasted(end.Sub(s.BeganAt)), fmt.Sprint(s.Actions), s.Consent)
			}
			return t.flush()
		},
	}
}
