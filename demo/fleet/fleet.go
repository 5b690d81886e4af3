// Package fleet runs many simulated devices in one process: each is a real agent with its own key,
// folder and link, over a simulated host. The demo, the tests and the benchmarks share it.
package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"moorwatch.example/agent"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/identity"
	"moorwatch.example/core/device"
)

// Plan says which devices to run. The program moor-fleet reads it as JSON.
type Plan struct {
	URL     string        `json:"url"`
	Dir     string        `json:"dir"` // a folder a device is made below it
	Devices []Device      `json:"devices"`
	Every   time.Duration `json:"every"` // between reports; the agent's own pace when 0
	Hold    bool          `json:"hold"`  // enrol, and connect only when told to
}

// Device is one device of a plan.
type Device struct {
	sim.Device
	Token string `json:"token"` // to enrol with, when it has not yet
	// Leaves, when not 0, is how long after the start the device loses its network; Returns, when
	// not 0, how long it stays away.
	Leaves  time.Duration `json:"leaves"`
	Returns time.Duration `json:"returns"`
}

// Event is what a running fleet tells.
type Event struct {
	Enrolled  *Enrolled `json:"enrolled,omitempty"`
	Connected string    `json:"connected,omitempty"` // the name of a device
	Failed    string    `json:"failed,omitempty"`
}

// Enrolled is a device with the identity that it has.
type Enrolled struct{ Name, ID string }

// enrolAtOnce bounds how many devices enrol at the same time.
const enrolAtOnce = 16

// Run enrols the devices that are not yet, connects all, and runs them until ctx ends. tell is
// called by one goroutine at a time. A plan that holds connects once start is closed.
func Run(ctx context.Context, p Plan, start <-chan struct{}, tell func(Event)) error {
	var mu sync.Mutex
	say := func(e Event) {
		mu.Lock()
		defer mu.Unlock()
		tell(e)
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	slots := make(chan struct{}, enrolAtOnce)
	var running sync.WaitGroup
	for _, d := range p.Devices {
		running.Go(func() {
			slots <- struct{}{}
			dir := filepath.Join(p.Dir, d.Name)
			id, err := ensure(ctx, dir, p.URL, d)
			<-slots
			if err != nil {
				say(Event{Failed: fmt.Sprintf("%s: %v", d.Name, err)})
				return
			}
			say(Event{Enrolled: &Enrolled{d.Name, id.Device}})
			if p.Hold {
				select {
				case <-start:
				case <-ctx.Done():
					return
				}
			}
			d.Dir = dir + ".disk" // beside the agent's folder, which is closed to every tool
			gone := make(chan bool, 1)
			d.Away = func(off bool) {
				select {
				case gone <- off:
				default: // it is going already
				}
			}
			a := &agent.Agent{Dir: dir, Host: d.Host(time.Now), Log: log, Every: p.Every,
				Connected: func() { say(Event{Connected: d.Name}) }}
			if err := live(ctx, a, d, gone); err != nil {
				say(Event{Failed: fmt.Sprintf("%s: %v", d.Name, err)})
			}
		})
	}
	running.Wait()
	return nil
}

// restartTakes is how long a device is away that is restarted, and offFor one that is shut down:
// somebody switches it on again.
const (
	restartTakes = 20 * time.Second
	offFor       = 10 * time.Minute
)

// live runs a device's agent until ctx ends, but for when the device is away: by its plan, or as a
// technician has it restarted.
func live(ctx context.Context, a *agent.Agent, d Device, gone <-chan bool) error {
	leaves := time.Duration(1 << 62)
	if d.Leaves > 0 {
		leaves = d.Leaves
	}
	timer := time.NewTimer(leaves)
	defer timer.Stop()
	for {
		up, down := context.WithCancel(ctx)
		ended := make(chan error, 1)
		go func() { ended <- a.Run(up) }()
		var away time.Duration
		select {
		case off := <-gone:
			time.Sleep(time.Second) // so that the answer reaches the service
			away = restartTakes
			if off {
				away = offFor
			}
		case <-timer.C:
			away = d.Returns
		case err := <-ended:
			down()
			return err
		}
		down()
		if err := <-ended; err != nil || away == 0 {
			return err
		}
		select {
		case <-time.After(away):
		case <-ctx.Done():
			return nil
		}
	}
}

func ensure(ctx context.Context, dir, url string, d Device) (identity.Identity, error) {
	err := identity.Move(dir, url) // the demo was started with another port
	if errors.Is(err, identity.ErrNotEnrolled) {
		return identity.Enrol(ctx, dir, url, d.Token, device.Facts{HostName: d.Name})
	}
	if err != nil {
		return identity.Identity{}, err
	}
	return identity.Load(dir)
}

// Main is the program moor-fleet: it reads a plan from in, runs it until ctx or in ends, and
// writes events to out, one a line as JSON.
func Main(ctx context.Context, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var p Plan
	read := json.NewDecoder(in)
	if err := read.Decode(&p); err != nil {
		return fmt.Errorf("reading the plan: %w", err)
	}
	start := make(chan struct{})
	go func() { // whoever started this is gone when its end of the pipe is
		defer cancel()
		var word string // to a plan that holds, any word means to start
		if read.Decode(&word) == nil {
			close(start)
		}
		io.Copy(io.Discard, in)
	}()
	write := json.NewEncoder(out)
	return Run(ctx, p, start, func(e Event) {
		if write.Encode(e) != nil {
			cancel()
		}
	})
}
