//go:build unix

package darwin

import (
	"context"
	"strings"
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
	system := tools(run)
	informer := portable.Informer{OS: device.MacOS, More: func(f *device.Facts) { more(system, f) }}
	launchd := services{tools: system, poll: 200 * time.Millisecond}
	people := persons{tools: system, terminals: terminals}
	return host.Host{
		Informer:  informer,
		Meter:     &portable.Meter{People: terminals},
		Lister:    portable.Lister{Informer: informer, More: lister{tools: system}.list},
		Queries:   true,
		Prober:    &portable.Prober{Service: launchd.running},
		Asker:     portable.Asker{Service: launchd.running},
		Runner:    posix.Runner{},
		Disk:      &posix.Disk{},
		Software:  software{},
		Updates:   updates{},
		Processes: (&portable.Processes{Priority: posix.Priority, SetPriority: posix.SetPriority, Launch: people.launch}).Keep(),
		Services:  launchd,
		Events:    events{},
		Network:   portable.Network{More: system.network, Neighbours: system.neighbours},
		People:    people,
		Power:     &machine{tools: system, people: people},
		Settings:  settings{tools: system, people: people},
		Screens:   newScreens(people),
		Terminals: posix.Terminals{Shells: []string{"/bin/zsh", "/bin/bash", "/bin/sh"}, Become: posix.Become},
	}
}

// more reads what the I/O Registry tells of the computer (ioreg(8)).
func more(t tools, f *device.Facts) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	f.OSName = "macOS"
	if model, err := t.ask(ctx, "/usr/sbin/sysctl", "-n", "hw.model"); err == nil {
		f.Model = strings.TrimSpace(model)
	}
	var all []struct {
		Serial string `plist:"IOPlatformSerialNumber"`
		UUID   string `plist:"IOPlatformUUID"`
	}
	if err := t.list(ctx, &all, "/usr/sbin/ioreg", "-a", "-r", "-c", "IOPlatformExpertDevice", "-d", "1"); err == nil && len(all) > 0 {
		f.Serial = all[0].Serial
		f.Hardware = device.CleanHardware([]string{device.HardwareName(device.HardwareBoard, all[0].UUID),
			device.HardwareName(device.HardwareSerial, f.Model+"/"+f.Serial)})
	}
}

// terminals lists who is signed in by utmpx, with the time since their terminal was used.
func terminals(ctx context.Context) []device.SignedIn {
	list := []device.SignedIn{}
	users, err := pshost.UsersWithContext(ctx)
	if err != nil {
		return list
	}
	for _, u := range users {
		p := device.SignedIn{Name: u.User, Where: u.Terminal, IdleSeconds: -1}
		var s unix.Stat_t
		if unix.Stat("/dev/"+u.Terminal, &s) == nil { // read when somebody types
			p.IdleSeconds = max(0, int64(time.Since(time.Unix(s.Atim.Unix())).Seconds()))
		}
		list = append(list, p)
	}
	return list
}
