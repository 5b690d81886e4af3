package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/agent/host/native"
	"moorwatch.example/agent/identity"
	"moorwatch.example/agent/reporting"
	"moorwatch.example/agent/setup"
	"moorwatch.example/core/release"
)

// connectWithin is how long a new installation has to connect.
const connectWithin = 60 * time.Second

// lifeCommands are those that put the agent in place and take it away.
func lifeCommands() []*cli.Command {
	return []*cli.Command{{
		Name:  "install",
		Usage: "put this program in place, enrol the device unless it is, and have the agent run with the system",
		Description: "Without --token-file a token is read from MOOR_AGENT_TOKEN. An enrolment file that the console made\n" +
			"(--from) holds service and token. Run again, it brings what is there to this version.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "enrolment `FILE` that the console made; - for standard input"},
			&cli.StringFlag{Name: "service", Usage: "address of the service, such as https://moorwatch.example",
				Sources: cli.EnvVars("MOOR_AGENT_SERVICE")},
			&cli.StringFlag{Name: "token-file", Usage: "`FILE` that holds the enrolment token; - for standard input"},
			&cli.StringFlag{Name: "proxy", Usage: "HTTP proxy that the service is reached through, such as http://proxy:3128"},
			&cli.StringSliceFlag{Name: "without", Usage: "a capability that the agent never offers here, such as screen"},
		},
		Action: install,
	}, {
		Name:   "uninstall",
		Usage:  "stop the agent and leave nothing of it on this device",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "code", Usage: "removal code from the console, where a policy asks for one"}},
		Action: uninstall,
	}, {
		Name:  "status",
		Usage: "tell how the agent stands on this device",
		Action: func(ctx context.Context, _ *cli.Command) error {
			for _, line := range setup.Status(ctx, setup.Here()) {
				fmt.Println(line)
			}
			return nil
		},
	}, {
		Name:   "try",
		Usage:  "tell whether this program reaches the device's service",
		Flags:  []cli.Flag{dirFlag()},
		Action: try,
	}}
}

func install(ctx context.Context, c *cli.Command) error {
	place := setup.Here()
	choices := setup.Choices{Proxy: c.String("proxy"), Without: c.StringSlice("without")}
	if err := choices.Validate(); err != nil {
		return err
	}
	if err := setup.Secure(place.Dir); err != nil {
		return fmt.Errorf("the agent's folder cannot be made: %w (run this as root, or as administrator)", err)
	}
	if old, err := setup.Chosen(place.Dir); err == nil && !c.IsSet("proxy") && !c.IsSet("without") {
		choices = old
	}
	useProxy(choices.Proxy)
	if _, err := identity.Load(place.Dir); errors.Is(err, identity.ErrNotEnrolled) {
		f, err := enrolment(c)
		if err != nil {
			return err
		}
		if !c.IsSet("proxy") && !c.IsSet("without") {
			choices.Proxy, choices.Without = f.Proxy, f.Without
		}
		if err := choices.Validate(); err != nil {
			return err
		}
		useProxy(choices.Proxy)
		facts, err := native.New().Informer.Facts(ctx)
		if err != nil {
			return fmt.Errorf("reading this device's name: %w", err)
		}
		i, err := identity.Enrol(ctx, place.Dir, f.Service, f.Token, facts)
		if err != nil {
			return err
		}
		fmt.Printf("Enrolled as %s.\n", i.Name)
	} else if err != nil {
		return err
	}
	began := time.Now()
	if err := setup.Install(ctx, place, choices, release.Version, os.Stdout); err != nil {
		return err
	}
	waiting, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	if err := setup.AwaitConnected(waiting, place.Dir, began); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("the agent is in place, and has not connected within %s: it goes on trying; see moor-agent status", connectWithin)
	}
	fmt.Printf("Connected after %s.\n", time.Since(began).Round(100*time.Millisecond))
	return nil
}

// enrolment is the service and the token that a device is to enrol with.
func enrolment(c *cli.Command) (f release.Enrolment, err error) {
	if from := c.String("from"); from != "" {
		text, err := readFile(from)
		if err != nil {
			return f, fmt.Errorf("reading the enrolment file: %w", err)
		}
		return release.ReadEnrolment([]byte(text))
	}
	if f.Service = c.String("service"); f.Service == "" {
		carried, err := setup.Carries()
		switch {
		case err != nil:
			return f, err
		case carried == nil:
			return f, errors.New("which service? give --service, or an enrolment file with --from")
		}
		return release.ReadEnrolment(carried)
	}
	token := os.Getenv("MOOR_AGENT_TOKEN")
	if file := c.String("token-file"); file != "" {
		if token, err = readFile(file); err != nil {
			return f, fmt.Errorf("reading the token: %w", err)
		}
	}
	if f.Token = strings.TrimSpace(token); f.Token == "" {
		return f, errors.New("an enrolment token is needed: give --token-file, or MOOR_AGENT_TOKEN in the environment")
	}
	return f, nil
}

// useProxy has everything that this program dials go through a proxy.
func useProxy(proxy string) {
	if proxy != "" {
		os.Setenv("HTTPS_PROXY", proxy)
		os.Setenv("HTTP_PROXY", proxy)
	}
}

func uninstall(ctx context.Context, c *cli.Command) error {
	place := setup.Here()
	if err := reporting.MayLeave(place.Dir, c.String("code")); err != nil {
		return err
	}
	return setup.Uninstall(ctx, place, os.Stdout)
}

// tryWithin is how long the service has to answer.
const tryWithin = 30 * time.Second

func try(ctx context.Context, c *cli.Command) error {
	choices, err := setup.Chosen(c.String("dir"))
	if err != nil {
		return err
	}
	useProxy(choices.Proxy)
	i, err := identity.Load(c.String("dir"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, tryWithin)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, i.Service+"/healthz", nil)
	if err != nil {
		return err
	}
	answer, err := i.Client().Do(q)
	if err != nil {
		return fmt.Errorf("the service is not reached: %w", err)
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<10))
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("the service answers %s", answer.Status)
	}
	fmt.Printf("%s reaches %s.\n", release.Version, i.Service)
	return nil
}

// own is where the program stands that runs now.
func own(dir string) (setup.Place, error) {
	program, err := os.Executable()
	if err != nil {
		return setup.Place{}, err
	}
	program, err = filepath.EvalSymlinks(program)
	return setup.Place{Program: program, Dir: dir}, err
}
