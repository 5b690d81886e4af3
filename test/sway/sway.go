// Package sway starts desktops of a Wayland compositor for tests.
package sway

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
)

// nobody is the account without rights of any kind, as which the compositor runs: it does not as root.
const nobody = 65534

// Start starts a compositor of 640x480 without a monitor, and a terminal on it in which a script runs, in a folder
// of their own. It ends with the test, which is skipped where the programs are missing. The socket is there a moment
// later.
func Start(t testing.TB, script string) (socket, dir string) {
	t.Helper()
	for _, program := range []string{"sway", "foot"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is missing")
		}
	}
	dir = t.TempDir()
	config, log := filepath.Join(dir, "config"), filepath.Join(dir, "log")
	err := errors.Join(os.Chmod(dir, 0o700), os.Chmod(filepath.Dir(dir), 0o755),
		os.WriteFile(config,
			[]byte("output * mode 640x480\noutput * background #204080 solid_color\ndefault_border none\nexec foot sh -c '"+script+"'\n"),
			0o600))
	out, wrong := os.Create(log)
	if err = errors.Join(err, wrong); err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	cmd := exec.Command("sway", "--config", config)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "XDG_RUNTIME_DIR="+dir, "WLR_BACKENDS=headless", "WLR_RENDERER=pixman", "WLR_LIBINPUT_NO_DEVICES=1",
		"WAYLAND_DISPLAY=", "DISPLAY=", "HOME="+dir)
	cmd.Stdout, cmd.Stderr = out, out
	if os.Getuid() == 0 {
		for _, path := range []string{dir, config} {
			if err := os.Chown(path, nobody, nobody); err != nil {
				t.Fatal(err)
			}
		}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		if text, err := os.ReadFile(log); t.Failed() && err == nil {
			t.Logf("the compositor says: %s", text)
		}
	})
	return filepath.Join(dir, "wayland-1"), dir
}
