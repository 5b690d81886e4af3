package main

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/contract/link"
)

// local is the world with this machine's device in it, both made once.
func (b *bench) local() (*world, uuid.UUID, error) {
	w, err := b.begin()
	if err == nil && b.machine == uuid.Nil {
		b.machine, err = w.agent(b.ctx)
	}
	return w, b.machine, err
}

// fleet measures what thousands of devices cost: the service's memory for each that is idle, the
// time until a thousand have run a command, and until all are back after the service restarted.
func (b *bench) fleet() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	before, err := w.settled()
	if err != nil {
		return err
	}
	began := time.Now()
	if err := b.connected(w); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "bench: %d devices enrolled and connected in %.1f s\n", b.devices, time.Since(began).Seconds())
	after, err := w.settled()
	if err != nil {
		return err
	}
	b.figure(fmt.Sprintf("memory for an idle device of %d", b.devices), (after-before)/1024/float64(b.devices), "KiB", 48, true)
	if err := b.commands(w, min(1000, b.devices)); err != nil {
		return err
	}
	for _, measure := range []func(*world) error{b.alerts, b.sweepAll, b.restart, b.groups} {
		if err := measure(w); err != nil {
			return err
		}
	}
	return nil
}

// connected has the fleet connected, once.
func (b *bench) connected(w *world) error {
	if b.fleetThere {
		return nil
	}
	b.fleetThere = true
	return w.fleet(b.ctx, "bench", sim.Board, b.devices)
}

// settled is the service's resident memory, in bytes, once connecting is over: the least of a
// minute and a half of ordinary work, reports included.
func (w *world) settled() (float64, error) {
	least := 0.0
	for i := range 45 {
		if i > 0 {
			time.Sleep(2 * time.Second)
		}
		got, err := resident(w.service.Process.Pid)
		if err != nil {
			return 0, err
		}
		if least == 0 || got < least {
			least = got
		}
		if connected, err := w.metric("moorwatch_devices_connected"); err == nil && connected < 10 {
			break // nothing to settle
		}
	}
	return least, nil
}

// resident reads the memory that a process has in RAM (proc(5), statm).
func resident(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0, err
	}
	pages, err := strconv.ParseFloat(strings.Fields(string(text))[1], 64)
	return pages * float64(os.Getpagesize()), err
}

func (b *bench) commands(w *world, n int) error {
	took, err := b.runs(w, n, 3)
	if err == nil {
		b.figure(fmt.Sprintf("%d devices run a command", n), took, "s", 2, true)
	}
	return err
}

// runs has n devices run a command, several times over, and returns the median time until all have.
func (b *bench) runs(w *world, n, times int) (float64, error) {
	var ids []uuid.UUID
	for d, err := range w.client.Devices(b.ctx, "name.startsWith('bench-') && online") {
		if err != nil {
			return 0, err
		}
		if ids = append(ids, d.ID); len(ids) == n {
			break
		}
	}
	if len(ids) < n {
		return 0, fmt.Errorf("%d devices are online, want %d", len(ids), n)
	}
	var all []float64
	for range times {
		began := time.Now()
		failed := make(chan error, n)
		slots := make(chan struct{}, 64)
		var running sync.WaitGroup
		for _, id := range ids {
			slots <- struct{}{}
			running.Go(func() {
				defer func() { <-slots }()
				exit, err := w.client.Run(b.ctx, id, link.Command{Argv: []string{"hostname"}, Order: uuid.NewString()}, io.Discard,
					io.Discard)
				if err != nil || exit != 0 {
					failed <- fmt.Errorf("exit status %d, %w", exit, err)
				}
			})
		}
		running.Wait()
		if len(failed) > 0 {
			return 0, <-failed
		}
		all = append(all, time.Since(began).Seconds())
	}
	return median(all), nil
}

// restart kills the service and counts the time from its start until every device is back.
func (b *bench) restart(w *world) error {
	connected, err := w.metric("moorwatch_devices_connected")
	if err != nil {
		return err
	}
	w.service.Process.Signal(syscall.SIGKILL)
	w.service.Wait()
	time.Sleep(2 * time.Second)
	began := time.Now()
	if err := w.start(); err != nil {
		return err
	}
	for {
		now, err := w.metric("moorwatch_devices_connected")
		if err == nil && now >= connected {
			break
		}
		if time.Since(began) > 2*time.Minute {
			return fmt.Errorf("%g of %g devices are back after two minutes", now, connected)
		}
		time.Sleep(100 * time.Millisecond)
	}
	b.figure(fmt.Sprintf("all %g back after a restart", connected), time.Since(began).Seconds(), "s", 30, true)
	return nil
}
