package lab

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
)

// What starts the services of a machine that has no systemd.
const (
	BusyBox = "busybox" // its init, by the table /etc/inittab
	OpenRC  = "openrc"  // and OpenRC below it
)

// openRCFiles is where tools/install.sh puts OpenRC's files, which must not be installed beside systemd.
const openRCFiles = "/var/cache/moorwatch/openrc"

// MissingInit tells what this host lacks for machines without systemd, in words; "" where nothing.
func MissingInit() string {
	for _, path := range []string{"/bin/busybox", filepath.Join(openRCFiles, "sbin/openrc-run"), "/usr/bin/systemd-socket-activate"} {
		if _, err := os.Stat(path); err != nil {
			return "machines without systemd need " + path + ": run tools/install.sh test"
		}
	}
	return Missing()
}

// without gives the machine another init than systemd.
func (m *Machine) without(ctx context.Context) error {
	init := filepath.Join(m.Root, "usr/sbin/init")
	os.Remove(init)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(m.lab.options.Service, "http://"))
	if err != nil {
		return err
	}
	table := "::sysinit:/bin/sh /etc/lab-network\n"
	if m.lab.options.Init == OpenRC {
		if err := run(ctx, "cp", "--archive", "--no-target-directory", openRCFiles+"/sbin", filepath.Join(m.Root, "usr/sbin")); err != nil {
			return err
		}
		for _, part := range []string{"lib", "etc", "usr"} {
			if _, err := os.Stat(filepath.Join(openRCFiles, part)); err != nil {
				continue
			}
			to := part
			if part == "lib" {
				to = "usr/lib"
			}
			if err := run(ctx, "cp", "--archive", "--no-target-directory", filepath.Join(openRCFiles, part),
				filepath.Join(m.Root, to)); err != nil {
				return err
			}
		}
		table += "::sysinit:/sbin/openrc sysinit\n::sysinit:/sbin/openrc boot\n::wait:/sbin/openrc default\n"
	}
	// The service's address is on the machine's own loopback, as it is on the host.
	table += fmt.Sprintf("::respawn:/usr/bin/systemd-socket-activate -l 127.0.0.1:%s /lib/systemd/systemd-socket-proxyd %s1:%s\n", port,
		m.lab.subnet, port)
	return errors.Join(os.Symlink("/bin/busybox", init), os.WriteFile(filepath.Join(m.Root, "etc/inittab"), []byte(table), 0o644))
}
