package main

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/service/authority"
)

// keysCommand changes the keys under which the service seals secrets.
func keysCommand(file *string) *cli.Command {
	flags := []cli.Flag{
		&cli.StringFlag{Name: "config", Usage: "configuration `FILE` in YAML", Destination: file, Sources: cli.EnvVars("MOORWATCH_CONFIG")},
		&cli.StringFlag{Name: "data", Value: "moorwatch-data", Usage: "`FOLDER` of the service's data",
			Sources: cli.NewValueSourceChain(cli.EnvVar("MOORWATCH_DATA"), settingOf(file, "data"))},
	}
	with := func(do func(f authority.KeyFile) error) cli.ActionFunc {
		return func(_ context.Context, c *cli.Command) error {
			f, err := authority.OpenKeys(c.String("data"), time.Now())
			if err != nil {
				return err
			}
			return do(f)
		}
	}
	return &cli.Command{Name: "keys", Usage: "change the keys under which secrets are sealed in the database", Commands: []*cli.Command{{
		Name: "rotate", Usage: "add a key; a running service seals everything under it within a minute or two, without being stopped",
		Flags: flags,
		Action: with(func(f authority.KeyFile) error {
			version, err := f.Rotate(time.Now())
			if err == nil {
				fmt.Printf("Secrets are sealed under key %d from now on. When the service's log says that they were sealed anew, "+
					"moorwatch keys retire removes the keys before it.\n", version)
			}
			return err
		}),
	}, {
		Name: "retire", Usage: "remove all keys but the latest; what is still sealed under them cannot be read any more", Flags: flags,
		Action: with(func(f authority.KeyFile) error {
			gone, err := f.Retire()
			if err == nil {
				fmt.Printf("%d keys were removed.\n", gone)
			}
			return err
		}),
	}}}
}
