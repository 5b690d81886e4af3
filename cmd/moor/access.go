package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
)

func tokenCommand() *cli.Command {
	person := &cli.StringFlag{Name: "person", Usage: "of this person, by `E-MAIL`; needs people.manage"}
	return &cli.Command{Name: "token", Usage: "make, list and revoke API tokens", Commands: []*cli.Command{{
		Name: "add", Usage: "make an API token of your own; asks for your password, and prints the secret this once", ArgsUsage: "NAME",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "days", Value: 90, Usage: "days until it expires, at most 365"},
			&cli.StringSliceFlag{Name: "permission", Usage: "what it may do, such as fleet.read; repeat it for more. All that you may " +
				"when left out"},
			&cli.StringFlag{Name: "scope", Usage: "where it may do so: organisation:NAME, site:NAME or group:NAME. Wherever you may " +
				"when left out"},
			&cli.StringFlag{Name: "email", Usage: "who you are; who is signed in when left out"},
		},
		Action: addToken,
	}, {
		Name: "list", Usage: "list API tokens, newest first: your own, or those of a person", Flags: listFlags(person),
		Action: listTokens,
	}, {
		Name: "revoke", Usage: "revoke an API token, at once", ArgsUsage: "ID", Flags: []cli.Flag{person},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := identified(c)
			if err != nil {
				return err
			}
			if !c.IsSet("person") {
				return client.Done(k.RevokeTokenWithResponse(ctx, id))
			}
			whose, err := personNamed(ctx, k, c.String("person"))
			if err != nil {
				return err
			}
			return client.Done(k.RevokePersonTokenWithResponse(ctx, whose.ID, id))
		},
	}}}
}

func addToken(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return errors.New("what is it for? moor token add NAME")
	}
	wanted := api.NewToken{Name: c.Args().First(), Days: c.Int("days")}
	if all := c.StringSlice("permission"); len(all) > 0 {
		permissions := make([]access.Permission, len(all))
		for i, p := range all {
			permissions[i] = access.Permission(p)
		}
		wanted.Permissions = &permissions
	}
	if scope := c.String("scope"); scope != "" {
		kind, name, ok := strings.Cut(scope, ":")
		if !ok {
			return fmt.Errorf("%q: write where as organisation:NAME, site:NAME or group:NAME", scope)
		}
		k, err := dial()
		if err != nil {
			return err
		}
		found, err := scopeNamed(ctx, k, health.ScopeKind(kind), name)
		if err != nil {
			return err
		}
		wanted.Scope = &found
	}
	s, err := load()
	if err != nil {
		return err
	}
	if s.URL == "" {
		return errors.New("which service? run moor sign-in first, or set MOOR_URL")
	}
	email := c.String("email")
	if email == "" && s.Token != "" {
		if k, err := dial(); err == nil {
			if me, err := client.Result(k.GetMeWithResponse(ctx)); err == nil {
				email = me.Email
			}
		}
	}
	t, err := tokenByPassword(ctx, s, email, bufio.NewReader(os.Stdin), wanted)
	if err != nil {
		return err
	}
	fmt.Println(t.Secret)
	return nil
}

// personNamed finds a person by their address.
func personNamed(ctx context.Context, k *client.Client, email string) (p api.Person, err error) {
	for p, err := range staffRows(ctx, k) {
		if err != nil {
			return p, err
		}
		if strings.EqualFold(p.Email, email) {
			return p, nil
		}
	}
	return p, fmt.Errorf("nobody has the e-mail address %s: moor staff list", email)
}

func listTokens(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	read := func(cursor *string) (*api.TokenPage, error) {
		return client.Result(k.ListTokensWithResponse(ctx, &api.ListTokensParams{Cursor: cursor}))
	}
	if c.IsSet("person") {
		whose, err := personNamed(ctx, k, c.String("person"))
		if err != nil {
			return err
		}
		read = func(cursor *string) (*api.TokenPage, error) {
			return client.Result(k.ListPersonTokensWithResponse(ctx, whose.ID, &api.ListPersonTokensParams{Cursor: cursor}))
		}
	}
	rows := client.Pages(read)
	return list(c, rows, 0, []string{"ID", "NAME", "MADE", "LAST USED", "STATE", "LIMITED TO"}, func(k api.Token) []string {
		used, limit := "never", []string{}
		if k.LastUsedAt != nil {
			used = ago(*k.LastUsedAt)
		}
		if k.Permissions != nil {
			for _, p := range *k.Permissions {
				limit = append(limit, string(p))
			}
		}
		if k.Scope != nil {
			limit = append(limit, "at "+string(k.Scope.Kind)+" "+k.Scope.ID)
		}
		return []string{k.ID.String(), k.Name, ago(k.CreatedAt), used, tokenState(k.RevokedAt, k.ExpiresAt, false),
			strings.Join(limit, " ")}
	})
}
