package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
)

// agentCommand is about the agents of devices: how they are installed, and which releases there are.
func agentCommand() *cli.Command {
	return &cli.Command{Name: "agent", Usage: "tell how devices are given the agent, and which releases of it there are",
		Commands: []*cli.Command{{
			Name: "add", Usage: "make a token for devices of a site, and tell what to run on them",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "organisation", Required: true, Usage: "where the devices belong"},
				&cli.StringFlag{Name: "site", Required: true, Usage: "where they stand"},
				&cli.IntFlag{Name: "uses", Value: 1, Usage: "how many devices may enrol with it"},
				&cli.IntFlag{Name: "hours", Value: 24, Usage: "hours until it expires"},
				approval,
				&cli.StringFlag{Name: "system", Value: "linux", Usage: "`SYSTEM` of the devices: linux, macos or windows"},
				&cli.StringFlag{Name: "installer", Usage: "write a `FILE` for Windows that installs the agent and asks nothing"},
				&cli.StringFlag{Name: "file", Usage: "write an enrolment `FILE` in place of a command, for packages and machines without " +
					"a browser"},
				&cli.StringSliceFlag{Name: "without", Usage: "a capability that the agent never offers there, such as screen"},
				&cli.StringFlag{Name: "proxy", Usage: "HTTP proxy that the devices reach the service through"},
			},
			Action: addAgent,
		}, {
			Name: "move", Usage: "move a device to another site; its history stays with it", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.StringFlag{Name: "organisation", Required: true, Usage: "where it will belong"},
				&cli.StringFlag{Name: "site", Required: true, Usage: "where it will stand"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				return client.Done(k.MoveDeviceWithResponse(ctx, d.ID,
					api.NewSite{Organisation: c.String("organisation"), Site: c.String("site")}))
			},
		}, {
			Name: "conflicts", Usage: "list computers of which is asked whether they are the device that they seem to be, or whether to " +
				"let them in", Flags: []cli.Flag{jsonFlag},
			Action: listConflicts,
		}, {
			Name: "settle", Usage: "say whether the computer that is asked about is the device", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "same", Usage: "it is: in another body, or back with a new system"},
				&cli.BoolFlag{Name: "another", Usage: "it is another: a copy is enrolled anew as a device of its own"}},
			Action: resolveConflict,
		}, {
			Name: "admit", Usage: "let new devices in that wait for it", ArgsUsage: "NAME…",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "every one that waits"}},
			Action: func(ctx context.Context, c *cli.Command) error { return decide(ctx, c, true) },
		}, {
			Name: "refuse", Usage: "retire new devices that wait to be let in", ArgsUsage: "NAME…",
			Action: func(ctx context.Context, c *cli.Command) error { return decide(ctx, c, false) },
		}, {
			Name: "code", Usage: "tell the removal code of a protected device's agent; it goes on record", ArgsUsage: "NAME",
			Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				code, err := client.Result(k.GetRemovalCodeWithResponse(ctx, d.ID))
				if err != nil {
					return err
				}
				fmt.Printf("At the device: moor-agent uninstall --code %s\n", code.Code)
				return nil
			},
		}, {
			Name: "releases", Usage: "list the releases that devices are installed from, the latest first", Flags: []cli.Flag{jsonFlag},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, err := dial()
				if err != nil {
					return err
				}
				all, err := client.Result(k.ListAgentReleasesWithResponse(ctx))
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return printJSON(all)
				}
				s, err := load()
				if err != nil {
					return err
				}
				t := newTable("RELEASE", "SYSTEM", "KIND", "SIZE", "FROM")
				for _, r := range all.Items {
					for _, f := range r.Files {
						t.row(r.Version, f.OS+"/"+f.Arch, f.Kind, health.Bytes(f.Size), s.URL+f.Path)
					}
				}
				return t.flush()
			},
		}}}
}

// listConflicts lists what is asked about the identity of computers.
func listConflicts(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	return listOr(c, questions(ctx, k, nil), 0, "Nothing is asked about the identity of a computer.",
		[]string{"DEVICE", "ASKED", "WHAT IS ASKED"},
		func(q api.IdentityQuestion) []string { return []string{q.Name, ago(q.AskedAt), conflict(q)} })
}

