package host_test

import (
	"reflect"
	"slices"
	"testing"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/core/device"
)

// all are the capabilities that the contract knows.
var all = []string{device.CapabilityVitals, device.CapabilityCommands, device.CapabilityShell, device.CapabilityInventory,
	device.CapabilityProbes, device.CapabilityQuestions, device.CapabilityFiles, device.CapabilityProcesses, device.CapabilityServices,
	device.CapabilityEvents, device.CapabilityNetwork, device.CapabilityPower, device.CapabilityPeople, device.CapabilitySettings,
	device.CapabilityQueries, device.CapabilityScreen, device.CapabilityPackages, device.CapabilityUpdates}

func whole(t *testing.T) host.Host {
	t.Helper()
	return sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 7, Address: "192.0.2.10", Dir: t.TempDir()}.Host(time.Now)
}

func TestCapabilitiesAreThoseOfTheContract(t *testing.T) {
	if got := whole(t).Capabilities(); !slices.Equal(got, all) {
		t.Errorf("a host that offers everything lists %q, want %q", got, all)
	}
	if got := (host.Host{}).Capabilities(); got == nil || len(got) > 0 {
		t.Errorf("a host that offers nothing lists %q", got)
	}
	h := reflect.TypeFor[host.Host]()
	for i := range h.NumField() {
		if f := h.Field(i); f.Tag.Get("needs") != "" && !slices.Contains(all, f.Tag.Get("needs")) {
			t.Errorf("%s needs %q, which is no capability", f.Name, f.Tag.Get("needs"))
		}
	}
	if (host.Host{}).Offers("teleportation") {
		t.Error("a capability that there is none of is offered")
	}
}

func TestWithoutTakesAwayWhatIsWithheld(t *testing.T) {
	gone := map[string][]string{ // with what goes with it
		device.CapabilityCommands: {device.CapabilityPackages, device.CapabilityUpdates},
	}
	for _, name := range all {
		want := slices.Clone(all)
		if slices.Contains(device.Withholdable, name) {
			want = slices.DeleteFunc(want, func(c string) bool { return c == name || slices.Contains(gone[name], c) })
		}
		h := whole(t)
		if got := h.Without([]string{name, "teleportation"}).Capabilities(); !slices.Equal(got, want) {
			t.Errorf("without %s: %q, want %q", name, got, want)
		}
		if got := h.Capabilities(); !slices.Equal(got, all) {
			t.Errorf("the host itself lost some: %q", got)
		}
	}
	if got := whole(t).Without(nil).Capabilities(); !slices.Equal(got, all) {
		t.Errorf("without nothing: %q", got)
	}
}

func TestWhatNeedsAnotherIsNotOfferedAlone(t *testing.T) {
	h := whole(t)
	h.Lister = nil
	if h.Offers(device.CapabilityQueries) || h.Offers(device.CapabilityInventory) {
		t.Error("queries are offered without an inventory")
	}
}
