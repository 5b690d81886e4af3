// Command bench measures the figures that Moorwatch promises, each beside what bounds it, in the
// same run on the same machine: `name value unit limit ratio`, where a ratio of at most 1 keeps
// the promise. It runs the service in a process of its own, as the demo does.
//
//	go run ./bench [-only part of a name]
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/google/uuid"
)

func main() {
	only := flag.String("only", "", "measure the figures whose name contains this alone")
	devices := flag.Int("devices", 5000, "simulated devices of the fleet's figures")
	bin := flag.String("bin", "bin", "`folder` of the built programs")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	b := &bench{ctx: ctx, bin: *bin, devices: *devices}
	kept := true
	for _, part := range []struct {
		name    string
		measure func() error
	}{
		{"judge", b.judge}, {"link", b.link}, {"call", b.call}, {"bulk", b.bulk}, {"shell", b.shell}, {"transfer", b.transfer},
		{"console", b.console}, {"screen-bytes", b.screenBytes}, {"screen-live", b.screenLive}, {"screen-slow", b.screenSlow},
		{"screen-rest", b.screenRest}, {"slowly", b.slowly}, {"history", b.history}, {"fleet", b.fleet}, {"hostile", b.hostile},
		{"jobs", b.jobs}, {"contents", b.contents}, {"patches", b.patches}, {"advisories", b.advisories}, {"agent", b.idleAgent},
		{"agent-install", b.installs},
	} {
		if *only != "" && !strings.Contains(part.name, *only) {
			continue
		}
		if err := part.measure(); err != nil {
			fmt.Fprintf(os.Stderr, "bench: %s, whose figures stay unmeasured: %v\n", part.name, err)
			kept = false
		}
	}
	b.close()
	if !kept || b.broken {
		os.Exit(1)
	}
}

// bench holds what the figures share.
type bench struct {
	ctx     context.Context
	bin     string
	devices int
	broken  bool // a promise is not kept
	world   *world
	machine uuid.UUID

	fleetThere bool
}

// figure prints one line. atMost tells whether the value must not exceed the limit, or not fall
// below it; the ratio is such that 1 or less keeps the promise.
func (b *bench) figure(name string, value float64, unit string, limit float64, atMost bool) {
	ratio := value / limit
	if !atMost {
		ratio = limit / value
	}
	if ratio > 1 {
		b.broken = true
	}
	fmt.Printf("%-34s %10.3f %-8s %10.3f %6.2f\n", name, value, unit, limit, ratio)
}

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }

func (b *bench) close() {
	if b.world != nil {
		b.world.close()
	}
}
