package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
)

func attentionCommand() *cli.Command {
	return &cli.Command{
		Name:  "attention",
		Usage: "list what needs a person now, worst first",
		Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := client.Pages(func(cursor *string) (*api.AttentionPage, error) {
				return client.Result(k.ListAttentionWithResponse(ctx, &api.ListAttentionParams{Cursor: cursor}))
			})
			heads := []string{"LEVEL", "SINCE", "WHERE", "WHAT, WHAT MAY BE BEHIND IT, AND THE NEXT STEP"}
			return listOr(c, rows, 0, "Nothing needs a person now.", heads, func(a api.Attention) []string {
				where := subjectOf(a.Alert)
				if a.Alike != nil {
					where = alikeOf(where, *a.Alike)
				}
				cells := []string{string(a.Alert.Level), since(a.Alert.Since), where, a.Alert.Message}
				if s := suspectOf(a.Alert.Suspect); s != "" {
					cells = append(cells, "", "", "", "suspect: "+s)
				}
				return append(cells, "", "", "", "next: "+a.NextStep)
			})
		},
	}
}

// alikeOf is what several alerts are about that are one matter.
func alikeOf(first string, others []api.Alike) string {
	devices := map[string]bool{first: true}
	for _, a := range others {
		devices[a.Device] = true
	}
	if len(devices) == 1 {
		return fmt.Sprintf("%s, %d alerts", first, 1+len(others))
	}
	return fmt.Sprintf("%d devices, first %s", len(devices), first)
}

// subjectOf is what an alert is about: its device, or its site.
func subjectOf(a api.Alert) string {
	if a.Device != nil {
		return *a.Device
	}
	return a.Site
}

func suspectOf(s *api.Suspect) string {
	if s == nil {
		return ""
	}
	return fmt.Sprintf("%s (%.0f×)", s.Summary, s.Odds)
}

func alertsCommand() *cli.Command {
	return &cli.Command{
		Name:      "alerts",
		Usage:     "list alerts, the latest first",
		ArgsUsage: "[NAME]",
		Flags: listFlags(&cli.StringFlag{Name: "state", Value: "current",
			Usage: "current, open, acknowledged, snoozed, resolved or all"},
			&cli.StringFlag{Name: "check", Usage: "only those of this check, such as disk"}),
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			params := api.ListAlertsParams{}
			if state := c.String("state"); state != "all" {
				params.State = &state
			}
			if check := c.String("check"); check != "" {
				params.Check = &check
			}
			if c.Args().Present() {
				d, err := k.Find(ctx, c.Args().First())
				if err != nil {
					return err
				}
				params.Device = &d.ID
			}
			rows := client.Pages(func(cursor *string) (*api.AlertPage, error) {
				params.Cursor = cursor
				return client.Result(k.ListAlertsWithResponse(ctx, &params))
			})
			return list(c, rows, 200, []string{"ALERT", "LEVEL", "STATE", "WHERE", "WHAT", "OPENED", "ASSIGNED TO"},
				func(a api.Alert) []string {
					return []string{a.ID.String()[:8], string(a.Level), alertState(a), subjectOf(a), a.Message, ago(a.OpenedAt),
						orEmpty(a.Assignee)}
				})
		},
	}
}

func alertState(a api.Alert) string {
	s := string(a.State)
	if a.SnoozedUntil != nil {
		s += " until " + a.SnoozedUntil.Local().Format("2 Jan 15:04")
	}
	if a.Muted {
		s += ", muted"
	}
	if a.Flapping {
		s += ", flapping"
	}
	return s
}

func orEmpty(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func alertCommand() *cli.Command {
	note := &cli.StringFlag{Name: "note", Usage: "what others should know"}
	handle := func(name, usage, action string, flags []cli.Flag, fill func(c *cli.Command, in *api.AlertAction) error) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "ALERT", Flags: append(flags, note, jsonFlag),
			Action: func(ctx context.Context, c *cli.Command) error {
				k, id, err := alertArgument(ctx, c)
				if err != nil {
					return err
				}
				in := api.AlertAction{Action: action}
				if text := c.String("note"); text != "" {
					in.Text = &text
				}
				if fill != nil {
					if err := fill(c, &in); err != nil {
						return err
					}
				}
				a, err := client.Result(k.HandleAlertWithResponse(ctx, id, in))
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return printJSON(a)
				}
				fmt.Printf("%s: %s is %s.\n", device.CleanText(subjectOf(*a)), device.CleanText(strings.TrimSuffix(a.Message, ".")),
					alertState(*a))
				return nil
			}}
	}
	return &cli.Command{
		Name:        "alert",
		Usage:       "show and handle one alert",
		Description: "An alert is named by its id, or by the beginning of it that moor alerts shows.",
		Commands: []*cli.Command{
			{Name: "show", Usage: "show an alert with all that happened to it, and its suspects", ArgsUsage: "ALERT",
				Flags: []cli.Flag{jsonFlag}, Action: showAlert},
			handle("acknowledge", "take notice of an alert", "acknowledge", nil, nil),
			handle("snooze", "put an alert off for a while", "snooze",
				[]cli.Flag{&cli.DurationFlag{Name: "for", Value: 4 * time.Hour, Usage: "how long, at most 720h"}},
				func(c *cli.Command, in *api.AlertAction) error {
					until := time.Now().Add(c.Duration("for"))
					in.Until = &until
					return nil
				}),
			handle("assign", "give an alert to someone", "assign",
				[]cli.Flag{&cli.StringFlag{Name: "to", Usage: "e-mail of who sees to it; nobody when left out"}},
				func(c *cli.Command, in *api.AlertAction) error {
					to := c.String("to")
					in.Assignee = &to
					return nil
				}),
			handle("note", "write a note on an alert, with --note", "note", nil, func(c *cli.Command, in *api.AlertAction) error {
				if in.Text == nil {
					return errors.New("write the note with --note TEXT")
				}
				return nil
			}),
			handle("resolve", "say that an alert is over", "resolve", nil, nil),
		},
	}
}

