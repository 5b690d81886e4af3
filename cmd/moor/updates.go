package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
)

func approvals(ctx context.Context, k *client.Client) iter.Seq2[api.Approval, error] {
	return client.Pages(func(cursor *string) (*api.ApprovalPage, error) {
		return client.Result(k.ListApprovalsWithResponse(ctx, &api.ListApprovalsParams{Cursor: cursor}))
	})
}

func updatesCommand() *cli.Command {
	return &cli.Command{Name: "updates", Usage: "what devices miss, and the rules that approve it", Commands: []*cli.Command{{
		Name: "list", Usage: "list what is missing, the most pressing first",
		Flags: listFlags(&cli.StringFlag{Name: "search", Usage: "only those with this `TEXT` in their name or title"},
			&cli.StringFlag{Name: "class", Usage: "only this `CLASS`: security, critical, feature, driver, definition, other"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			in := api.ListUpdatesParams{}
			if s := c.String("search"); s != "" {
				in.Search = &s
			}
			if s := c.String("class"); s != "" {
				in.Class = &s
			}
			rows := client.Pages(func(cursor *string) (*api.MissingUpdatePage, error) {
				in.Cursor = cursor
				return client.Result(k.ListUpdatesWithResponse(ctx, &in))
			})
			return list(c, rows, 0, []string{"UPDATE", "TO", "SOURCE", "CLASS", "SEVERITY", "DEVICES", "RELEASED", "APPROVALS"},
				func(x api.MissingUpdate) []string {
					return []string{x.Update.Name, x.Update.To, x.Update.Source, string(x.Update.Class), string(x.Update.Severity),
						fmt.Sprint(x.Devices),
						released(x.Update, x.FirstSeen), statesOf(x.States)}
				})
		},
	}, {
		Name: "show", Usage: "what a device misses, and what was installed", ArgsUsage: "DEVICE", ShellComplete: completeDevices,
		Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			d, err := k.Find(ctx, c.Args().First())
			if err != nil {
				return err
			}
			all, err := client.Result(k.GetDeviceUpdatesWithResponse(ctx, d.ID))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(all)
			}
			if all.ToldAt == nil {
				fmt.Println("The device has not told of updates yet.")
			}
			if all.Problem != nil {
				fmt.Println(device.CleanText(*all.Problem))
			}
			t := newTable("MISSING", "HAS", "TO", "CLASS", "SEVERITY", "RELEASED", "DECISION")
			for _, x := range all.Missing {
				why := x.Decision.State
				switch {
				case x.Update.Blocked != "":
					why = x.Update.Blocked
				case x.Decision.State == patch.Deferred:
					why += " until " + minute(x.Decision.From)
				case x.Decision.Why != "":
					why += ": " + x.Decision.Why
				case x.Decision.Rule != "":
					why += " by " + x.Decision.Rule
				}
				t.row(x.Update.Name, x.Update.From, x.Update.To, string(x.Update.Class), string(x.Update.Severity),
					released(x.Update, x.Since), why)
			}
			if err := t.flush(); err != nil || len(all.Patched) == 0 {
				return err
			}
			fmt.Println()
			t = newTable("INSTALLED", "FROM", "TO", "STATE", "AT", "RESTARTED", "BY ROLLOUT")
			for _, p := range all.Patched {
				restarted := ""
				if p.RestartedAt != nil {
					restarted = minute(*p.RestartedAt)
				}
				t.row(p.Name, *p.From, p.To, p.State, minute(*p.At), restarted, *p.Rollout)
			}
			return t.flush()
		},
	}, {
		Name: "ask", Usage: "have devices ask their sources of updates now, and wait for them",
		Flags: pickFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			var in api.UpdatesAsk
			if in.Where, in.Group, err = mustPick(ctx, c, k); err != nil {
				return err
			}
			asked, err := client.Made(k.AskUpdatesWithResponse(ctx, in))
			if err != nil {
				return err
			}
			return followJob(ctx, k, asked.JobID)
		},
	}, {
		Name: "rules", Usage: "list the rules that approve, hold or exclude updates", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return list(c, approvals(ctx, k), 0, []string{"RULE", "DOES", "SET FOR", "WHICH", "WHY", "UNTIL", "CHANGED BY"},
				func(a api.Approval) []string {
					until := ""
					if !a.Rule.Until.IsZero() {
						until = minute(a.Rule.Until)
					}
					return []string{a.Rule.Name, a.Rule.Do, strings.TrimSpace(scopeWords(a)), a.Rule.Which(), a.Rule.Reason, until,
						a.ChangedBy}
				})
		},
	}, decideCommand(patch.Approve, "approve updates by a rule"), decideCommand(patch.Hold, "hold updates for now by a rule"),
		decideCommand(patch.Exclude, "exclude updates by a rule"), {
			Name: "unrule", Usage: "remove a rule", ArgsUsage: "NAME",
			Action: func(ctx context.Context, c *cli.Command) error {
				k, err := dial()
				if err != nil {
					return err
				}
				a, err := ruleNamed(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				if a == nil {
					return fmt.Errorf("there is no rule %q; moor updates rules shows them", c.Args().First())
				}
				return client.Done(k.RemoveApprovalWithResponse(ctx, uuid.MustParse(a.Rule.ID)))
			},
		}}}
}

func scopeWords(a api.Approval) string {
	if a.Rule.Scope.ID == "" {
		return "everywhere"
	}
	return string(a.Rule.Scope.Kind) + " " + a.ScopeName
}

