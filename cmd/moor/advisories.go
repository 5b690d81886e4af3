package main

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
)

func advisoriesCommand() *cli.Command {
	return &cli.Command{Name: "advisories", Usage: "what is known to be weak in the fleet's software", Commands: []*cli.Command{{
		Name: "list", Usage: "list the advisories about the fleet's software: what is exploited first, then by score",
		Flags: listFlags(&cli.StringFlag{Name: "search", Usage: "only those with this `TEXT` in their id, summary or software"},
			&cli.BoolFlag{Name: "exploited", Usage: "only what is known to be exploited"},
			&cli.StringFlag{Name: "device", Usage: "only those about software of this `DEVICE`"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			in := api.ListAdvisoriesParams{}
			if s := c.String("search"); s != "" {
				in.Search = &s
			}
			if c.Bool("exploited") {
				in.Exploited = new(true)
			}
			if s := c.String("device"); s != "" {
				d, err := k.Find(ctx, s)
				if err != nil {
					return err
				}
				in.Device = &d.ID
			}
			rows := client.Pages(func(cursor *string) (*api.AdvisoryPage, error) {
				in.Cursor = cursor
				return client.Result(k.ListAdvisoriesWithResponse(ctx, &in))
			})
			return listOr(c, rows, 40, "No advisory is about this fleet; moor advisories import brings some.",
				[]string{"ADVISORY", "SCORE", "EXPLOITED", "DEVICES", "SOFTWARE", "MENDED BY", "SUMMARY"}, func(a api.Advisory) []string {
					return []string{a.ID, scoreOf(a), exploitedOf(a), fmt.Sprintf("%7d", a.Devices), strings.Join(a.Packages, ", "),
						mendsOf(a), a.Summary}
				})
		},
	}, {
		Name: "show", Usage: "show an advisory, the devices that it is about, and what mends it", ArgsUsage: "ADVISORY",
		Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if !c.Args().Present() {
				return errors.New("name the advisory by its id, or by another of its names: moor advisories show CVE-2026-0001")
			}
			one, err := client.Result(k.GetAdvisoryWithResponse(ctx, c.Args().First()))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(one)
			}
			a := one.Advisory
			facts := [][2]string{{"Advisory", strings.Join(append([]string{a.ID}, a.Aliases...), ", ")}, {"Summary", a.Summary},
				{"Score", strings.TrimSpace(scoreOf(a)) + "  " + one.Vector}, {"Exploited", exploitedOf(a)}, {"Mended by", mendsOf(a)},
				{"Feed", a.Feed}, {"Details", one.Details}}
			for _, l := range one.Links {
				facts = append(facts, [2]string{"More", l})
			}
			for _, f := range facts {
				if strings.TrimSpace(f[1]) != "" {
					fmt.Printf("%-11s %s\n", f[0], device.CleanLong(f[1], 4000))
				}
			}
			fmt.Println()
			t := newTable("DEVICE", "SITE", "HAS", "MENDED IN")
			for d, err := range client.Pages(func(cursor *string) (*api.WeakDevicePage, error) {
				return client.Result(k.ListAdvisoryDevicesWithResponse(ctx, a.ID, &api.ListAdvisoryDevicesParams{Cursor: cursor}))
			}) {
				if err != nil {
					return err
				}
				for _, s := range d.Software {
					t.row(d.Device, d.Organisation+", "+d.Site, s.Name+" "+s.Version, s.Fixed)
				}
			}
			return t.flush()
		},
	}, {
		Name: "import", Usage: "import OSV or CSAF documents, or a list of what is known to be exploited", ArgsUsage: "FILE or FOLDER",
		Flags: []cli.Flag{&cli.StringFlag{Name: "feed", Required: true, Usage: "`NAME` of the feed that they are kept as"},
			&cli.BoolFlag{Name: "whole", Usage: "it is all of the feed: what is not in it is forgotten"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			body, err := feedFile(c.Args().First())
			if err != nil {
				return err
			}
			defer body.Close()
			f, err := client.Result(k.ImportFeedWithBodyWithResponse(ctx, c.String("feed"),
				&api.ImportFeedParams{Whole: new(c.Bool("whole"))}, "application/octet-stream", body))
			if err != nil {
				return err
			}
			fmt.Printf("%s now has %s, and %s of lists of what is exploited.\n", device.CleanText(f.Name),
				countedAs(f.Advisories, "advisory", "advisories"), countedAs(f.Exploited, "entry", "entries"))
			if f.Refused > 0 {
				fmt.Printf("%s could not be used:\n", counted(f.Refused, "document"))
			}
			for _, why := range f.Refusals {
				fmt.Println("  " + device.CleanLong(why, 300))
			}
			return awaitCompared(ctx, k, f.Name)
		},
	}, {
		Name: "feeds", Usage: "list the feeds that were imported", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := feeds(ctx, k)
			return list(c, rows, 0, []string{"FEED", "ADVISORIES", "EXPLOITED", "REFUSED", "IMPORTED", "BY"}, func(f api.Feed) []string {
				return []string{f.Name, fmt.Sprintf("%10d", f.Advisories), fmt.Sprintf("%9d", f.Exploited), fmt.Sprintf("%7d", f.Refused),
					ago(f.ImportedAt), f.ImportedBy}
			})
		},
	}, {
		Name: "forget", Usage: "forget a feed with its advisories", ArgsUsage: "FEED",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return client.Done(k.RemoveFeedWithResponse(ctx, c.Args().First()))
		},
	}}}
}

func feeds(ctx context.Context, k *client.Client) func(yield func(api.Feed, error) bool) {
	return client.Pages(func(cursor *string) (*api.FeedPage, error) {
		return client.Result(k.ListFeedsWithResponse(ctx, &api.ListFeedsParams{Cursor: cursor}))
	})
}

// awaitCompared waits until all software was compared with what was imported, and tells how far that is.
func awaitCompared(ctx context.Context, k *client.Client, name string) error {
	for shown := false; ; shown = true {
		left := 0
		for f, err := range feeds(ctx, k) {
			if err != nil {
				return err
			}
			if f.Name == name {
				left = f.Pending
			}
		}
		if left == 0 {
			fmt.Println("All software was compared with it; moor advisories list shows what was found.")
			return nil
		}
		if shown {
			fmt.Fprintf(os.Stderr, "%s still to be compared\n", counted(left, "piece"))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// feedFile opens a file, or the documents of a folder as a zip that is made as it is read.
func feedFile(name string) (io.ReadCloser, error) {
	if name == "" {
		return nil, errors.New("name a file or a folder: moor advisories import --feed distribution advisories.json")
	}
	is, err := os.Stat(name)
	if err != nil || !is.IsDir() {
		return os.Open(name)
	}
	out, in := io.Pipe()
	go func() {
		z := zip.NewWriter(in)
		err := z.AddFS(os.DirFS(name))
		in.CloseWithError(errors.Join(err, z.Close()))
	}()
	return out, nil
}

func scoreOf(a api.Advisory) string {
	if a.Score == 0 {
		return string(a.Severity)
	}
	return fmt.Sprintf("%4.1f %s", a.Score, a.Severity)
}

func exploitedOf(a api.Advisory) string {
	switch {
	case a.Exploited == nil:
		return ""
	case a.Exploited.Since.IsZero():
		return "yes"
	}
	return "since " + a.Exploited.Since.Format(time.DateOnly)
}

func mendsOf(a api.Advisory) string {
	var all []string
	for _, u := range a.Updates {
		all = append(all, u.Name+" "+u.To)
	}
	return strings.Join(all, ", ")
}
