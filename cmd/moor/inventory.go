package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
)

// groups gives all groups, by name.
func groups(ctx context.Context, k *client.Client) iter.Seq2[api.Group, error] {
	return client.Pages(func(cursor *string) (*api.GroupPage, error) {
		return client.Result(k.ListGroupsWithResponse(ctx, &api.ListGroupsParams{Cursor: cursor}))
	})
}

func findGroup(ctx context.Context, k *client.Client, name string) (api.Group, error) {
	for g, err := range groups(ctx, k) {
		if err != nil || strings.EqualFold(g.Name, name) {
			return g, err
		}
	}
	return api.Group{}, fmt.Errorf("there is no group %q: moor groups list shows them", name)
}

func inventoryCommand() *cli.Command {
	return &cli.Command{
		Name: "inventory", Usage: "show what a device consists of, as last known", ArgsUsage: "NAME", ShellComplete: completeDevices,
		Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "section", Usage: "only this section, such as software"},
			&cli.BoolFlag{Name: "take", Usage: "have the device take it now"},
			&cli.StringFlag{Name: "export", Usage: "write it as csv or cyclonedx"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			if format := c.String("export"); format != "" {
				f := api.GetInventoryParamsFormat(format)
				r, err := k.GetInventoryWithResponse(ctx, d.ID, &api.GetInventoryParams{Format: &f})
				if err := client.Done(r, err); err != nil {
					return err
				}
				_, err = os.Stdout.Write(r.Body)
				return err
			}
			var v *api.Inventory
			if c.Bool("take") {
				v, err = client.Result(k.TakeInventoryWithResponse(ctx, d.ID))
			} else {
				v, err = client.Result(k.GetInventoryWithResponse(ctx, d.ID, &api.GetInventoryParams{}))
			}
			if err != nil {
				return err
			}
			if section := c.String("section"); section != "" {
				v.Items = slices.DeleteFunc(v.Items, func(i api.InventoryItem) bool { return i.Section != section })
			}
			if c.Bool("json") {
				return printJSON(v)
			}
			if v.TakenAt == nil {
				return errors.New("the device has not told yet what it consists of")
			}
			t := newTable("SECTION", "NAME", "VERSION", "MORE")
			for _, i := range v.Items {
				var more []string
				for _, field := range slices.Sorted(maps.Keys(i.Fields)) {
					if field != "version" && field != "purl" {
						more = append(more, field+" "+i.Fields[field])
					}
				}
				t.row(i.Section, i.Name, i.Fields["version"], strings.Join(more, ", "))
			}
			if err := t.flush(); err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "As of %s.\n", ago(*v.TakenAt))
			return nil
		},
	}
}

func changesCommand() *cli.Command {
	return &cli.Command{
		Name: "changes", Usage: "list what changed on a device, or on all, the latest first", ArgsUsage: "[NAME]",
		ShellComplete: completeDevices,
		Flags: listFlags(&cli.StringFlag{Name: "section", Usage: "only this section, such as software"},
			&cli.DurationFlag{Name: "since", Value: 7 * 24 * time.Hour, Usage: "how far back"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			from := time.Now().Add(-c.Duration("since"))
			params := api.ListChangesParams{From: &from}
			if section := c.String("section"); section != "" {
				params.Section = &section
			}
			if c.Args().Present() {
				d, err := k.Find(ctx, c.Args().First())
				if err != nil {
					return err
				}
				params.Device = &d.ID
			}
			rows := client.Pages(func(cursor *string) (*api.ChangePage, error) {
				params.Cursor = cursor
				return client.Result(k.ListChangesWithResponse(ctx, &params))
			})
			return list(c, rows, 200, []string{"WHEN", "DEVICE", "SECTION", "WHAT"}, func(x api.Change) []string {
				return []string{ago(x.At), x.Device, x.Section, x.Summary}
			})
		},
	}
}

func softwareCommand() *cli.Command {
	return &cli.Command{
		Name: "software", Usage: "list the fleet's software with its versions and how many have each", ArgsUsage: "[PART OF A NAME]",
		Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			params := api.ListSoftwareParams{}
			if c.Args().Present() {
				search := c.Args().First()
				params.Search = &search
			}
			rows := client.Pages(func(cursor *string) (*api.SoftwarePage, error) {
				params.Cursor = cursor
				return client.Result(k.ListSoftwareWithResponse(ctx, &params))
			})
			return list(c, rows, 500, []string{"NAME", "DEVICES", "VERSIONS"}, func(s api.Software) []string {
				var versions []string
				for _, v := range s.Versions {
					versions = append(versions, fmt.Sprintf("%s (%d)", v.Version, v.Devices))
				}
				return []string{s.Name, fmt.Sprint(s.Devices), strings.Join(versions, ", ")}
			})
		},
	}
}

