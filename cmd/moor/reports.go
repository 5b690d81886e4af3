package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
)

func reportsCommand() *cli.Command {
	organisation := &cli.StringFlag{Name: "organisation", Usage: "only devices of this `ORGANISATION`; all where it is left out"}
	days := &cli.IntFlag{Name: "days", Value: 30, Usage: "of how many `DAYS` it tells"}
	return &cli.Command{Name: "reports", Usage: "how current the devices are, and reports to hand to others", Commands: []*cli.Command{{
		Name: "compliance", Usage: "show how current the devices are, by site and by day", Flags: []cli.Flag{jsonFlag, organisation, days},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			in := api.GetComplianceParams{Days: new(c.Int("days"))}
			if in.Organisation, err = organisationOf(ctx, k, c.String("organisation")); err != nil {
				return err
			}
			all, err := client.Result(k.GetComplianceWithResponse(ctx, &in))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(all)
			}
			t := newTable("SITE", "DEVICES", "CURRENT", "SHARE", "LATE", "EXPLOITED", "MISSING")
			for _, x := range append(all.Sites, patch.NamedTally{Name: "all", Tally: all.Now}) {
				t.row(x.Name, fmt.Sprintf("%7d", x.Tally.Devices), fmt.Sprintf("%7d", x.Tally.Current), shareOf(x.Tally),
					fmt.Sprintf("%4d", x.Tally.Late), fmt.Sprintf("%9d", x.Tally.Exploited), fmt.Sprintf("%7d", x.Tally.Missing))
			}
			if err := t.flush(); err != nil {
				return err
			}
			fmt.Println()
			t = newTable("DAY", "DEVICES", "CURRENT", "SHARE", "LATE")
			for _, d := range all.Days {
				t.row(d.Day.Format("2006-01-02"), fmt.Sprintf("%7d", d.Tally.Devices), fmt.Sprintf("%7d", d.Tally.Current),
					shareOf(d.Tally), fmt.Sprintf("%4d", d.Tally.Late))
			}
			return t.flush()
		},
	}, {
		Name: "make", Usage: "make a report on updates as a file, of HTML or PDF by its name", ArgsUsage: "FILE",
		Flags: []cli.Flag{organisation, days},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			name := c.Args().First()
			in := api.MakeReportParams{Days: new(c.Int("days")),
				Format: api.MakeReportParamsFormat(strings.TrimPrefix(strings.ToLower(filepath.Ext(name)), "."))}
			if in.Format != api.HTML && in.Format != api.Pdf {
				return errors.New("name a file that ends in .html or .pdf: moor reports make updates.pdf")
			}
			if in.Organisation, err = organisationOf(ctx, k, c.String("organisation")); err != nil {
				return err
			}
			answer, err := k.MakeReport(ctx, &in)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				return client.Refusal(answer)
			}
			f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
			if err != nil {
				return err
			}
			n, err := io.Copy(f, answer.Body)
			if err = errors.Join(err, f.Close()); err == nil {
				fmt.Printf("%s: %d bytes\n", name, n)
			}
			return err
		},
	}, {
		Name: "list", Usage: "list the reports that are sent by e-mail", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := schedules(ctx, k)
			return list(c, rows, 0, []string{"REPORT", "ABOUT", "TO", "WHEN", "NEXT", "SENT", "PROBLEM"},
				func(r api.ReportSchedule) []string {
					name, next, sent, problem := "all organisations", "", "", ""
					if r.OrganisationName != nil {
						name = *r.OrganisationName
					}
					if r.NextAt != nil {
						next = minute(*r.NextAt)
					}
					if r.SentAt != nil {
						sent = ago(*r.SentAt)
					}
					if r.Problem != nil {
						problem = *r.Problem
					}
					return []string{r.Schedule.Name, name, strings.Join(r.Schedule.To, ", "),
						calendar.Words(r.Schedule.When.Rule), next, sent, problem}
				})
		},
	}, {
		Name: "schedule", Usage: "have a report sent by e-mail; one of the same name is changed", ArgsUsage: "NAME",
		Flags: []cli.Flag{organisation, days, &cli.StringSliceFlag{Name: "to", Required: true, Usage: "e-mail `ADDRESS`"},
			&cli.StringFlag{Name: "start", Required: true, Usage: "the first time, such as 2026-12-01T07:00"},
			&cli.StringFlag{Name: "rule", Value: "FREQ=MONTHLY", Usage: "when again, as an `RRULE` of RFC 5545; empty for once"},
			&cli.StringFlag{Name: "zone", Usage: "of these times, such as Europe/Vienna; UTC where it is left out"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			in := api.NewReportSchedule{Name: c.Args().First(), To: c.StringSlice("to"), Days: c.Int("days"),
				When: calendar.Window{Start: c.String("start"), Rule: c.String("rule"), Zone: c.String("zone"), Minutes: 1}}
			if in.Organisation, err = organisationOf(ctx, k, c.String("organisation")); err != nil {
				return err
			}
			old, err := scheduleNamed(ctx, k, in.Name)
			if err != nil {
				return err
			}
			var made *api.ReportSchedule
			if old != nil {
				made, err = client.Result(k.SetReportScheduleWithResponse(ctx, old.ID, in))
			} else {
				made, err = client.Made(k.AddReportScheduleWithResponse(ctx, in))
			}
			if err != nil {
				return err
			}
			if made.NextAt == nil {
				fmt.Println("It is not sent any more: its time is over.")
				return nil
			}
			fmt.Printf("%s is sent to %s, next at %s.\n", device.CleanText(made.Schedule.Name),
				device.CleanLong(strings.Join(made.Schedule.To, ", "), 500), minute(*made.NextAt))
			return nil
		},
	}, scheduleAction("send", "send a report now", func(ctx context.Context, k *client.Client, id uuid.UUID) error {
		r, err := client.Result(k.SendReportWithResponse(ctx, id))
		if err == nil {
			fmt.Printf("Sent to %s.\n", device.CleanLong(strings.Join(r.Schedule.To, ", "), 500))
		}
		return err
	}), scheduleAction("unschedule", "send a report no more", func(ctx context.Context, k *client.Client, id uuid.UUID) error {
		return client.Done(k.RemoveReportScheduleWithResponse(ctx, id))
	})}}
}

