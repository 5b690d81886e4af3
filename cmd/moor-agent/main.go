// Command moor-agent is the agent on a device: enrol it once, then keep it running.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"moorwatch.example/agent"
	"moorwatch.example/agent/host/native"
	"moorwatch.example/agent/identity"
)

func main() {
	if len(os.Args) == 2 && native.Helper != "" && os.Args[1] == native.Helper {
		if err := native.Help(); err != nil {
			os.Exit(1)
		}
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "moor-agent:", err)
		os.Exit(1)
	}
}

func command() *cli.Command {
	dir := &cli.StringFlag{Name: "dir", Value: defaultDir(), Usage: "folder of the device's identity and its unsent reports", Sources: cli.EnvVars("MOOR_AGENT_DIR")}
	return &cli.Command{
		Name:    "moor-agent",
		Usage:   "the Moorwatch agent of this device",
		Version: agent.Version,
		Commands: []*cli.Command{{
			Name:  "enrol",
			Usage: "make this device known to a service, with a token from a technician",
			Flags: []cli.Flag{dir,
				&cli.StringFlag{Name: "service", Required: true, Usage: "address of the service, such as https://moorwatch.example", Sources: cli.EnvVars("MOOR_AGENT_SERVICE")},
				&cli.StringFlag{Name: "token", Usage: "enrolment token; better in the environment or a file, as other people see arguments", Sources: cli.EnvVars("MOOR_AGENT_TOKEN")},
				&cli.StringFlag{Name: "token-file", Usage: "file that holds the enrolment token; - for standard input"},
			},
			Action: enrol,
		}, {
			Name:   "run",
			Usage:  "stay connected to the service and do what it asks, until stopped",
			Flags:  []cli.Flag{dir, &cli.BoolFlag{Name: "verbose", Usage: "log what is of interest to developers, too"}},
			Action: run,
		}},
	}
}

func defaultDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/moor-agent"
	}
	if dir, err := os.UserConfigDir(); err == nil {
		return dir + string(os.PathSeparator) + "moor-agent"
	}
	return "moor-agent"
}

func enrol(ctx context.Context, c *cli.Command) error {
	token := c.String("token")
	if file := c.String("token-file"); file != "" {
		text, err := readFile(file)
		if err != nil {
			return fmt.Errorf("reading the token: %w", err)
		}
		token = text
	}
	if token = strings.TrimSpace(token); token == "" {
		return errors.New("an enrolment token is needed: give --token-file, or MOOR_AGENT_TOKEN in the environment")
	}
	facts, err := native.New().Informer.Facts(ctx)
	if err != nil {
		return fmt.Errorf("reading this device's name: %w", err)
	}
	i, err := identity.Enrol(ctx, c.String("dir"), c.String("service"), token, facts.HostName)
	if err != nil {
		return err
	}
	fmt.Printf("Enrolled as %s (%s). Now keep `moor-agent run` running.\n", i.Name, i.Device)
	return nil
}

func readFile(name string) (string, error) {
	in := io.Reader(os.Stdin)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return "", err
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, 4096))
	return string(text), err
}

func run(ctx context.Context, c *cli.Command) error {
	level := slog.LevelInfo
	if c.Bool("verbose") {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	dir, err := filepath.Abs(c.String("dir")) // programs that it runs stand elsewhere
	if err != nil {
		return err
	}
	return (&agent.Agent{Dir: dir, Host: native.New(), Log: log}).Run(ctx)
}
