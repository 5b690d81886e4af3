//go:build linux

package linux

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"moorwatch.example/contract/link"
)

const stranger = 54321

// TestMain is, started by a test with these variables, a stranger's program.
func TestMain(m *testing.M) {
	switch os.Getenv("MOORWATCH_TEST_ROLE") {
	case "server": // of a display, without drawing anything
		l, err := net.Listen("unix", os.Getenv("MOORWATCH_TEST_SOCKET"))
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		os.Chmod(os.Getenv("MOORWATCH_TEST_SOCKET"), 0o777)
		go func() {
			for {
				if c, err := l.Accept(); err == nil {
					c.Close()
				}
			}
		}()
		fallthrough
	case "program":
		fmt.Println("begun")
		io.Copy(io.Discard, os.Stdin)
		os.Exit(0)
	case "set-user-id": // as one waits for a password: the real account is who started it
		if err := syscall.Setresuid(stranger, 0, 0); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println("begun")
		io.Copy(io.Discard, os.Stdin)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// stand starts a program of the test in a role, as an account, and waits until it has begun.
func stand(t *testing.T, role string, uid uint32, env ...string) {
	t.Helper()
	program := filepath.Join(t.TempDir(), "program") // which a stranger may run
	text, err := os.ReadFile("/proc/self/exe")
	if err == nil {
		err = os.WriteFile(program, text, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	for dir := filepath.Dir(program); dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
		os.Chmod(dir, 0o755)
	}
	cmd := exec.Command(program)
	cmd.Env = append(env, "MOORWATCH_TEST_ROLE="+role)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close(); cmd.Wait() })
	if line, _ := bufio.NewReader(out).ReadString('\n'); line != "begun\n" {
		t.Fatalf("the %s says %q", role, line)
	}
}

// Finding 3: a set-user-id program that waits has its starter's environment and root's account; it was
// taken for a desktop of root's, and dialogs were started there as root.
func TestDesktopsOfStrangers(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can be led to start something as root")
	}
	if err := os.MkdirAll("/tmp/.X11-unix", 0o777|os.ModeSticky); err != nil {
		t.Fatal(err)
	}
	number := 30000 + os.Getpid()%20000
	display, socket := ":"+strconv.Itoa(number), "/tmp/.X11-unix/X"+strconv.Itoa(number)
	os.Chmod("/tmp/.X11-unix", 0o777|os.ModeSticky)
	t.Cleanup(func() { os.Remove(socket) })
	bus := filepath.Join(t.TempDir(), "bus")
	env := []string{"DISPLAY=" + display, "DBUS_SESSION_BUS_ADDRESS=unix:path=" + bus, "XAUTHORITY=/etc/shadow.of.nobody", "LANG=$(id)"}
	stand(t, "server", stranger, "MOORWATCH_TEST_SOCKET="+socket)
	found := func() (uids []uint32) {
		for _, d := range desktops() {
			if d.display == display {
				uids = append(uids, d.uid)
			}
		}
		return uids
	}
	stand(t, "set-user-id", 0, env...)
	if got := found(); len(got) != 0 {
		t.Errorf("a waiting set-user-id program is taken for a desktop of %v", got)
	}
	stand(t, "program", 0, env...) // as a program that has become root altogether
	if got := found(); len(got) != 0 {
		t.Errorf("a program that became root is taken for a desktop of %v", got)
	}
	// other tests give root desktops of its own
	roots := slices.ContainsFunc(desktops(), func(d desktop) bool { return d.uid == 0 })
	if _, err := launch(t.Context(), link.Program{Argv: []string{"/bin/true"}, Visible: true, Person: "root"}); err == nil && !roots {
		t.Error("root was found at a stranger's desktop")
	}
	stand(t, "program", stranger+1, env...)
	if got := found(); len(got) != 0 {
		t.Errorf("the display of one stranger is a desktop of %v", got)
	}
	stand(t, "program", stranger, env...)
	if got := found(); !slices.Equal(got, []uint32{stranger}) {
		t.Errorf("the stranger's own desktop is one of %v", got)
	}
	for _, d := range desktops() {
		if d.display == display && strings.Join(d.env, " ") != "DISPLAY="+display {
			t.Errorf("programs there are given %q", d.env)
		}
	}
}

func TestAccountOf(t *testing.T) {
	dir := t.TempDir()
	for text, want := range map[string]bool{
		"Name:\tx\nUid:\t1000\t1000\t1000\t1000\nGid:\t1\n": true,
		"Name:\tx\nUid:\t1000\t0\t0\t0\n":                   false,
		"Name:\tx\nUid:\t0\t0\t1000\t0\n":                   false,
		"Name:\tUid:\t5\nNothing\n":                         false,
		"Name:\tx\nUid:\t-1\t-1\t-1\t-1\n":                  false,
		"":                                                  false,
	} {
		if err := os.WriteFile(filepath.Join(dir, "status"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if uid, ok := accountOf(dir); ok != want || ok && uid != 1000 {
			t.Errorf("%q: %d, %t", text, uid, ok)
		}
	}
}