func scheduleAction(name, usage string, do func(ctx context.Context, k *client.Client, id uuid.UUID) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Action: func(ctx context.Context, c *cli.Command) error {
		k, err := dial()
		if err != nil {
			return err
		}
		r, err := scheduleNamed(ctx, k, c.Args().First())
		if err == nil && r == nil {
			err = fmt.Errorf("no report %q is sent; moor reports list shows them", c.Args().First())
		}
		if err != nil {
			return err
		}
		return do(ctx, k, r.ID)
	}}
}

func schedules(ctx context.Context, k *client.Client) func(yield func(api.ReportSchedule, error) bool) {
	return client.Pages(func(cursor *string) (*api.ReportSchedulePage, error) {
		return client.Result(k.ListReportSchedulesWithResponse(ctx, &api.ListReportSchedulesParams{Cursor: cursor}))
	})
}

// scheduleNamed finds one by its name; nil where there is none.
func scheduleNamed(ctx context.Context, k *client.Client, name string) (*api.ReportSchedule, error) {
	for r, err := range schedules(ctx, k) {
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(r.Schedule.Name, name) {
			return &r, nil
		}
	}
	return nil, nil
}

func shareOf(t patch.Tally) string {
	if t.Devices == 0 {
		return ""
	}
	return fmt.Sprintf("%4.0f %%", t.Share())
}

// organisationOf is the one of a name; nil for none.
func organisationOf(ctx context.Context, k *client.Client, name string) (*uuid.UUID, error) {
	if name == "" {
		return nil, nil
	}
	scope, err := scopeNamed(ctx, k, health.Organisation, name)
	if err != nil {
		return nil, err
	}
	id, err := uuid.Parse(scope.ID)
	return &id, err
}
