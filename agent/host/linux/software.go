//go:build linux

package linux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
)

// software installs packages by dpkg with apt (dpkg(1), apt-get(8)), or by rpm with dnf (rpm(8)).
type software struct{ rpm bool }

// softwareOf finds the system's package manager; nil where it has none that is known.
func softwareOf() host.Software {
	if _, err := exec.LookPath("dpkg-query"); err == nil {
		return software{}
	}
	if _, err := exec.LookPath("rpm"); err == nil {
		return software{rpm: true}
	}
	return nil
}

// Formats implements host.Software.
func (s software) Formats() []string {
	if s.rpm {
		return []string{".rpm"}
	}
	return []string{".deb"}
}

// run runs a program of the package manager, without questions.
func (software) run(ctx context.Context, out io.Writer, argv ...string) (exit int, err error) {
	return unix.Runner{}.Run(ctx, link.Command{Argv: argv, Env: []string{"DEBIAN_FRONTEND=noninteractive", "LC_ALL=C.UTF-8"}}, out, out)
}

// Version implements host.Software.
func (s software) Version(ctx context.Context, name string) (string, error) {
	if strings.HasPrefix(name, "-") {
		return "", fmt.Errorf("%q is no name of a package", name)
	}
	var out bytes.Buffer
	if s.rpm {
		exit, err := s.run(ctx, &out, "rpm", "-q", "--qf", "%{VERSION}-%{RELEASE}", "--", name)
		if err != nil || exit != 0 {
			return "", err
		}
		return strings.TrimSpace(out.String()), nil
	}
	exit, err := s.run(ctx, &out, "dpkg-query", "-W", "-f", "${db:Status-Status} ${Version}\n", "--", name)
	if err != nil || exit != 0 {
		return "", err
	}
	for line := range strings.Lines(out.String()) {
		if state, version, _ := strings.Cut(strings.TrimSpace(line), " "); state == "installed" {
			return version, nil
		}
	}
	return "", nil
}

// aptOptions keep the configuration that was changed at the
// device, and have apt wait for another that installs.
var aptOptions = []string{"-o", "Dpkg::Options::=--force-confdef", "-o", "Dpkg::Options::=--force-confold", "-o", "DPkg::Lock::Timeout=120",
	"-y", "-q"}

// Install implements host.Software.
func (s software) Install(ctx context.Context, path string, log io.Writer) error {
	if !filepath.IsAbs(path) {
		return errors.New("the file has no whole path")
	}
	if s.rpm {
		if _, err := exec.LookPath("dnf"); err == nil {
			return failed(s.run(ctx, log, "dnf", "-y", "install", path))
		}
		return failed(s.run(ctx, log, "rpm", "-U", "--", path))
	}
	// apt has dpkg install what the file needs, too; --allow-downgrades, as a package says which version.
	return failed(s.run(ctx, log, append(append([]string{"apt-get"}, aptOptions...), "--allow-downgrades", "--no-install-recommends",
		"install", path)...))
}

// Remove implements host.Software.
func (s software) Remove(ctx context.Context, name string, log io.Writer) error {
	if version, err := s.Version(ctx, name); err != nil || version == "" {
		return err
	}
	if s.rpm {
		if _, err := exec.LookPath("dnf"); err == nil {
			return failed(s.run(ctx, log, "dnf", "-y", "remove", "--", name))
		}
		return failed(s.run(ctx, log, "rpm", "-e", "--", name))
	}
	return failed(s.run(ctx, log, append(append([]string{"apt-get"}, aptOptions...), "remove", "--", name)...))
}

func failed(exit int, err error) error {
	if err == nil && exit != 0 {
		err = fmt.Errorf("the package manager ended with exit status %d", exit)
	}
	return err
}
