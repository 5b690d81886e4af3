package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

func signInsCommand() *cli.Command {
	return &cli.Command{Name: "sign-ins", Usage: "list where you are signed in with a browser, and end one", Commands: []*cli.Command{{
		Name: "list", Usage: "list them, the one used last first", ArgsUsage: "[EMAIL]", Flags: listFlags(),
		Description: "With the e-mail address of somebody else their sign-ins, for who may manage people.",
		Action: func(ctx context.Context, c *cli.Command) error {
			var all *api.SignInList
			var err error
			if c.Args().Present() {
				k, p, failed := staffNamed(ctx, c)
				if failed != nil {
					return failed
				}
				all, err = client.Result(k.ListPersonSignInsWithResponse(ctx, p.ID))
			} else {
				k, failed := dial()
				if failed != nil {
					return failed
				}
				all, err = client.Result(k.ListSignInsWithResponse(ctx))
			}
			if err != nil {
				return err
			}
			heads := []string{"ID", "FROM", "WITH", "SIGNED IN", "LAST USED"}
			return list(c, client.Each(all.Items), 0, heads, func(s api.SignInEntry) []string {
				used := "never"
				if s.LastUsedAt != nil {
					used = ago(*s.LastUsedAt)
				}
				return []string{s.ID.String(), s.Address, s.Browser, ago(s.CreatedAt), used}
			})
		},
	}, {
		Name: "end", Usage: "end one of yours, by its id", ArgsUsage: "ID",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := identified(c)
			if err != nil {
				return err
			}
			return client.Done(k.EndSignInWithResponse(ctx, id))
		},
	}, {
		Name: "end-all", Usage: "end every sign-in of a person", ArgsUsage: "EMAIL",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := staffNamed(ctx, c)
			if err != nil {
				return err
			}
			return client.Done(k.EndPersonSignInsWithResponse(ctx, p.ID))
		},
	}, {
		Name: "policy", Usage: "tell whether a second factor is required, or say so", ArgsUsage: "[optional|required]",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			var p *api.SignInPolicy
			if c.Args().Present() {
				p, err = client.Result(k.SetSignInPolicyWithResponse(ctx,
					api.SignInPolicy{SecondFactor: api.SignInPolicySecondFactor(c.Args().First())}))
			} else {
				p, err = client.Result(k.GetSignInPolicyWithResponse(ctx))
			}
			if err == nil {
				fmt.Printf("A second factor is %s.\n", p.SecondFactor)
			}
			return err
		},
	}}}
}
