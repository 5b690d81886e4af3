package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

func eventsCommand() *cli.Command {
	return &cli.Command{
		Name:          "events",
		Usage:         "read and follow the event logs of a device, unseen by its user",
		ArgsUsage:     "NAME [LOG]",
		Description:   "Without LOG the first of the device's logs is read; --logs lists them.",
		ShellComplete: completeDevices,
		Flags: []cli.Flag{&cli.BoolFlag{Name: "json", Usage: "print one JSON object a line"},
			&cli.BoolFlag{Name: "logs", Usage: "list the device's logs"},
			&cli.BoolFlag{Name: "follow", Usage: "print what comes, too, until Ctrl+C"},
			&cli.StringFlag{Name: "level",
				Usage: "this `LEVEL` and worse: emergency, alert, critical, error, warning, notice, info, debug"},
			&cli.StringFlag{Name: "unit", Usage: "only of this `SOURCE`"},
			&cli.StringFlag{Name: "text", Usage: "only messages that match this `PATTERN` (RE2)"},
			&cli.DurationFlag{Name: "since", Usage: "how far back, such as 2h"},
			&cli.IntFlag{Name: "last", Value: 50, Usage: "at most so many of the past"}},
		Action: readEvents,
	}
}

func readEvents(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	q := link.EventQuery{Source: c.Args().Get(1), Level: c.String("level"), Unit: c.String("unit"), Text: c.String("text"),
		Last: c.Int("last"), Follow: c.Bool("follow")}
	if since := c.Duration("since"); since > 0 {
		q.Since = time.Now().Add(-since)
	}
	if q.Source == "" || c.Bool("logs") {
		list, err := client.Result(k.ListEventSourcesWithResponse(ctx, d.ID))
		if err != nil {
			return err
		}
		if c.Bool("logs") {
			t := newTable("LOG", "KIND", "TITLE")
			for _, s := range list.Items {
				t.row(s.Name, s.Kind, s.Title)
			}
			return t.flush()
		}
		if len(list.Items) == 0 {
			return fmt.Errorf("%s has no log that its agent can read", d.Name)
		}
		q.Source = list.Items[0].Name
	}
	r, err := k.ReadEvents(ctx, d.ID, q)
	return client.Lines(ctx, r, err, "while the log was read", func(b link.EventBatch) (bool, error) {
		for _, e := range b.Events {
			if c.Bool("json") {
				text, err := jsonLine(e)
				if err != nil {
					return false, err
				}
				fmt.Println(text)
				continue
			}
			fmt.Printf("%s %-9s %s: %s\n", e.At.Local().Format("2006-01-02 15:04:05"), e.Level, device.CleanText(e.Unit),
				device.CleanText(e.Message))
		}
		if b.Skipped > 0 {
			fmt.Fprintf(os.Stderr, "%d events were left out, as they came too fast.\n", b.Skipped)
		}
		return b.Done, nil
	})
}
