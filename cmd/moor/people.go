package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
)

func peopleCommand() *cli.Command {
	return &cli.Command{
		Name:  "people",
		Usage: "see who is signed in at a device, and reach them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list who is signed in", ArgsUsage: "NAME", Flags: listFlags(), ShellComplete: completeDevices,
				Action: func(ctx context.Context, c *cli.Command) error {
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					all, err := client.Result(k.ListPresenceWithResponse(ctx, d.ID))
					if err != nil {
						return err
					}
					heads := []string{"SESSION", "NAME", "KIND", "WHERE", "IDLE", "LOCKED"}
					return listOr(c, client.Each(all.Items), 0, "Nobody is signed in.", heads, func(p link.Presence) []string {
						idle := ""
						if p.IdleSeconds >= 0 {
							idle = lasted(time.Duration(p.IdleSeconds) * time.Second)
						}
						return []string{p.Session, p.Name, p.Kind, p.Where, idle, map[bool]string{true: "yes"}[p.Locked]}
					})
				}},
			{Name: "message", Usage: "show a message and wait for an answer", ArgsUsage: "NAME TEXT", ShellComplete: completeDevices,
				Flags: []cli.Flag{jsonFlag, &cli.StringSliceFlag{Name: "button", Usage: "an `ANSWER` to choose from, at most three"},
					&cli.StringFlag{Name: "session"}, &cli.DurationFlag{Name: "wait", Value: 2 * time.Minute, Usage: "how long it stays"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.NArg() != 2 {
						return errors.New("moor people message NAME TEXT")
					}
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					a, err := client.Result(k.ShowMessageWithResponse(ctx, d.ID,
						link.Message{Text: c.Args().Get(1), Buttons: c.StringSlice("button"), Session: c.String("session"),
							Seconds: int(c.Duration("wait").Seconds())}))
					if err != nil {
						return err
					}
					switch {
					case c.Bool("json"):
						return printJSON(a)
					case a.Answer != "":
						fmt.Printf("%s answered: %s\n", cmp.Or(a.By, "They"), a.Answer)
					default:
						fmt.Println("No answer: " + a.Reason)
						return exitStatus(1)
					}
					return nil
				}},
			{Name: "clipboard", Usage: "put a text on the clipboard of the person at the device", ArgsUsage: "NAME TEXT",
				Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: func(ctx context.Context, c *cli.Command) error {
					if c.NArg() != 2 {
						return errors.New("moor people clipboard NAME TEXT")
					}
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					o, err := client.Result(k.SetClipboardWithResponse(ctx, d.ID, link.Clip{Text: c.Args().Get(1)}))
					return outcome(c, o, err)
				}},
		},
	}
}
