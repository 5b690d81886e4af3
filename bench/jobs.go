package main

import (
	"fmt"
	"os"
	"time"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/script"
)

// jobs measures a job on all devices of a fleet: from its beginning to its last result, what the
// service's memory grows by meanwhile, and how long a plan of it takes.
func (b *bench) jobs() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	// Each device has a disk of its own; here they would share one, and wait for it.
	dir, err := os.MkdirTemp("/dev/shm", "moorwatch-bench-")
	if err != nil {
		return err
	}
	if err := w.fleetIn(b.ctx, dir, "job", sim.Board, b.devices); err != nil {
		return err
	}
	for range 200 { // all have told of themselves
		n := 0
		for _, err := range w.client.Devices(b.ctx, "online && name.startsWith('job-') && os == 'linux'") {
			if err != nil {
				return err
			}
			n++
		}
		if n == b.devices {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	s, err := client.Made(w.client.AddScriptWithResponse(b.ctx,
		api.NewScript{Content: &script.Script{Name: "Five kilobytes", Interpreter: "sh", Body: "seq 1 1200\n"}}))
	if err != nil {
		return err
	}
	in := api.NewJob{Script: &s.ID, Where: new("name.startsWith('job-')"), Plan: new(true)}
	var plans []float64
	for range 7 {
		began := time.Now()
		if _, err := client.Made(w.client.AddJobWithResponse(b.ctx, in)); err != nil {
			return err
		}
		plans = append(plans, ms(time.Since(began)))
	}
	idle, err := resident(w.service.Process.Pid)
	if err != nil {
		return err
	}
	in.Plan = nil
	began := time.Now()
	j, err := client.Made(w.client.AddJobWithResponse(b.ctx, in))
	if err != nil {
		return err
	}
	grown, behind := 0.0, time.Duration(0)
	for j.EndedAt == nil {
		if time.Since(began) > 3*time.Minute {
			return fmt.Errorf("after three minutes %v", j.Counts)
		}
		time.Sleep(500 * time.Millisecond)
		now, err := resident(w.service.Process.Pid)
		if err != nil {
			return err
		}
		grown = max(grown, (now-idle)/(1<<20))
		asked := time.Now()
		if j, err = client.Result(w.client.GetJobWithResponse(b.ctx, j.ID)); err != nil {
			return err
		}
		behind = max(behind, time.Since(asked))
	}
	took := time.Since(began)
	if n := j.Counts["succeeded"]; n != b.devices {
		return fmt.Errorf("of %d runs %v", b.devices, j.Counts)
	}
	b.figure(fmt.Sprintf("a job on %d devices", b.devices), took.Seconds(), "s", 20, true)
	b.figure("and the service's memory meanwhile", grown, "MiB", 150, true)
	b.figure("its board, at the slowest", behind.Seconds(), "s", 1, true)
	b.figure("planning it for 10,000", median(plans)*10_000/float64(b.devices), "ms", 200, true)
	return nil
}
