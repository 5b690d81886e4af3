package main

import (
	"context"
	"errors"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/core/selector"
)

// picked are the flags of facets, with what each picks.
var picked = []struct {
	facet selector.Facet
	usage string
}{
	{selector.FacetOrganisation, "devices of this `ORGANISATION`"},
	{selector.FacetSite, "devices at this `SITE`"},
	{selector.FacetOS, "devices with this `SYSTEM`: windows, macos or linux"},
	{selector.FacetCondition, "devices in this `CONDITION`: healthy, degraded, failing or silent"},
	{selector.FacetGroup, "devices of this `GROUP`"},
	{selector.FacetTag, "devices with this `TAG`"},
	{selector.FacetSoftware, "devices that have this `SOFTWARE`, or NAME@VERSION of it"},
	{selector.FacetPerson, "devices at which this `PERSON` is signed in, or was last"},
	{selector.FacetDevice, "the device of this `NAME`"},
}

// pickFlags are the flags by which every command for many devices is told which. Of one that is given more than once a
// device has one of the values; of several flags it has each.
func pickFlags() []cli.Flag {
	var flags []cli.Flag
	for _, p := range picked {
		flags = append(flags, &cli.StringSliceFlag{Name: string(p.facet), Usage: p.usage, Category: pickCategory})
	}
	return append(flags, &cli.BoolFlag{Name: "online", Usage: "devices that are online", Category: pickCategory},
		&cli.StringFlag{Name: "where", Usage: "devices for which this CEL `EXPRESSION` holds", Category: pickCategory})
}

// pickCategory is the head under which help lists the flags.
const pickCategory = "Which devices"

// pick reads the flags as what the API takes. A group alone is named by itself, and devices by their ids, so that
// secrets may go to them.
func pick(ctx context.Context, c *cli.Command, k *client.Client) (where *string, group *uuid.UUID, err error) {
	var choice selector.Choice
	for _, p := range picked {
		for _, value := range c.StringSlice(string(p.facet)) {
			switch p.facet {
			case selector.FacetGroup:
				g, err := findGroup(ctx, k, value)
				if err != nil {
					return nil, nil, err
				}
				value, group = g.Name, &g.ID
			case selector.FacetDevice:
				d, err := k.Find(ctx, value)
				if err != nil {
					return nil, nil, err
				}
				value = d.ID.String()
			}
			choice = append(choice, selector.Term{Facet: p.facet, Value: value})
		}
	}
	if c.Bool("online") {
		choice = append(choice, selector.Term{Facet: selector.FacetOnline, Value: "yes"})
	}
	own := strings.TrimSpace(c.String("where"))
	if group != nil && len(choice) == 1 && own == "" {
		return nil, group, nil
	}
	expression, err := choice.Expression()
	switch {
	case err != nil:
		return nil, nil, err
	case own != "" && expression != "":
		expression += " && (" + own + ")"
	case own != "":
		expression = own
	}
	if expression == "" && !c.IsSet("where") {
		return nil, nil, nil
	}
	return &expression, nil, nil
}

// mustPick is pick for what touches devices: nothing is picked by silence.
func mustPick(ctx context.Context, c *cli.Command, k *client.Client) (where *string, group *uuid.UUID, err error) {
	where, group, err = pick(ctx, c, k)
	if err == nil && where == nil && group == nil {
		err = errors.New("say for which devices, by --site, --group, --device and the like, or --where EXPRESSION; --where '' is all")
	}
	return where, group, err
}