func sweepCommand() *cli.Command {
	return &cli.Command{
		Name: "sweep", Usage: "ask all online devices of a group something, now", ArgsUsage: "KIND [NAME]",
		Description: "KIND is process, service, port, file, registry, log-on, fact or item; for example\n\n" +
			"  moor sweep file 'C:\\Windows\\System32\\fenprint.dll' --digest --where 'os == \"windows\"'\n  moor sweep item 'openssl' " +
			"--group Servers",
		Flags: append(pickFlags(), jsonFlag,
			&cli.BoolFlag{Name: "digest", Usage: "of a file: its SHA-256"},
			&cli.StringFlag{Name: "section", Usage: "of an item: its inventory section"},
			&cli.IntFlag{Name: "seconds", Value: 20, Usage: "how long answers are waited for"},
			&cli.BoolFlag{Name: "each", Usage: "print each device's answer"}),
		Action: sweep,
	}
}

func sweep(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return errors.New("what is asked? moor sweep KIND NAME")
	}
	k, err := dial()
	if err != nil {
		return err
	}
	where, group, err := pick(ctx, c, k)
	if err != nil {
		return err
	}
	seconds := c.Int("seconds")
	in := api.Sweep{Where: where, Group: group, Seconds: &seconds,
		Question: link.Question{Kind: c.Args().Get(0), Name: c.Args().Get(1), Section: c.String("section"), Digest: c.Bool("digest")}}
	return tally(c, fmt.Sprintf("%d s", seconds), func(each func(api.SweepEvent) error) error { return k.Sweep(ctx, in, each) })
}

func standingCommand() *cli.Command {
	return &cli.Command{
		Name: "standing", Usage: "show where a device's reading or fact lies among others", ArgsUsage: "NAME READING",
		ShellComplete: completeDevices,
		Flags:         append(pickFlags(), jsonFlag),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			if c.Args().Len() < 2 {
				return errors.New("which reading? moor standing NAME cpu, or a fact such as os_version")
			}
			where, group, err := pick(ctx, c, k)
			if err != nil {
				return err
			}
			s, err := client.Result(k.GetStandingWithResponse(ctx, d.ID,
				&api.GetStandingParams{Of: strings.Join(c.Args().Tail(), " "), Where: where, Group: group}))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(s)
			}
			if s.Numeric {
				fmt.Printf("%s of %s: %.4g %s. %.0f %% of %d devices read less; the median is %.4g %s.\n", s.Title, d.Name, *s.Value,
					s.Unit, *s.Rank*100, s.Devices, *s.Median, s.Unit)
			} else {
				fmt.Printf("%s of %s: %s. %d devices compared.\n", s.Title, d.Name, *s.Text, s.Devices)
			}
			most := 1
			for _, b := range s.Bins {
				most = max(most, b.Count)
			}
			for _, b := range s.Bins {
				label := orEmpty(b.Text)
				if s.Numeric {
					label = fmt.Sprintf("%.4g", *b.From)
				}
				fmt.Printf("%s %14s  %5d %s\n", map[bool]string{true: "▶", false: " "}[b.Here], label, b.Count,
					strings.Repeat("▇", b.Count*40/most))
			}
			return nil
		},
	}
}