// ruleNamed finds a rule by its name; nil where there is none.
func ruleNamed(ctx context.Context, k *client.Client, name string) (*api.Approval, error) {
	for a, err := range approvals(ctx, k) {
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(a.Rule.Name, name) {
			return &a, nil
		}
	}
	return nil, nil
}

func decideCommand(do, usage string) *cli.Command {
	flags := []cli.Flag{&cli.StringSliceFlag{Name: "class", Usage: "of this `CLASS`"},
		&cli.StringFlag{Name: "severity", Usage: "of this `SEVERITY` at least: critical, high, medium, low"},
		&cli.StringSliceFlag{Name: "source", Usage: "from this `SOURCE`"},
		&cli.StringFlag{Name: "vendor", Usage: "with this `TEXT` in the name of the vendor"},
		&cli.StringFlag{Name: "title", Usage: "with this `TEXT` in the name or title"},
		&cli.StringSliceFlag{Name: "update", Usage: "of exactly this `NAME`"},
		&cli.StringFlag{Name: "site", Usage: "at devices of this site alone"},
		&cli.StringFlag{Name: "group", Usage: "at devices of this group alone"},
		&cli.StringFlag{Name: "until", Usage: "when the rule ends by itself, such as 2026-12-24T22:00:00Z"}}
	if do == patch.Approve {
		flags = append(flags, &cli.IntFlag{Name: "defer", Usage: "so many `DAYS` after the release"})
	} else {
		flags = append(flags, &cli.StringFlag{Name: "reason", Required: true, Usage: "why, for others who will ask"})
	}
	return &cli.Command{Name: do, Usage: usage + "; one of the same name is changed", ArgsUsage: "NAME", Flags: flags,
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return fmt.Errorf("name the rule: moor updates %s \"Security\" --class security", do)
			}
			k, err := dial()
			if err != nil {
				return err
			}
			r := patch.Rule{Name: c.Args().First(), Do: do, Severity: update.Severity(c.String("severity")),
				Sources: c.StringSlice("source"),
				Vendor:  c.String("vendor"), Title: c.String("title"), Names: c.StringSlice("update"), Reason: c.String("reason")}
			for _, class := range c.StringSlice("class") {
				r.Classes = append(r.Classes, update.Class(class))
			}
			if do == patch.Approve {
				r.DeferDays = c.Int("defer")
			}
			if s := c.String("until"); s != "" {
				if r.Until, err = time.Parse(time.RFC3339, s); err != nil {
					return errors.New("write until as 2026-12-24T22:00:00Z")
				}
			}
			if r.Scope, err = scopeOf(ctx, k, c.String("site"), c.String("group")); err != nil {
				return err
			}
			old, err := ruleNamed(ctx, k, r.Name)
			if err != nil {
				return err
			}
			var made *api.Approval
			if old != nil {
				made, err = client.Result(k.SetApprovalWithResponse(ctx, uuid.MustParse(old.Rule.ID), r))
			} else {
				made, err = client.Made(k.AddApprovalWithResponse(ctx, r))
			}
			if err == nil {
				fmt.Printf("%s: %s %s, %s.\n", device.CleanText(made.Rule.Name), made.Rule.Do, device.CleanText(made.Rule.Which()),
					device.CleanText(scopeWords(*made)))
			}
			return err
		}}
}

// released is how long ago an update was released, or first seen.
func released(u update.Update, seen time.Time) string {
	if u.Released.IsZero() {
		return "seen " + ago(seen)
	}
	return ago(u.Released)
}

// statesOf tells counts by state, those that ask for something first.
func statesOf(counts map[string]int) string {
	var out []string
	for _, s := range []string{patch.Undecided, patch.Held, patch.Excluded, patch.Deferred, patch.Approved, "failed", "running", "planned",
		"reverting", "missed", "installed", "patched", "reverted", "current"} {
		if n := counts[s]; n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, s))
		}
	}
	return strings.Join(out, ", ")
}

func exposureCommand() *cli.Command {
	return &cli.Command{Name: "exposure", Usage: "how far behind devices are, the most exposed first",
		Flags: listFlags(&cli.StringFlag{Name: "missing", Usage: "only devices that miss the update of this `NAME`"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			in := api.ListExposureParams{}
			if s := c.String("missing"); s != "" {
				in.Missing = &s
			}
			var totals api.ExposureTotals
			rows := client.Pages(func(cursor *string) (*api.ExposurePage, error) {
				in.Cursor = cursor
				page, err := client.Result(k.ListExposureWithResponse(ctx, &in))
				if err == nil {
					totals = page.Totals
				}
				return page, err
			})
			heads := []string{"DEVICE", "SITE", "SCORE", "SECURITY", "WORST", "OLDEST", "MISSING", "APPROVED", "PROBLEM"}
			err = list(c, rows, 30, heads, func(x api.DeviceExposure) []string {
				oldest, problem := "", ""
				if !x.Exposure.Oldest.IsZero() {
					oldest = ago(x.Exposure.Oldest)
				}
				if x.Problem != nil {
					problem = *x.Problem
				}
				return []string{x.Device, x.Organisation + ", " + x.Site, fmt.Sprintf("%5.0f", x.Exposure.Score),
					fmt.Sprintf("%8d", x.Exposure.Security), string(x.Exposure.Worst), oldest, fmt.Sprintf("%7d", x.Exposure.Missing),
					fmt.Sprintf("%8d", x.Approved), problem}
			})
			if err != nil || c.Bool("json") || c.Bool("csv") {
				return err
			}
			fmt.Printf("\n%s: %d miss no security update, %d miss a critical or high one, %s missing in all.\n",
				counted(totals.Devices, "device"), totals.Current, totals.Exposed, counted(totals.Security, "security update"))
			return nil
		}}
}
