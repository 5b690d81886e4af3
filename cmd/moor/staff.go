package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
)

// roleWords says which roles somebody holds where.
func roleWords(all []api.Grant) string {
	words := make([]string, len(all))
	for i, g := range all {
		words[i] = string(g.Role)
		if g.ScopeName != nil && g.Scope.Kind != health.Everywhere {
			words[i] += " at " + *g.ScopeName
		}
	}
	return strings.Join(words, ", ")
}

var roleFlag = &cli.StringSliceFlag{Name: "role",
	Usage: "`ROLE`, or ROLE@KIND:NAME with the kind organisation, site or group; may be given again"}

// grantsOf reads roles as people write them. A scope may be named or given by its id.
func grantsOf(ctx context.Context, k *client.Client, all []string) (api.Grants, error) {
	if len(all) == 0 {
		return nil, errors.New("which role? --role technician, or --role technician@organisation:\"Sphagnum Dairy\"")
	}
	var out api.Grants
	for _, text := range all {
		role, where, bound := strings.Cut(text, "@")
		g := api.Grant{Role: access.Role(role), Scope: health.Scope{Kind: health.Everywhere}}
		if bound {
			kind, name, ok := strings.Cut(where, ":")
			if !ok {
				return nil, fmt.Errorf("%q: write where as organisation:NAME, site:NAME or group:NAME", text)
			}
			var err error
			if g.Scope, err = scopeNamed(ctx, k, health.ScopeKind(kind), name); err != nil {
				return nil, err
			}
		}
		out = append(out, g)
	}
	return out, nil
}

// scopeNamed finds the scope of a name.
func scopeNamed(ctx context.Context, k *client.Client, kind health.ScopeKind, name string) (health.Scope, error) {
	s := health.Scope{Kind: kind, ID: name}
	if _, err := uuid.Parse(name); err == nil {
		return s, nil
	}
	if kind == health.Group {
		g, err := findGroup(ctx, k, name)
		s.ID = g.ID.String()
		return s, err
	}
	var found []string
	for o, err := range organisationRows(ctx, k) {
		if err != nil {
			return s, err
		}
		if kind == health.Organisation && strings.EqualFold(o.Name, name) {
			found = append(found, o.ID.String())
		}
		for _, site := range o.Sites {
			if kind == health.Site && strings.EqualFold(site.Name, name) {
				found = append(found, site.ID.String())
			}
		}
	}
	if len(found) != 1 {
		return s, fmt.Errorf("%d are named %q: give the id of the %s, as moor site list --json shows it", len(found), name, kind)
	}
	s.ID = found[0]
	return s, nil
}

// organisationRows are all organisations with their sites.
func organisationRows(ctx context.Context, k *client.Client) func(func(api.Organisation, error) bool) {
	return client.Pages(func(cursor *string) (*api.OrganisationPage, error) {
		return client.Result(k.ListOrganisationsWithResponse(ctx, &api.ListOrganisationsParams{Cursor: cursor}))
	})
}

func staffRows(ctx context.Context, k *client.Client) func(func(api.Person, error) bool) {
	return client.Pages(func(cursor *string) (*api.PersonPage, error) {
		return client.Result(k.ListPeopleWithResponse(ctx, &api.ListPeopleParams{Cursor: cursor}))
	})
}

// staffNamed dials and finds the person of an e-mail address, the first argument.
func staffNamed(ctx context.Context, c *cli.Command) (*client.Client, api.Person, error) {
	k, err := dial()
	if err != nil {
		return nil, api.Person{}, err
	}
	if !c.Args().Present() {
		return nil, api.Person{}, fmt.Errorf("who? moor staff %s EMAIL", c.Name)
	}
	p, err := personNamed(ctx, k, c.Args().First())
	return k, p, err
}

