package setup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// Here is where the agent stands on this system.
func Here() Place {
	return Place{Program: "/opt/moor-agent/moor-agent", Dir: "/var/lib/moor-agent"}
}

// services chooses what starts services here.
func services() (manager, error) {
	there := func(path string) bool { _, err := os.Stat(path); return err == nil }
	switch {
	case there("/run/systemd/system"):
		return systemd{}, nil
	case there("/sbin/openrc-run"):
		return openRC{}, nil
	case there("/etc/inittab"):
		return inittab{}, nil
	}
	return nil, errNoManager
}

// run runs a program of the system, and gives what it complains of as the error.
func run(ctx context.Context, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = fmt.Errorf("%s: %s", name, said)
	}
	return err
}

// systemd implements manager (systemd.service(5)).
type systemd struct{}

const unitFile = "/etc/systemd/system/" + ServiceName + ".service"

// unitText is the service's unit. The agent ends with status 75 to be started anew by its new program.
const unitText = `[Unit]
Description=Moorwatch agent
After=network.target
StartLimitIntervalSec=0

[Service]
ExecStart=%s run --managed
Restart=always
RestartSec=2
KillMode=mixed
TimeoutStopSec=20
OOMScoreAdjust=-500

[Install]
WantedBy=multi-user.target
`

func (systemd) name() string { return "systemd" }

func (systemd) add(ctx context.Context, p Place) error {
	if err := os.WriteFile(unitFile, fmt.Appendf(nil, unitText, p.Program), 0o644); err != nil {
		return err
	}
	return errors.Join(run(ctx, "systemctl", "daemon-reload"), run(ctx, "systemctl", "--quiet", "enable", "--now", ServiceName))
}

func (systemd) remove(ctx context.Context) error {
	if _, err := os.Stat(unitFile); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	err := run(ctx, "systemctl", "--quiet", "disable", "--now", ServiceName)
	return errors.Join(err, os.Remove(unitFile), run(ctx, "systemctl", "daemon-reload"))
}

func (systemd) state(ctx context.Context) string {
	if _, err := os.Stat(unitFile); err != nil {
		return "absent"
	}
	if run(ctx, "systemctl", "--quiet", "is-active", ServiceName) == nil {
		return "running"
	}
	return "stopped"
}

// openRC implements manager (openrc-run(8), supervise-daemon(8)).
type openRC struct{}

const (
	rcFile = "/etc/init.d/" + ServiceName
	rcText = `#!/sbin/openrc-run
description="Moorwatch agent"
supervisor=supervise-daemon
command=%s
command_args="run --managed"
respawn_delay=2
respawn_max=0
depend() {
	use net
}
`
)

func (openRC) name() string { return "OpenRC" }

func (openRC) add(ctx context.Context, p Place) error {
	if err := os.WriteFile(rcFile, fmt.Appendf(nil, rcText, p.Program), 0o755); err != nil {
		return err
	}
	return errors.Join(run(ctx, "rc-update", "--quiet", "add", ServiceName, "default"),
		run(ctx, "rc-service", "--quiet", ServiceName, "start"))
}

func (openRC) remove(ctx context.Context) error {
	if _, err := os.Stat(rcFile); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	run(ctx, "rc-service", "--quiet", ServiceName, "stop")
	return errors.Join(run(ctx, "rc-update", "--quiet", "del", ServiceName, "default"), os.Remove(rcFile))
}

func (openRC) state(ctx context.Context) string {
	if _, err := os.Stat(rcFile); err != nil {
		return "absent"
	}
	if run(ctx, "rc-service", "--quiet", ServiceName, "status") == nil {
		return "running"
	}
	return "stopped"
}

// inittab implements manager by a line of the table that the first process reads (inittab(5)), which
// starts the agent again whenever it ends.
type inittab struct{}

const tableFile = "/etc/inittab"

func (inittab) name() string { return "init" }

// tableLine is the agent's line. BusyBox takes the first field for a terminal: it stays empty there.
func tableLine(busybox bool, p Place) string {
	if busybox {
		return "::respawn:" + p.Program + " run --managed\n"
	}
	return "moor:2345:respawn:" + p.Program + " run --managed\n"
}

func busybox() bool {
	target, err := filepath.EvalSymlinks("/sbin/init")
	return err == nil && strings.Contains(filepath.Base(target), "busybox")
}

// withoutLine takes the agent's line out of the table.
func withoutLine(table []byte) []byte {
	var kept []byte
	for line := range bytes.Lines(table) {
		if !bytes.Contains(line, []byte(":respawn:")) || !bytes.Contains(line, []byte("/"+ServiceName+" run")) {
			kept = append(kept, line...)
		}
	}
	return kept
}

func (inittab) change(do func(table []byte) []byte) error {
	table, err := os.ReadFile(tableFile)
	if err != nil {
		return err
	}
	fresh := tableFile + ".moor-new"
	if err := os.WriteFile(fresh, do(table), 0o644); err != nil {
		return err
	}
	return os.Rename(fresh, tableFile)
}

// reread has the first process read its table again.
func reread(ctx context.Context) error {
	if busybox() {
		return run(ctx, "kill", "-HUP", "1")
	}
	return run(ctx, "telinit", "q")
}

func (t inittab) add(ctx context.Context, p Place) error {
	err := t.change(func(table []byte) []byte {
		table = withoutLine(table)
		if len(table) > 0 && table[len(table)-1] != '\n' {
			table = append(table, '\n')
		}
		return append(table, tableLine(busybox(), p)...)
	})
	if err != nil {
		return err
	}
	return reread(ctx)
}

func (t inittab) remove(ctx context.Context) error {
	if t.state(ctx) == "absent" {
		return nil
	}
	if err := t.change(withoutLine); err != nil {
		return err
	}
	err := reread(ctx)
	if l, wrong := Living(Here().Dir); wrong == nil && l.PID > 1 { // init leaves what it started alone
		if p, wrong := os.FindProcess(l.PID); wrong == nil && isAgent(l.PID) {
			p.Signal(os.Interrupt)
		}
	}
	return err
}

func isAgent(pid int) bool {
	to, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	return err == nil && strings.HasPrefix(filepath.Base(to), ServiceName)
}

func (inittab) state(context.Context) string {
	table, err := os.ReadFile(tableFile)
	if err != nil || len(withoutLine(table)) == len(table) {
		return "absent"
	}
	if l, err := Living(Here().Dir); err == nil && isAgent(l.PID) {
		return "running"
	}
	return "stopped"
}
