package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

func tokenCommand() *cli.Command {
	return &cli.Command{Name: "token", Usage: "make, list and revoke your API tokens", Commands: []*cli.Command{{
		Name: "add", Usage: "make an API token; its secret is printed this once", ArgsUsage: "NAME",
		Flags: []cli.Flag{&cli.IntFlag{Name: "days", Value: 90, Usage: "days until it expires, at most 365"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if !c.Args().Present() {
				return errors.New("what is it for? moor token add NAME")
			}
			t, err := client.Made(k.AddTokenWithResponse(ctx, api.NewToken{Name: c.Args().First(), Days: c.Int("days")}))
			if err == nil {
				fmt.Println(t.Secret)
			}
			return err
		},
	}, {
		Name: "list", Usage: "list your API tokens, newest first", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			page, err := client.Result(k.ListTokensWithResponse(ctx, &api.ListTokensParams{}))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(page)
			}
			t := newTable("ID", "NAME", "MADE", "LAST USED", "STATE")
			for _, k := range page.Items {
				used := "never"
				if k.LastUsedAt != nil {
					used = ago(*k.LastUsedAt)
				}
				t.row(k.ID.String(), k.Name, ago(k.CreatedAt), used, tokenState(k.RevokedAt, k.ExpiresAt, false))
			}
			return t.flush()
		},
	}, {
		Name: "revoke", Usage: "revoke an API token, at once", ArgsUsage: "ID",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := identified(c)
			if err != nil {
				return err
			}
			return client.Done(k.RevokeTokenWithResponse(ctx, id))
		},
	}}}
}