func staffCommand() *cli.Command {
	return &cli.Command{Name: "staff", Usage: "say who may sign in to the service, and in which roles", Commands: []*cli.Command{{
		Name: "list", Usage: "list who may sign in", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := staffRows(ctx, k)
			return list(c, rows, 0, []string{"NAME", "E-MAIL", "ROLES", "SECOND FACTOR", "LAST SEEN"}, func(p api.Person) []string {
				seen := map[bool]string{true: "never", false: "has yet to choose a password"}[p.Ready]
				if p.LastSeenAt != nil {
					seen = ago(*p.LastSeenAt)
				}
				return []string{p.Name, p.Email, roleWords(p.Grants), map[bool]string{true: "yes", false: "no"}[p.SecondFactor], seen}
			})
		},
	}, {
		Name: "add", Usage: "add a person; prints a one-time set-up link to hand to them", ArgsUsage: "EMAIL NAME",
		Flags: []cli.Flag{roleFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if c.NArg() < 2 {
				return errors.New("who? moor staff add EMAIL NAME --role ROLE")
			}
			grants, err := grantsOf(ctx, k, c.StringSlice("role"))
			if err != nil {
				return err
			}
			added, err := client.Made(k.AddPersonWithResponse(ctx,
				api.NewPerson{Email: c.Args().First(), Name: strings.Join(c.Args().Tail(), " "), Grants: grants}))
			if err == nil {
				fmt.Println(added.Link)
			}
			return err
		},
	}, {
		Name: "set", Usage: "give a person other roles, in place of those that they hold", ArgsUsage: "EMAIL", Flags: []cli.Flag{roleFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := staffNamed(ctx, c)
			if err != nil {
				return err
			}
			grants, err := grantsOf(ctx, k, c.StringSlice("role"))
			if err != nil {
				return err
			}
			changed, err := client.Result(k.SetPersonWithResponse(ctx, p.ID, api.PersonChange{Name: p.Name, Grants: grants}))
			if err == nil {
				fmt.Printf("%s is %s.\n", changed.Email, roleWords(changed.Grants))
			}
			return err
		},
	}, {
		Name: "reset", Usage: "make a new set-up link for a person, whose password and second factors end", ArgsUsage: "EMAIL",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := staffNamed(ctx, c)
			if err != nil {
				return err
			}
			added, err := client.Result(k.ResetPersonWithResponse(ctx, p.ID))
			if err == nil {
				fmt.Println(added.Link)
			}
			return err
		},
	}, {
		Name: "remove", Usage: "remove a person; they are signed out at once", ArgsUsage: "EMAIL",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, p, err := staffNamed(ctx, c)
			if err != nil {
				return err
			}
			return client.Done(k.RemovePersonWithResponse(ctx, p.ID))
		},
	}}}
}

func rolesCommand() *cli.Command {
	return &cli.Command{Name: "roles", Usage: "list roles and what they permit, and make your own", Commands: []*cli.Command{{
		Name: "list", Usage: "list roles", Flags: listFlags(&cli.BoolFlag{Name: "permissions", Usage: "list every permission instead"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			all, err := client.Result(k.ListRolesWithResponse(ctx))
			if err != nil {
				return err
			}
			if c.Bool("permissions") {
				return list(c, client.Each(all.Permissions), 0, []string{"PERMISSION", "FOR"}, func(p api.PermissionEntry) []string {
					return []string{string(p.Name), p.About}
				})
			}
			return list(c, client.Each(all.Items), 0, []string{"ROLE", "PEOPLE", "ABOUT", "PERMISSIONS"}, func(r api.RoleEntry) []string {
				own := fmt.Sprint(len(r.Permissions), " of ", len(all.Permissions))
				if !r.BuiltIn {
					own = strings.Trim(fmt.Sprint(r.Permissions), "[]")
				}
				return []string{string(r.Name), fmt.Sprint(r.People), r.About, own}
			})
		},
	}, {
		Name: "set", Usage: "make a role, or change what it permits", ArgsUsage: "NAME",
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "permit",
			Usage: "`PERMISSION`, as moor roles list --permissions names it; may be given again"},
			&cli.StringFlag{Name: "about", Usage: "what the role is for"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if !c.Args().Present() {
				return errors.New("which role? moor roles set NAME --permit services.act")
			}
			in := api.NewRole{About: new(c.String("about")), Permissions: []access.Permission{}}
			for _, p := range c.StringSlice("permit") {
				in.Permissions = append(in.Permissions, access.Permission(p))
			}
			r, err := client.Result(k.SetRoleWithResponse(ctx, c.Args().First(), in))
			if err == nil {
				fmt.Printf("%s permits %s.\n", r.Name, strings.Trim(fmt.Sprint(r.Permissions), "[]"))
			}
			return err
		},
	}, {
		Name: "remove", Usage: "remove a role that nobody holds", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return client.Done(k.RemoveRoleWithResponse(ctx, c.Args().First()))
		},
	}}}
}
