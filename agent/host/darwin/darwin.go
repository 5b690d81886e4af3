//go:build darwin

// Package darwin is the host of macOS devices. It compiles and is not yet tested on one.
package darwin

import (
	"context"
	"time"

	pshost "github.com/shirou/gopsutil/v4/host"
	"golang.org/x/sys/unix"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	posix "moorwatch.example/agent/host/unix"
	"moorwatch.example/core/device"
)

// New returns what this computer offers.
func New() host.Host {
	informer := portable.Informer{OS: device.MacOS, More: more}
	return host.Host{
		Informer:  informer,
		Meter:     &portable.Meter{People: people},
		Lister:    portable.Lister{Informer: informer},
		Prober:    &portable.Prober{},
		Asker:     portable.Asker{},
		Runner:    posix.Runner{},
		Disk:      &posix.Disk{},
		Software:  software{},
		Updates:   updates{},
		Processes: (&portable.Processes{}).Keep(),
		Network:   portable.Network{},
		Terminals: posix.Terminals{Shells: []string{"/bin/zsh", "/bin/bash", "/bin/sh"}},
	}
}

func more(f *device.Facts) {
	f.OSName = "macOS"
	f.Model, _ = unix.Sysctl("hw.model")
}

func people(ctx context.Context) []device.SignedIn {
	list := []device.SignedIn{}
	users, err := pshost.UsersWithContext(ctx)
	if err != nil {
		return list
	}
	for _, u := range users {
		p := device.SignedIn{Name: u.User, Where: u.Terminal, IdleSeconds: -1}
		var s unix.Stat_t
		if unix.Stat("/dev/"+u.Terminal, &s) == nil {
			p.IdleSeconds = max(0, int64(time.Since(time.Unix(s.Atim.Unix())).Seconds()))
		}
		list = append(list, p)
	}
	return list
}
