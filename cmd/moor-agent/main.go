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
	"moorwatch.example/agent/console"
	"moorwatch.example/agent/host/native"
	"moorwatch.example/agent/identity"
	"moorwatch.example/agent/renewal"
	"moorwatch.example/agent/setup"
	"moorwatch.example/core/release"
)

func main() {
	if len(os.Args) > 1 && native.Helper != "" && os.Args[1] == native.Helper {
		if err := native.Help(os.Args[2:]); err != nil {
			os.Exit(1)
		}
		return
	}
	if len(os.Args) == 2 && os.Args[1] == console.Argument {
		if err := console.Help(); err != nil {
			os.Exit(1)
		}
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	args := os.Args
	if len(args) == 1 {
		if carried, err := setup.Carries(); err == nil && carried != nil {
			args = append(args, "install") // it is an installer for one site
		}
	}
	err := command().Run(ctx, args)
	if errors.Is(err, errAgain) {
		os.Exit(againStatus)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "moor-agent:", err)
		os.Exit(1)
	}
}

func command() *cli.Command {
	dir := dirFlag()
	return &cli.Command{
		Name:    "moor-agent",
		Usage:   "the Moorwatch agent of this device",
		Version: release.Version,
		Commands: append([]*cli.Command{{
			Name:  "enrol",
			Usage: "make this device known to a service, with a token from a technician",
			Flags: []cli.Flag{dir,
				&cli.StringFlag{Name: "service", Required: true, Usage: "address of the service, such as https://moorwatch.example",
					Sources: cli.EnvVars("MOOR_AGENT_SERVICE")},
				&cli.StringFlag{Name: "token", Usage: "enrolment token; better in the environment or a file, as other people see arguments",
					Sources: cli.EnvVars("MOOR_AGENT_TOKEN")},
				&cli.StringFlag{Name: "token-file", Usage: "file that holds the enrolment token; - for standard input"},
			},
			Action: enrol,
		}, {
			Name:  "run",
			Usage: "stay connected to the service and do what it asks, until stopped",
			Flags: []cli.Flag{dir, &cli.BoolFlag{Name: "verbose", Usage: "log what is of interest to developers, too"},
				&cli.BoolFlag{Name: "managed", Usage: "it is started again whenever it ends, and may renew itself by that"}},
			Action: run,
		}}, append(lifeCommands(), systemCommands()...)...),
	}
}

func dirFlag() *cli.StringFlag {
	return &cli.StringFlag{Name: "dir", Value: defaultDir(), Usage: "folder of the device's identity and its unsent reports",
		Sources: cli.EnvVars("MOOR_AGENT_DIR")}
}

func defaultDir() string {
	if privileged() {
		return setup.Here().Dir
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
	i, err := identity.Enrol(ctx, c.String("dir"), c.String("service"), token, facts)
	if err != nil {
		return err
	}
	if i.Waiting {
		fmt.Println("A technician has to let it in: it asks again by itself.")
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

// errAgain has the program end with againStatus (EX_TEMPFAIL of sysexits.h), so that its service manager
// starts what stands in its place by now.
var errAgain = errors.New("another release of the agent is in place")

const againStatus = 75

func run(ctx context.Context, c *cli.Command) error {
	level := slog.LevelInfo
	if c.Bool("verbose") {
		level = slog.LevelDebug
	}
	return work(ctx, c.String("dir"), c.Bool("managed"), slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
}

// work runs the agent until ctx ends, or another release of it is in place.
func work(ctx context.Context, dir string, managed bool, log *slog.Logger) error {
	dir, err := filepath.Abs(dir) // programs that it runs stand elsewhere
	if err != nil {
		return err
	}
	choices, err := setup.Chosen(dir)
	if err != nil {
		return fmt.Errorf("reading what was chosen at installation: %w", err)
	}
	useProxy(choices.Proxy)
	a := &agent.Agent{Dir: dir, Host: native.New().Without(choices.Without), Log: log}
	if a.Program, err = os.Executable(); err != nil {
		return err
	}
	if !managed {
		return a.Run(ctx)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if a.Place, err = own(dir); err != nil {
		return err
	}
	a.Again = func() { cancel(errAgain) }
	guard, err := renewal.Watch(a.Place, release.Version, a.Again)
	if errors.Is(err, renewal.ErrBack) {
		return errAgain
	}
	if err != nil {
		log.Error("what became of a renewal cannot be told", "error", err)
	}
	a.Connected = guard.Connected
	err = a.Run(ctx)
	if errors.Is(context.Cause(ctx), errAgain) {
		return errAgain
	}
	return err
}
