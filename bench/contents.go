package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
	"moorwatch.example/uplink"
)

// What the content store hands out: a package of this size to so many devices, so many at once. Their
// folders are in memory, so that the way is measured and not this machine's disk.
const (
	handed       = 200_000_000
	handedTo     = 100
	handedAtOnce = 16
)

// contents measures how many bytes a second the content store hands to many devices in all.
func (b *bench) contents() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("/dev/shm", "moorwatch-bench-")
	if err != nil {
		return err
	}
	if err := w.fleetIn(b.ctx, dir, "get", sim.Board, handedTo); err != nil {
		return err
	}
	source := filepath.Join(w.dir, "large_1.0_all.deb")
	if err := noiseFile(source, handed); err != nil {
		return err
	}
	f, err := w.client.StoreContent(b.ctx, source, nil)
	if err != nil {
		return err
	}
	p := pack.Package{Name: "Large", Version: "1.0", Files: []pack.File{f},
		There:   pack.There{Condition: work.Condition{Kind: work.OfSoftware, Of: "large"}},
		Install: []work.Step{{Do: work.Install, File: f.Name}}}
	file, err := p.File()
	if err != nil {
		return err
	}
	made, err := client.Made(w.client.AddPackageWithResponse(b.ctx, api.NewPackage{File: string(file)}))
	if err != nil {
		return err
	}
	server, fingerprint, err := ownAuthority()
	if err != nil {
		return err
	}
	raw, err := overTLS(server, uplink.Pinned(fingerprint))
	if err != nil {
		return err
	}
	spent, err := cpuOf(w.service.Process.Pid)
	if err != nil {
		return err
	}
	began := time.Now()
	j, err := client.Made(w.client.AddJobWithResponse(b.ctx,
		api.NewJob{Package: &made.ID, Where: new("name.startsWith('get-')"), Limits: &job.Limits{AtOnce: handedAtOnce, WaitHours: 1}}))
	if err != nil {
		return err
	}
	for j.EndedAt == nil {
		if time.Since(began) > 5*time.Minute {
			return fmt.Errorf("after five minutes %v", j.Counts)
		}
		select {
		case <-b.ctx.Done():
			return b.ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
		if j, err = client.Result(w.client.GetJobWithResponse(b.ctx, j.ID)); err != nil {
			return err
		}
	}
	if n := j.Counts[string(job.Succeeded)]; n != handedTo {
		return fmt.Errorf("of %d runs %v", handedTo, j.Counts)
	}
	took := time.Since(began)
	now, err := cpuOf(w.service.Process.Pid)
	if err != nil {
		return err
	}
	again, err := overTLS(server, uplink.Pinned(fingerprint))
	if err != nil {
		return err
	}
	// The devices share these cores, and each compares a digest of what it was handed.
	b.figure(fmt.Sprintf("200 MB to %d devices, in all", handedTo), handed*handedTo/took.Seconds()/1e6, "MB/s", 0.33*(raw+again)/2/1e6,
		false)
	b.figure("and a second of the service's core", handed*handedTo/(now-spent).Seconds()/1e6, "MB", 0.33*(raw+again)/2/1e6, false)
	return nil
}
