//go:build unix

package main

import (
	"os"

	"github.com/urfave/cli/v3"
)

func privileged() bool { return os.Geteuid() == 0 }

// systemCommands are those of this system alone.
func systemCommands() []*cli.Command { return nil }
