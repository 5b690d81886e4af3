// Command moor is the technician's client: it finds devices, reads them, and works on them from
// the command line.
package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"

	"moorwatch.example/core/release"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := command()
	err := misspelt(root, os.Args[1:])
	if err == nil {
		err = root.Run(ctx, os.Args)
	}
	var exit exitStatus
	var unreachable *url.Error
	switch {
	case errors.As(err, &exit):
		os.Exit(int(exit))
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(os.Stderr, "moor: cancelled")
		os.Exit(130)
	case errors.As(err, &unreachable):
		fmt.Fprintf(os.Stderr, "moor: the service cannot be reached: %v\nIs its address right, and its authority known (moor sign-in "+
			"--ca, MOOR_CA)?\n", unreachable.Err)
		os.Exit(failed)
	case err != nil:
		fmt.Fprintln(os.Stderr, "moor:", err)
		os.Exit(failed)
	}
}

// exitStatus ends the program with the status of a remote command.
type exitStatus int

func (e exitStatus) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

// failed is the exit status when moor itself fails, apart from those that commands usually have.
const failed = 125

var jsonFlag = &cli.BoolFlag{Name: "json", Usage: "print JSON, for programs"}

func command() *cli.Command {
	root := &cli.Command{
		Name:                  "moor",
		Usage:                 "find devices, read them and work on them",
		Version:               release.Version,
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden = false
			c.Usage = "print the completion script for bash, zsh, fish or pwsh (make install puts bash's in place)"
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := dial(); err != nil { // nobody has signed in yet
				return cli.ShowAppHelp(c)
			}
			fmt.Fprintln(os.Stderr, "What needs a person now (moor help lists the commands):")
			return attentionCommand().Run(ctx, []string{"attention"})
		},
		Description: "MOOR_URL and MOOR_TOKEN in the environment take the place of what sign-in stored;\n" +
			"MOOR_CA names a file with the certificate authority of a service that is its own.",
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Commands: []*cli.Command{
			signInCommand(), signOutCommand(), attentionCommand(), alertsCommand(), alertCommand(), suspectsCommand(), devicesCommand(),
			deviceCommand(), noteCommand(),
			inventoryCommand(), changesCommand(), softwareCommand(), standingCommand(), sweepCommand(), runCommand(), shellCommand(),
			putCommand(), getCommand(), filesCommand(), processesCommand(), servicesCommand(), eventsCommand(), networkCommand(),
			settingsCommand(), queryCommand(), recordingsCommand(), screenCommand(), peopleCommand(), powerCommand(), manyCommand(),
			scriptsCommand(), packagesCommand(), jobsCommand(), updatesCommand(), advisoriesCommand(), exposureCommand(), rolloutsCommand(),
			reportsCommand(), sessionsCommand(), groupsCommand(), policiesCommand(), windowsCommand(),
			agentCommand(), enrolmentCommand(), siteCommand(), tokenCommand(), staffCommand(), rolesCommand(), signInsCommand(),
			auditCommand(), dataCommand(), linkTestCommand(),
		},
	}
	keepCommas(root)
	tellOptions(root)
	return root
}

// keepCommas has values of flags that may be given more than once keep their commas: names have some.
func keepCommas(c *cli.Command) {
	c.DisableSliceFlagSeparator = true
	for _, below := range c.Commands {
		keepCommas(below)
	}
}
