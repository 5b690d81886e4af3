// Command moor-fleet runs simulated devices for the demo, the tests and the benchmarks. It reads
// its plan from standard input; see demo/fleet.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"moorwatch.example/demo/fleet"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := fleet.Main(ctx, os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "moor-fleet:", err)
		os.Exit(1)
	}
}
