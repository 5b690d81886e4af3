package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

func policiesCommand() *cli.Command {
	return &cli.Command{Name: "policies", Usage: "list, set and try the checks of devices", Commands: []*cli.Command{{
		Name: "list", Usage: "list policies by name", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := client.Pages(func(cursor *string) (*api.PolicyPage, error) {
				return client.Result(k.ListPoliciesWithResponse(ctx, &api.ListPoliciesParams{Cursor: cursor}))
			})
			return list(c, rows, 0, []string{"ID", "NAME", "SCOPE", "CHECKS", "CHANGED"}, func(y api.Policy) []string {
				var checks []string
				for _, s := range y.Settings {
					checks = append(checks, strings.TrimSpace(s.Check+" "+s.Subject))
				}
				if y.Responses != nil {
					for _, r := range *y.Responses {
						checks = append(checks, "response "+r.Name)
					}
				}
				return []string{y.ID.String(), y.Name, strings.TrimSpace(string(y.Scope.Kind) + " " + y.ScopeName),
					strings.Join(checks, ", "),
					ago(y.ChangedAt) + " by " + y.ChangedBy}
			})
		},
	}, {
		Name: "checks", Usage: "list what a device is judged by, with the policy each setting came from", ArgsUsage: "NAME",
		Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			list, err := client.Result(k.ListDeviceChecksWithResponse(ctx, d.ID))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(list.Items)
			}
			t := newTable("CHECK", "OF", "SETTING", "FROM")
			for _, r := range list.Items {
				from := r.Policy
				if from == "" {
					from = "usual"
				}
				t.row(r.Setting.Check, r.Setting.Subject, settingText(r.Setting), from)
			}
			return t.flush()
		},
	}, {
		Name: "set", Usage: "add a policy from a file, or change the one of an id", ArgsUsage: "[ID]",
		Description: "The file is JSON: {\"name\": …, \"scope\": {\"kind\": \"site\", \"id\": …}, \"settings\": [{\"check\": \"disk\",\n" +
			"\"above\": {\"warning\": 80, \"critical\": 90}, \"for_seconds\": 300}], \"responses\": [{\"name\": \"Restart it\", " +
			"\"check\": \"service\",\n" +
			"\"steps\": [{\"do\": \"restart-service\", \"watch\": 600}]}]}; moor policies list --json prints such.",
		Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "file", Required: true, Usage: "JSON `FILE`; - for standard input"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			var in api.NewPolicy
			if err := readJSON(c.String("file"), &in); err != nil {
				return err
			}
			k, err := dial()
			if err != nil {
				return err
			}
			var y *api.Policy
			if c.Args().Present() {
				id, err := uuid.Parse(c.Args().First())
				if err != nil {
					return errors.New("give the policy's id, as moor policies list shows it")
				}
				y, err = client.Result(k.SetPolicyWithResponse(ctx, id, in))
				if err != nil {
					return err
				}
			} else if y, err = client.Made(k.AddPolicyWithResponse(ctx, in)); err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(y)
			}
			fmt.Printf("%s holds for %s %s.\n", device.CleanText(y.Name), y.Scope.Kind, device.CleanText(y.ScopeName))
			return nil
		},
	}, {
		Name: "responses", Usage: "list what policies did by themselves when checks failed, the latest first", ArgsUsage: "[DEVICE]",
		ShellComplete: completeDevices,
		Flags:         listFlags(&cli.BoolFlag{Name: "open", Usage: "only what is under way"}),
		Action:        listResponses,
	}, {
		Name: "remove", Usage: "remove a policy", ArgsUsage: "ID",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := identified(c)
			if err != nil {
				return err
			}
			return client.Done(k.RemovePolicyWithResponse(ctx, id))
		},
	}, {
		Name: "try", Usage: "show what limits would have alerted about in the past", ArgsUsage: "CHECK",
		Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "of", Usage: "only this disk or sensor"},
			&cli.FloatFlag{Name: "warning", Usage: "limit of a warning"},
			&cli.FloatFlag{Name: "critical", Usage: "limit of a critical alert"},
			&cli.BoolFlag{Name: "below", Usage: "the limits are least values"},
			&cli.DurationFlag{Name: "for", Usage: "how long it must last"},
			&cli.IntFlag{Name: "days", Value: 7, Usage: "how far back, 1 to 90"},
			&cli.StringFlag{Name: "site", Usage: "only devices of this site, by its name"},
			&cli.StringFlag{Name: "group", Usage: "only devices of this group, by its name"}},
		Action: tryPolicy,
	}}}
}

