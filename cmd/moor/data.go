package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// dataCommand hands out and erases what is held about people and organisations.
func dataCommand() *cli.Command {
	of := []cli.Flag{
		&cli.StringFlag{Name: "person", Usage: "of somebody who signs in, by `E-MAIL`"},
		&cli.StringFlag{Name: "organisation", Usage: "of an organisation and its devices, by `NAME`"},
	}
	return &cli.Command{Name: "data", Usage: "hand out or erase what is held about a person or an organisation", Commands: []*cli.Command{{
		Name: "export", Usage: "write all of it, one object a line; of yourself where nobody is named", Flags: of,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			answer, err := exported(ctx, k, c.String("person"), c.String("organisation"))
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				return client.Refusal(answer)
			}
			_, err = io.Copy(os.Stdout, answer.Body)
			return err
		},
	}, {
		Name: "erase", Usage: "erase all of it; nothing brings it back",
		Flags: append(of, &cli.BoolFlag{Name: "sure", Usage: "erase it, and ask nothing"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			person, organisation := c.String("person"), c.String("organisation")
			if (person == "") == (organisation == "") {
				return errors.New("name --person or --organisation")
			}
			if !c.Bool("sure") {
				return fmt.Errorf("nothing brings back what is held about %s once it is erased: export it first, and say --sure", person+
					organisation)
			}
			k, err := dial()
			if err != nil {
				return err
			}
			if person != "" {
				if err := client.Done(k.ErasePersonWithResponse(ctx, api.Erasure{Name: person})); err != nil {
					return err
				}
				fmt.Printf("What was held about %s is erased. The audit log and recordings name them until those are past their time.\n",
					person)
				return nil
			}
			o, err := findOrganisation(ctx, k, organisation)
			if err != nil {
				return err
			}
			if err := client.Done(k.EraseOrganisationWithResponse(ctx, o.ID, api.Erasure{Name: organisation})); err != nil {
				return err
			}
			fmt.Printf("%s is erased, with its devices. Uninstall the agent on them: moor-agent uninstall.\n", organisation)
			return nil
		},
	}}}
}

func exported(ctx context.Context, k *client.Client, person, organisation string) (*http.Response, error) {
	switch {
	case person != "" && organisation != "":
		return nil, errors.New("name --person or --organisation, not both")
	case person != "":
		for p, err := range staffRows(ctx, k) {
			if err != nil {
				return nil, err
			}
			if p.Email == person {
				return k.ExportPerson(ctx, p.ID)
			}
		}
		return nil, fmt.Errorf("nobody signs in as %s; moor staff list shows who does", person)
	case organisation != "":
		o, err := findOrganisation(ctx, k, organisation)
		if err != nil {
			return nil, err
		}
		return k.ExportOrganisation(ctx, o.ID)
	}
	return k.ExportMe(ctx)
}
