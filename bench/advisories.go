package main

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"time"

	"moorwatch.example/core/advisory"
	"moorwatch.example/core/inventory"
)

// What is compared in the figures of advisories.
const (
	knownAdvisories = 50_000
	knownPackages   = 20_000 // that advisories are about, two each
	versionsOf      = 8      // of each package, across the fleet
	packagesEach    = 1500
)

// advisories measures, on one core, how long it takes to compare the software of the fleet with advisories: the
// index, the package URLs of each piece of software, and which devices have which weakness. Software is told
// apart by name and version as the service keeps it: each piece is compared once.
func (b *bench) advisories() error {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	r := rand.New(rand.NewPCG(7, 7))
	name := func(i int) string { return fmt.Sprintf("pack-%d", i) }
	version := func(i int) string { return fmt.Sprintf("1:2.%d.%d-3+deb12u%d", i%7, i, i%4) }
	all := make([]advisory.Advisory, knownAdvisories)
	for i := range all {
		all[i] = advisory.Advisory{ID: fmt.Sprintf("MOOR-%d", i), Aliases: []string{fmt.Sprintf("CVE-2026-%d", i)}}
		for range 2 {
			all[i].Affected = append(all[i].Affected, advisory.Affected{Type: "deb", Namespace: "debian", Name: name(r.IntN(knownPackages)),
				Release: "12", Spans: []advisory.Span{{Fixed: version(r.IntN(versionsOf))}}})
		}
	}
	purls := make([]string, knownPackages*versionsOf)
	for i := range purls {
		purls[i] = inventory.PackageURL("deb", "debian", name(i/versionsOf), version(i%versionsOf), "arch", "amd64")
	}
	devices := make([][]int32, patchDevices)
	for d := range devices {
		for range packagesEach {
			devices[d] = append(devices[d], int32(r.IntN(len(purls))))
		}
	}
	began := time.Now()
	x := advisory.NewIndex(all)
	found := make([][]advisory.Hit, len(purls))
	for i, purl := range purls {
		p, ok := advisory.Parse(purl, "", "")
		if !ok {
			return fmt.Errorf("%s is no package URL", purl)
		}
		found[i] = x.Match(p)
	}
	weak, most := 0, 0
	for _, has := range devices {
		n := 0
		for _, s := range has {
			n += len(found[s])
		}
		weak, most = weak+n, max(most, n)
	}
	took := time.Since(began)
	if weak == 0 {
		return fmt.Errorf("no device has a weakness")
	}
	b.figure(fmt.Sprintf("software of %d devices compared with %d advisories", patchDevices, knownAdvisories), took.Seconds(), "s", 30,
		true)
	var one []float64
	for d := range 50 {
		began := time.Now()
		for _, s := range devices[d] {
			p, _ := advisory.Parse(purls[s], "", "")
			x.Match(p)
		}
		one = append(one, ms(time.Since(began)))
	}
	b.figure("software of one device compared anew", median(one), "ms", 50, true)
	return nil
}