func tryPolicy(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	if !c.Args().Present() {
		return errors.New("which check? moor policies try disk --warning 80")
	}
	limits := &health.Limits{}
	if c.IsSet("warning") {
		v := c.Float("warning")
		limits.Warning = &v
	}
	if c.IsSet("critical") {
		v := c.Float("critical")
		limits.Critical = &v
	}
	days := c.Int("days")
	in := api.Trial{Days: &days, Setting: health.Setting{Check: c.Args().First(), Subject: c.String("of"),
		ForSeconds: int(c.Duration("for").Seconds())}}
	if c.Bool("below") {
		in.Setting.Below = limits
	} else {
		in.Setting.Above = limits
	}
	if in.Scope, err = scopeOf(ctx, k, c.String("site"), c.String("group")); err != nil {
		return err
	}
	r, err := client.Result(k.TryPolicyWithResponse(ctx, in))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(r)
	}
	fmt.Printf("It would have alerted %d times in %d days, on %d of %d devices.\n", r.Alerts, days, r.Devices, r.Checked)
	if len(r.Items) == 0 {
		return nil
	}
	t := newTable("DEVICE", "READING", "LEVEL", "FROM", "LASTED")
	for _, e := range r.Items {
		t.row(e.Device, e.Reading, string(e.Level), e.From.Local().Format("2 Jan 15:04"), lasted(e.To.Sub(e.From)))
	}
	return t.flush()
}

// scopeOf is the scope of a site or group by its name, or everywhere.
func scopeOf(ctx context.Context, k *client.Client, site, group string) (health.Scope, error) {
	switch {
	case site != "" && group != "":
		return health.Scope{}, errors.New("give --site or --group, not both")
	case site != "":
		return scopeNamed(ctx, k, health.Site, site)
	case group != "":
		return scopeNamed(ctx, k, health.Group, group)
	}
	return health.Scope{Kind: health.Everywhere}, nil
}

// settingText says what a setting judges by.
func settingText(s health.Setting) string {
	if s.Off {
		return "off"
	}
	var parts []string
	side := func(word string, l *health.Limits) {
		if l == nil {
			return
		}
		for _, x := range []struct {
			level health.Level
			at    *float64
		}{{health.Notice, l.Notice}, {health.Warning, l.Warning}, {health.Critical, l.Critical}} {
			if x.at != nil {
				parts = append(parts, fmt.Sprintf("%s %s %s", x.level, word, strconv.FormatFloat(*x.at, 'g', 6, 64)))
			}
		}
	}
	side("from", s.Above)
	side("down from", s.Below)
	if s.Level != "" || len(parts) == 0 {
		parts = append(parts, cmp.Or(string(s.Level), string(health.Warning)))
	}
	if s.Pattern != "" {
		parts = append(parts, "pattern "+s.Pattern)
	}
	if s.ForSeconds > 0 {
		parts = append(parts, fmt.Sprintf("for %d s", s.ForSeconds))
	}
	return strings.Join(parts, ", ")
}

