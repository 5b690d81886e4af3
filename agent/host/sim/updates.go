package sim

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// simUpdates offers a simulated device the updates of the sample world.
type simUpdates struct{ *simulated }

// released are the updates of the sample world, by system; those of a kind of device alone after them.
// Their releases are told in days before the device's time.
var released = map[string][]offer{
	device.Linux: {
		{update.Update{Source: "apt", Name: "heathssl", Title: "Encryption for programs", From: "3.0.14-1", To: "3.0.15-1",
			Class: update.Security, Severity: "high", Size: 2_030_000, Restart: update.RestartService, Vendor: "Heath Tools",
			Advisories: []string{"MOOR-2026-0112"}}, 12},
		{update.Update{Source: "apt", Name: "fellcore-image", Title: "Kernel for fell boards", From: "6.1.31-1", To: "6.1.38-1",
			Class: update.Security, Severity: "medium", Size: 68_000_000, Restart: update.RestartDevice, Vendor: "Heath Tools",
			Advisories: []string{"MOOR-2026-0107"}}, 33},
		{update.Update{Source: "apt", Name: "moss-tools", Title: "Small programs for the command line", From: "9.1", To: "9.2",
			Class: update.Other, Size: 410_000, Vendor: "Heath Tools"}, 5},
	},
	device.Windows: {
		{update.Update{Source: "windows", Name: "2026-11 cumulative", Title: "Cumulative security update, November", From: "2026-10",
			To: "2026-11", Class: update.Security, Severity: "critical", Size: 690_000_000, Restart: update.RestartDevice,
			Advisories: []string{"MOOR-2026-0118", "MOOR-2026-0119"}}, 15},
		{update.Update{Source: "windows", Name: "safety definitions", Title: "Definitions of malware", From: "1.419", To: "1.421",
			Class: update.Definition, Size: 1_900_000}, 1},
		{update.Update{Source: "windows", Name: "Fennick network driver", Title: "Fennick network driver", From: "12.18", To: "12.19",
			Class: update.Driver, Size: 4_200_000, Vendor: "Fennick"}, 41},
	},
	device.MacOS: {
		{update.Update{Source: "macos", Name: "macOS 15.6.1", Title: "macOS 15.6.1", From: "15.6", To: "15.6.1", Class: update.Security,
			Severity: "high", Size: 1_600_000_000, Restart: update.RestartDevice, Advisories: []string{"MOOR-2026-0115"}}, 20},
	},
}

var releasedFor = map[Kind][]offer{
	Kiosk: {{update.Update{Source: "apt", Name: catalogueScreen, Title: "Catalogue on the screen", From: "3.2", To: broken,
		Class: update.Security, Severity: "medium", Size: 18_400_000, Restart: update.RestartService, Vendor: "Larkmoor Libraries",
		Advisories: []string{"MOOR-2026-0120"}}, 6}},
	Server: {{update.Update{Source: "apt", Name: "recordsd", Title: "Records of animals and owners", From: "5.4.0", To: "5.4.2",
		Class: update.Critical, Size: 31_000_000, Restart: update.RestartService, Vendor: "Sallowbrook Vets"}, 9}},
}

type offer struct {
	update.Update
	days int
}

// The version of the kiosks' program that does not start.
const (
	catalogueScreen = "catalogue-screen"
	broken          = "3.3"
)

// offers are all updates that such a device is ever offered. A device in eight has all of its system's.
func (s *simulated) offers() (all []offer) {
	if s.Seed%8 != 0 {
		all = append(all, released[natures[s.Kind].os]...)
	}
	return append(all, releasedFor[s.Kind]...)
}

// updatesNow are the versions that updates led to, by name.
func (s *simulated) updatesNow() map[string]string {
	t := s.state.Load()
	if t == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return maps.Clone(t.updates)
}

// has is the version that the device has of what is offered.
func (s *simulated) has(o offer) string { return cmp.Or(s.updatesNow()[o.Name], o.From) }

// Missing implements host.Updates.
func (s simUpdates) Missing(context.Context, bool) (all []update.Update, err error) {
	for _, o := range s.offers() {
		if s.has(o) == o.To {
			continue
		}
		u := o.Update
		u.Released = s.now().AddDate(0, 0, -o.days).Truncate(24 * time.Hour)
		all = append(all, u)
	}
	return all, nil
}

// Fetch implements host.Updates.
func (s simUpdates) Fetch(_ context.Context, all []work.Version, log io.Writer) error {
	for _, o := range s.mine(all, false) {
		fmt.Fprintf(log, "Fetched %s %s (%d bytes)\n", o.Name, o.To, o.Size)
	}
	return nil
}

// mine are the offers that versions are about, and that the device has not; of going back, those that it has.
func (s simUpdates) mine(all []work.Version, back bool) (out []offer) {
	for _, o := range s.offers() {
		want := o.To
		if back {
			want = o.From
		}
		if s.has(o) != want && slices.Contains(all, work.Version{Source: o.Source, Name: o.Name, Version: want}) {
			out = append(out, o)
		}
	}
	return out
}

func (s simUpdates) set(o offer, version string, log io.Writer) {
	fmt.Fprintf(log, "%s %s → %s\nSetting up %s (%s) ...\n", o.Name, s.has(o), version, o.Name, version)
	t := s.changed()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.updates == nil {
		t.updates = map[string]string{}
	}
	t.updates[o.Name] = version
	t.restart = t.restart || o.Restart == update.RestartDevice
	if o.Name == catalogueScreen && version == broken {
		t.crash = &device.Crash{Program: catalogueScreen, At: s.now()}
	}
}

// Install implements host.Updates.
func (s simUpdates) Install(_ context.Context, all []work.Version, log io.Writer) error {
	mine := s.mine(all, false)
	if len(mine) == 0 {
		fmt.Fprintln(log, "Nothing of these is missing here.")
	}
	for _, o := range mine {
		if strings.HasPrefix(o.Name, "Fennick") && s.Seed%29 == 7 {
			return errors.New("the driver's installation ended with exit status 1603")
		}
		s.set(o, o.To, log)
	}
	return nil
}

// Back implements host.Updates.
func (s simUpdates) Back(_ context.Context, all []work.Version, log io.Writer) error {
	for _, o := range s.mine(all, true) {
		s.set(o, o.From, log)
	}
	return nil
}

// Refresh implements host.Updates.
func (s simUpdates) Refresh(_ context.Context, log io.Writer) error { return nil }

// Restart implements host.Updates.
func (s simUpdates) Restart(context.Context) (bool, error) {
	t := s.state.Load()
	if t == nil {
		return false, nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.restart, nil
}

// breaks tells whether a service does not start, as the program was updated to a version that cannot.
func (s *simulated) breaks(j job) bool {
	if s.Kind != Kiosk || j.program != "catalogue" {
		return false
	}
	return s.updatesNow()[catalogueScreen] == broken
}
