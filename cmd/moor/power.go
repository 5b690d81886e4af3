package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
)

func powerCommand() *cli.Command {
	action := func(name, usage string, session bool) *cli.Command {
		args := "NAME"
		if session {
			args = "NAME SESSION"
		}
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, ShellComplete: completeDevices,
			Flags: []cli.Flag{jsonFlag, &cli.DurationFlag{Name: "in", Usage: "after this time, at most 1h"},
				&cli.StringFlag{Name: "message", Usage: "what the person at the device is told"},
				&cli.BoolFlag{Name: "wait", Usage: "wait until the device is back"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				began := time.Now()
				o, err := client.Result(k.ChangePowerWithResponse(ctx, d.ID,
					link.PowerAction{Action: name, Session: c.Args().Get(1), DelaySeconds: int(c.Duration("in").Seconds()),
						Message: c.String("message")}))
				if err := outcome(c, o, err); err != nil || !c.Bool("wait") {
					return err
				}
				return awaitBack(ctx, k, d, began)
			}}
	}
	return &cli.Command{
		Name:  "power",
		Usage: "restart or end a device, or a session on it: the person there notices",
		Commands: []*cli.Command{action(link.PowerRestart, "restart it", false),
			action(link.PowerFirmware, "restart it into its firmware's settings", false),
			action(link.PowerRecovery, "restart it into its recovery or safe mode", false),
			action(link.PowerOff, "shut it down", false), action(link.PowerCancel, "call off what was to come", false),
			action(link.PowerLogOff, "sign a session out", true), action(link.PowerLock, "lock a session", true),
			{Name: "wake", Usage: "wake it through its neighbours (Wake-on-LAN)", ArgsUsage: "NAME", ShellComplete: completeDevices,
				Action: func(ctx context.Context, c *cli.Command) error {
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					r, err := client.Result(k.WakeDeviceWithResponse(ctx, d.ID))
					if err == nil {
						fmt.Printf("%s (by %s)\n", r.Message, strings.Join(r.By, ", "))
					}
					return err
				}}},
	}
}

// backWithin is how long a restarted device is waited for.
const backWithin = 30 * time.Minute

func awaitBack(ctx context.Context, k *client.Client, d *api.Device, began time.Time) error {
	asked := ctx
	ctx, cancel := context.WithTimeout(ctx, backWithin)
	defer cancel()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			if asked.Err() != nil {
				return context.Canceled
			}
			return fmt.Errorf("%s was not back within %s", d.Name, backWithin)
		case <-tick.C:
		}
		now, err := k.Device(ctx, d.ID)
		if err == nil && now.Device.Online && now.Device.Since.After(began) {
			fmt.Printf("It is back, after %s.\n", time.Since(began).Round(time.Second))
			return nil
		}
	}
}