// readJSON reads a file, or standard input for "-". A name that is not known is an error.
func readJSON(name string, into any) error {
	in := io.Reader(os.Stdin)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	d := json.NewDecoder(io.LimitReader(in, 4<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("reading %s: %w", name, err)
	}
	return nil
}

func groupsCommand() *cli.Command {
	return &cli.Command{Name: "groups", Usage: "list, set and try groups of devices", Commands: []*cli.Command{{
		Name: "list", Usage: "list groups by name", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return list(c, groups(ctx, k), 0, []string{"NAME", "DEVICES", "OF", "EXPRESSION", "RESTS ON WHAT DEVICES SAY"},
				func(g api.Group) []string {
					of := "every organisation"
					if g.Organisation != nil {
						of = g.Organisation.String()[:8]
					}
					return []string{g.Name, fmt.Sprint(g.Devices), of, g.Expression, strings.Join(g.Reported, ", ")}
				})
		},
	}, {
		Name: "set", Usage: "make a group of an expression or of named devices, or change it", ArgsUsage: "GROUP [DEVICE ...]",
		Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "where", Usage: "a CEL `EXPR` that holds for its devices"},
			&cli.StringFlag{Name: "organisation", Usage: "whose devices it holds, by `NAME`; may be left out where there is one alone"},
			&cli.BoolFlag{Name: "global", Usage: "it holds devices of every organisation"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			in := api.NewGroup{Name: c.Args().First()}
			if where := c.String("where"); where != "" {
				in.Expression = &where
			}
			members := []uuid.UUID{}
			for _, name := range c.Args().Tail() {
				d, err := k.Find(ctx, name)
				if err != nil {
					return err
				}
				members = append(members, d.ID)
			}
			if in.Name == "" || (in.Expression == nil && len(members) == 0) || (in.Expression != nil && len(members) > 0) {
				return errors.New("name the group, and give --where or the names of devices")
			}
			in.Members = &members
			if c.Bool("global") {
				in.Global = new(true)
			}
			if name := c.String("organisation"); name != "" {
				of, err := scopeNamed(ctx, k, health.Organisation, name)
				if err != nil {
					return err
				}
				id, err := uuid.Parse(of.ID)
				if err != nil {
					return err
				}
				in.Organisation = &id
			}
			old, err := findGroup(ctx, k, in.Name)
			var g *api.Group
			if err == nil {
				g, err = client.Result(k.SetGroupWithResponse(ctx, old.ID, in))
			} else {
				g, err = client.Made(k.AddGroupWithResponse(ctx, in))
			}
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(g)
			}
			fmt.Printf("%s has %d devices.\n", device.CleanText(g.Name), g.Devices)
			return nil
		},
	}, {
		Name: "preview", Usage: "count the devices for which an expression holds", ArgsUsage: "EXPR", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			r, err := client.Result(k.PreviewGroupWithResponse(ctx, api.Expression{Expression: c.Args().First()}))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(r)
			}
			fmt.Printf("%d of %d devices", r.Count, r.Of)
			for i, d := range r.Items {
				fmt.Print(map[bool]string{true: ": ", false: ", "}[i == 0], device.CleanText(d.Name))
			}
			fmt.Println()
			return nil
		},
	}, {
		Name: "words", Usage: "list what an expression may use", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			r, err := client.Result(k.ListWordsWithResponse(ctx))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(r.Items)
			}
			t := newTable("WORD", "TYPE", "IS")
			for _, w := range r.Items {
				t.row(w.Name, w.Type, w.About)
			}
			return t.flush()
		},
	}, {
		Name: "remove", Usage: "remove a group", ArgsUsage: "GROUP",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			g, err := findGroup(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			return client.Done(k.RemoveGroupWithResponse(ctx, g.ID))
		},
	}}}
}

func listResponses(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	in := api.ListResponsesParams{Open: new(c.Bool("open"))}
	if c.Args().Present() {
		d, err := k.Find(ctx, c.Args().First())
		if err != nil {
			return err
		}
		in.Device = &d.ID
	}
	rows := client.Pages(func(cursor *string) (*api.ResponseRunPage, error) {
		in.Cursor = cursor
		return client.Result(k.ListResponsesWithResponse(ctx, &in))
	})
	return list(c, rows, 30, []string{"DEVICE", "CHECK", "RESPONSE", "POLICY", "STATE", "BEGAN", "HOW IT WENT"},
		func(r api.ResponseRun) []string {
			state := r.State
			if r.EndedAt == nil && r.Doing != nil {
				state = fmt.Sprintf("%s, %d of %d", r.State, r.Step, r.Steps)
			}
			return []string{r.DeviceName, strings.TrimSpace(r.Check + " " + r.Subject), r.Name, r.Policy, state, ago(r.BeganAt),
				strings.Join(r.Said, " ")}
		})
}
