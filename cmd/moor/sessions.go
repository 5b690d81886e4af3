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
		Flags:         listFlags(),
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			read := func(cursor *string) (*api.ToolSessionPage, error) {
				return client.Result(k.ListSessionsWithResponse(ctx, &api.ListSessionsParams{Cursor: cursor}))
			}
			if c.NArg() > 0 {
				d, err := k.Find(ctx, c.Args().First())
				if err != nil {
					return err
				}
				read = func(cursor *string) (*api.ToolSessionPage, error) {
					return client.Result(k.ListDeviceSessionsWithResponse(ctx, d.ID, &api.ListDeviceSessionsParams{Cursor: cursor}))
				}
			}
			rows := client.Pages(read)
			return list(c, rows, 0, []string{"BEGAN", "DEVICE", "TOOL", "WHO", "LASTED", "ACTIONS", "CONSENT"},
				func(s api.ToolSession) []string {
					end := s.LastAt
					if s.EndedAt != nil {
						end = *s.EndedAt
					}
					return []string{minute(s.BeganAt), s.Device, s.Tool, s.Actor, lasted(end.Sub(s.BeganAt)), fmt.Sprint(s.Actions),
						s.Consent}
				})
		},
	}
}