// questions are those of one kind, or all.
func questions(ctx context.Context, k *client.Client, kind *api.ListIdentityQuestionsParamsKind) iter.Seq2[api.IdentityQuestion, error] {
	return client.Pages(func(cursor *string) (*api.IdentityQuestionPage, error) {
		return client.Result(k.ListIdentityQuestionsWithResponse(ctx, &api.ListIdentityQuestionsParams{Cursor: cursor, Kind: kind}))
	})
}

// decide lets new devices in, or retires them.
func decide(ctx context.Context, c *cli.Command, admit bool) error {
	names, every := c.Args().Slice(), admit && c.Bool("all")
	if every == (len(names) > 0) {
		return errors.New("name the devices: moor agent conflicts lists who waits")
	}
	k, err := dial()
	if err != nil {
		return err
	}
	kind := api.ListIdentityQuestionsParamsKindEnrolled
	waiting, err := client.All(questions(ctx, k, &kind))
	if err != nil {
		return err
	}
	for _, name := range names {
		var ids []string
		for _, q := range waiting {
			if q.Name == name || q.Device.String() == name {
				ids = append(ids, q.Device.String())
			}
		}
		switch {
		case len(ids) == 0:
			return fmt.Errorf("0 devices named %q wait to be let in; moor agent conflicts lists who waits", name)
		case len(ids) > 1:
			return fmt.Errorf("%d devices named %q wait to be let in; name one by its id: %s", len(ids), name, strings.Join(ids, ", "))
		}
	}
	for _, q := range waiting {
		if !every && !slices.Contains(names, q.Name) && !slices.Contains(names, q.Device.String()) {
			continue
		}
		if err := client.Done(k.AnswerIdentityQuestionWithResponse(ctx, q.Device,
			api.IdentityAnswer{Question: q.ID, Same: admit})); err != nil {
			return fmt.Errorf("%s: %w", q.Name, err)
		}
		if admit {
			fmt.Printf("%s is let in when it asks next, within a minute.\n", q.Name)
		} else {
			fmt.Printf("%s is refused and retired.\n", q.Name)
		}
	}
	return nil
}

func conflict(q api.IdentityQuestion) string {
	if q.Kind == api.IdentityQuestionKindEnrolled {
		return fmt.Sprintf("it is new, for %s of %s, and came from %s: let it in?", q.Site, q.Organisation, q.Address)
	}
	if q.Kind == api.IdentityQuestionKindCopied {
		return fmt.Sprintf("%s at %s shows its identity on other hardware: the same device, or a copy?", q.HostName, q.Address)
	}
	return fmt.Sprintf("it has the hardware of %s: the same device?", q.OlderName)
}

func resolveConflict(ctx context.Context, c *cli.Command) error {
	if c.Bool("same") == c.Bool("another") {
		return errors.New("say --same or --another")
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	whole, err := client.Result(k.GetDeviceWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	if whole.Question == nil {
		return fmt.Errorf("nothing is asked about %s", d.Name)
	}
	q := whole.Question
	if q.Kind == api.IdentityQuestionKindEnrolled {
		return fmt.Errorf("%s is new: moor agent admit, or moor agent refuse", d.Name)
	}
	if err := client.Done(k.AnswerIdentityQuestionWithResponse(ctx, d.ID,
		api.IdentityAnswer{Question: q.ID, Same: c.Bool("same")})); err != nil {
		return err
	}
	switch {
	case q.Kind == api.IdentityQuestionKindReturned && c.Bool("same"):
		fmt.Printf("%s goes on as %s, with its history.\n", d.Name, q.OlderName)
	case q.Kind == api.IdentityQuestionKindReturned:
		fmt.Printf("%s and %s stay two devices.\n", d.Name, q.OlderName)
	case c.Bool("same"):
		fmt.Printf("%s is let in as %s when it asks next, within a minute.\n", q.HostName, d.Name)
	default:
		fmt.Printf("%s is enrolled anew when it asks next, within a minute.\n", q.HostName)
	}
	return nil
}
