// Package wine makes Windows machines of Debian's Wine, for the tests and measurements of the real agent.
package wine

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// Machine is a Windows of its own: a prefix of Wine, with a display of the host.
type Machine struct {
	Prefix  string
	Display string
}

// forwards stands in for a DLL that Wine 8 lacks, and that Go's programs ask for random numbers.
//
//go:embed bcryptprimitives.def
var forwards []byte

// Missing tells what this host lacks, in words; "" where nothing.
func Missing() string {
	for _, program := range []string{"wine", "wineserver", "x86_64-w64-mingw32-dlltool", "xdotool"} {
		if _, err := exec.LookPath(program); err != nil {
			return program + " is missing"
		}
	}
	return ""
}

// Make makes a prefix, which takes half a minute; Copy is quicker.
func Make(ctx context.Context, prefix string) error {
	dir, err := os.MkdirTemp("", "wine-stub-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.WriteFile(filepath.Join(dir, "stub.def"), forwards, 0o600); err != nil {
		return err
	}
	const tool = "x86_64-w64-mingw32-"
	boot := exec.CommandContext(ctx, "sh", "-c", "wineboot -i && wineserver -w")
	boot.Env = append(os.Environ(), "WINEPREFIX="+prefix, "WINEDEBUG=-all", "WINEARCH=win64", "DISPLAY=")
	stub := exec.CommandContext(ctx, "sh", "-c", tool+"dlltool -d stub.def -e stub.exp && "+tool+"as -o empty.o - </dev/null && "+tool+
		"ld -shared --dll -e 0 -o bcryptprimitives.dll empty.o stub.exp && cp bcryptprimitives.dll "+prefix+"/drive_c/windows/system32/")
	stub.Dir = dir
	for _, cmd := range []*exec.Cmd{boot, stub} {
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", cmd.Args[2], err, out)
		}
	}
	return nil
}

// Copy copies a prefix.
func Copy(ctx context.Context, from, to string) error {
	if out, err := exec.CommandContext(ctx, "cp", "-a", from, to).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// Command prepares a program of the host with Wine's variables; that of wine runs a Windows program.
func (m *Machine) Command(program string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "WINEPREFIX="+m.Prefix, "WINEDEBUG=-all", "DISPLAY="+m.Display)
	return cmd
}

// doWithin is how long a Windows program may take: one that starts a service has been seen to wait for more than a
// minute beside others.
const doWithin = 3 * time.Minute

// notStarted is what Wine says when it could not start a program, which it has been seen to do once in a hundred
// times without a reason; nothing was done then.
const notStarted = "Application could not be started, or no application associated with the specified file."

// Do runs a Windows program and returns what it printed.
func (m *Machine) Do(argv ...string) (out string, err error) {
	for range 2 {
		if out, err = m.once(argv); err == nil || !strings.Contains(out, notStarted) {
			break
		}
	}
	return out, err
}

func (m *Machine) once(argv []string) (string, error) {
	// What it starts keeps its output open: that is not waited for.
	file, err := os.CreateTemp("", "wine-out-")
	if err != nil {
		return "", err
	}
	defer os.Remove(file.Name())
	defer file.Close()
	cmd := m.Command("wine", argv...)
	cmd.Stdout, cmd.Stderr = file, file
	if err := cmd.Start(); err != nil {
		return "", err
	}
	late := time.AfterFunc(doWithin, func() { cmd.Process.Kill() })
	defer late.Stop()
	err = cmd.Wait()
	out, wrong := os.ReadFile(file.Name())
	return string(out), errors.Join(err, wrong)
}

// C is where a path below C:\ lies here.
func (m *Machine) C(path string) string { return filepath.Join(m.Prefix, "drive_c", path) }

// End ends all that runs there.
func (m *Machine) End() {
	m.Command("wineserver", "-k").Run()
	m.Command("wineserver", "-w").Run()
}
