//go:build linux

// Package linux is the host of Linux devices.
package linux

import (
	"bufio"
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	pshost "github.com/shirou/gopsutil/v4/host"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/agent/host/unix"
	"moorwatch.example/core/device"
)

// New returns what this computer offers.
func New() host.Host {
	informer := portable.Informer{OS: device.Linux, More: more}
	h := host.Host{
		Informer: informer,
		Meter:    &portable.Meter{People: people, More: sense},
		Runner:   unix.Runner{},
		Terminals: unix.Terminals{Shells: []string{"/bin/bash", "/bin/sh", "/usr/bin/zsh", "/usr/bin/fish", "/usr/bin/python3"},
			Become: unix.Become},
		Lister:    portable.Lister{Informer: informer, More: list},
		Queries:   true,
		Prober:    &portable.Prober{Service: service, Journal: journal},
		Asker:     portable.Asker{Service: service},
		Disk:      &unix.Disk{},
		Processes: (&portable.Processes{Priority: unix.Priority, SetPriority: unix.SetPriority, Launch: launch}).Keep(),
		Events:    events{},
		Network:   portable.Network{More: network, Neighbours: neighbours},
		People:    persons{},
		Settings:  portable.Settings{Disk: &unix.Disk{}},
		Screens:   screens{},
		Software:  softwareOf(),
		Updates:   updatesOf(),
		Sources:   present(sources),
	}
	if booted() {
		h.Services, h.Power = services{}, &machine{}
	}
	return h
}

// more reads what firmware tells (DMI through sysfs, or the device tree of small boards) and the
// distribution's own name (os-release(5)).
func more(f *device.Facts) {
	first := func(paths ...string) string {
		for _, p := range paths {
			b, err := os.ReadFile(p)
			if s := strings.Trim(string(b), " \t\n\x00"); err == nil && s != "" {
				return s
			}
		}
		return ""
	}
	f.Vendor = first("/sys/class/dmi/id/sys_vendor")
	f.Model = first("/sys/class/dmi/id/product_name", "/proc/device-tree/model")
	f.Serial = first("/sys/class/dmi/id/product_serial", "/proc/device-tree/serial-number")
	f.Hardware = hardware(f, "/sys")
	if target, err := os.Readlink("/etc/localtime"); err == nil {
		if _, zone, ok := strings.Cut(target, "zoneinfo/"); ok {
			f.TimeZone = zone
		}
	}
	release, err := os.Open("/etc/os-release")
	if err != nil {
		return
	}
	defer release.Close()
	for s := bufio.NewScanner(release); s.Scan(); {
		key, value, _ := strings.Cut(s.Text(), "=")
		value = strings.Trim(value, `"'`)
		switch key {
		case "NAME":
			f.OSName = value
		case "VERSION_ID":
			f.OSVersion = value
		}
	}
}

// people reads utmp(5); how long someone is idle is how long ago their terminal was typed at,
// as w(1) tells it.
func people(ctx context.Context) []device.SignedIn {
	list := []device.SignedIn{}
	users, err := pshost.UsersWithContext(ctx)
	if err != nil {
		return list
	}
	for _, u := range users {
		p := device.SignedIn{Name: u.User, Where: u.Terminal, IdleSeconds: -1}
		if info, err := os.Stat("/dev/" + u.Terminal); err == nil {
			if stat, ok := info.Sys().(*syscall.Stat_t); ok {
				p.IdleSeconds = max(0, int64(time.Since(time.Unix(stat.Atim.Unix())).Seconds()))
			}
		}
		list = append(list, p)
	}
	return list
}

// hardware lists the names that the computer's parts have: the board's and the maker's, and those of adapters
// that a driver stands behind. A container sees its host's, and has none.
func hardware(f *device.Facts, sys string) []string {
	for _, sign := range []string{"/run/systemd/container", "/run/.containerenv", "/.dockerenv"} {
		if _, err := os.Stat(sign); err == nil {
			return nil
		}
	}
	list := []string{device.HardwareName(device.HardwareBoard, read(sys+"/class/dmi/id/product_uuid")),
		device.HardwareName(device.HardwareSerial, f.Model+"/"+f.Serial)}
	adapters, _ := filepath.Glob(sys + "/class/net/*/device")
	for _, path := range adapters {
		list = append(list, device.HardwareName(device.HardwareMAC, read(filepath.Dir(path)+"/address")))
	}
	return device.CleanHardware(list)
}