// alertArgument finds the alert that the first argument names by its id, or the beginning of it.
func alertArgument(ctx context.Context, c *cli.Command) (*client.Client, uuid.UUID, error) {
	k, err := dial()
	if err != nil {
		return nil, uuid.Nil, err
	}
	name := strings.ToLower(c.Args().First())
	if name == "" {
		return nil, uuid.Nil, errors.New("which alert? give its id, as moor alerts shows it")
	}
	if id, err := uuid.Parse(name); err == nil {
		return k, id, nil
	}
	var found []uuid.UUID
	params := api.ListAlertsParams{}
	limit := 500
	params.Limit = &limit
	page, err := client.Result(k.ListAlertsWithResponse(ctx, &params))
	if err != nil {
		return nil, uuid.Nil, err
	}
	for _, a := range page.Items {
		if strings.HasPrefix(a.ID.String(), name) {
			found = append(found, a.ID)
		}
	}
	switch len(found) {
	case 0:
		return nil, uuid.Nil, fmt.Errorf("none of the latest 500 alerts has an id that begins with %s: give the whole id", name)
	case 1:
		return k, found[0], nil
	}
	return nil, uuid.Nil, fmt.Errorf("%d alerts have an id that begins with %s: give more of it", len(found), name)
}

func showAlert(ctx context.Context, c *cli.Command) error {
	k, id, err := alertArgument(ctx, c)
	if err != nil {
		return err
	}
	whole, err := client.Result(k.GetAlertWithResponse(ctx, id))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(whole)
	}
	a := whole.Alert
	t := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	line := func(name, format string, args ...any) {
		fmt.Fprintf(t, "%s\t%s\n", name, device.CleanText(fmt.Sprintf(format, args...)))
	}
	line(device.CleanText(subjectOf(a)), "%s, %s", a.Level, alertState(a))
	line("what", "%s", a.Message)
	line("where", "%s, %s", a.Organisation, a.Site)
	line("since", "%s (%s)", ago(a.Since), a.Since.Local().Format("2 Jan 15:04"))
	line("next step", "%s", whole.NextStep)
	if a.Assignee != nil {
		line("assigned to", "%s", *a.Assignee)
	}
	if s := a.Suspect; s != nil {
		line("suspect", "%s, %s", suspectOf(s), ago(s.At))
	}
	for _, p := range whole.Parts {
		line("  part", "%s: %s", subjectOf(p), p.Message)
	}
	for _, e := range whole.Events {
		line("  "+e.At.Local().Format("2 Jan 15:04:05"), "%s by %s. %s", e.Kind, e.Actor, e.Detail)
	}
	line("id", "%s", a.ID)
	return t.Flush()
}

func suspectsCommand() *cli.Command {
	return &cli.Command{
		Name: "suspects", Usage: "rank the changes before an alert by how likely they are behind it", ArgsUsage: "ALERT",
		Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := alertArgument(ctx, c)
			if err != nil {
				return err
			}
			list, err := client.Result(k.ListSuspectsWithResponse(ctx, id))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(list)
			}
			if len(list.Items) == 0 {
				fmt.Printf("No suspect among %d changes. %s\n", list.Checked, list.WhyNone)
				return nil
			}
			t := newTable("CHANGE", "WHEN", "ODDS", "95 % INTERVAL", "WITH IT", "WITHOUT IT")
			for _, s := range list.Items {
				t.row(s.Summary, ago(s.At), fmt.Sprintf("%.1f×", s.Odds), fmt.Sprintf("%.1f to %.1f", s.Low, s.High),
					fmt.Sprintf("%d of %d have the alert", s.ChangedWith, s.ChangedWith+s.ChangedWithout),
					fmt.Sprintf("%d of %d", s.OthersWith, s.OthersWith+s.OthersWithout))
			}
			return t.flush()
		},
	}
}
