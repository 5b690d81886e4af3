package console

import (
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
	"moorwatch.example/test/wait"
)

// TestMain has the test's own program be the helper, as the agent's is.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == Argument {
		if Help() != nil {
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// serveConsole is a server of RFB 3.8 (RFC 6143) without a password, with a picture of one colour, which then says what
// more is given.
func serveConsole(t *testing.T, more []byte) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				read := func(n int) { io.ReadFull(c, make([]byte, n)) }
				io.WriteString(c, "RFB 003.008\n")
				read(12)
				c.Write([]byte{1, 1}) // one kind: none
				read(1)
				c.Write([]byte{0, 0, 0, 0})
				read(1)
				init := []byte{0, 8, 0, 4, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 16, 8, 0, 0, 0, 0}
				c.Write(append(binary.BigEndian.AppendUint32(init, 4), "peat"...))
				wait.Pause(t, 100*time.Millisecond) // it says what it wants, and asks
				update := []byte{0, 0, 0, 1, 0, 0, 0, 0, 0, 8, 0, 4, 0, 0, 0, 0}
				for range 8 * 4 {
					update = append(update, 0x33, 0x22, 0x11, 0)
				}
				c.Write(update)
				c.Write(more)
				io.Copy(io.Discard, c)
			}()
		}
	}()
	return l.Addr().String()
}

// program copies this test's own to where everybody may run it.
func program(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "moor-console-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	own, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(own)
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	path := filepath.Join(dir, "helper")
	if err == nil {
		err = os.WriteFile(path, text, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	return path
}

// TestApart opens a console in a helper: it shows what is there, and what reads the other computer's bytes is nobody,
// without a right.
func TestApart(t *testing.T) {
	open := Apart(program(t))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	s, err := open(ctx, link.ConsoleOrder{ID: "console 1", Title: "board", Address: serveConsole(t, nil)})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if size, monitors := s.Layout(); size != image.Pt(8, 4) || len(monitors) != 1 || s.Desktop().Title != "board" {
		t.Errorf("%v %v %+v", size, monitors, s.Desktop())
	}
	into, err := screen.NewPicture(8, 4)
	if err != nil {
		t.Fatal(err)
	}
	for seen := false; !seen; {
		if _, err := s.Wait(ctx); err != nil {
			t.Fatal(err)
		}
		if err := s.Grab(into, image.Rect(0, 0, 8, 4)); err != nil {
			t.Fatal(err)
		}
		seen = into.Pix[0]&0xffffff == 0x112233
	}
	if err := s.Press(link.ScreenKey{Key: "a", Code: "KeyA", Down: true}); err != nil {
		t.Error(err)
	}
	if os.Geteuid() != 0 {
		t.Skip("who is not root has no helper")
	}
	pid := child(t)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Uid:\t65534\t65534\t65534\t65534", "Gid:\t65534\t65534\t65534\t65534", "Groups:\t \n",
		"CapEff:\t0000000000000000", "NoNewPrivs:\t1"} {
		if !strings.Contains(string(status), want) {
			t.Errorf("%q is not in\n%s", want, status)
		}
	}
	limits, _ := os.ReadFile(fmt.Sprintf("/proc/%d/limits", pid))
	if !strings.Contains(string(limits), "Max file size             0                    0") {
		t.Errorf("it may write files:\n%s", limits)
	}
	environ, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if strings.Contains(string(environ)+string(line), "board") || strings.Contains(string(environ), "HOME") {
		t.Errorf("its environment is %q, and its arguments %q", environ, line)
	}
	s.Close()
	wait.Until(t, 30*time.Second, "the helper ends with its console", func() bool {
		_, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
		return err != nil
	})
}

// TestApartFromHostile has a console send what is none: the helper fails, and the agent tells so and lives.
func TestApartFromHostile(t *testing.T) {
	open := Apart(program(t))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	s, err := open(ctx, link.ConsoleOrder{ID: "console 1", Title: "board",
		Address: serveConsole(t, []byte{0, 0, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 0, 0, 0, 16, 255, 255, 255, 255})})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for {
		if _, err := s.Wait(ctx); err != nil {
			if ctx.Err() != nil {
				t.Error("nobody notices")
			}
			break
		}
	}
	if _, err := open(ctx, link.ConsoleOrder{Address: "127.0.0.1:1"}); err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("one that is not there: %v", err)
	}
}

// child is the helper that this test started.
func child(t *testing.T) int {
	t.Helper()
	text, err := os.ReadFile("/proc/self/task/" + strconv.Itoa(os.Getpid()) + "/children")
	pids := strings.Fields(string(text))
	tasks, _ := filepath.Glob("/proc/self/task/*/children")
	for _, task := range tasks {
		more, _ := os.ReadFile(task)
		pids = append(pids, strings.Fields(string(more))...)
	}
	for _, pid := range pids {
		if line, err := os.ReadFile("/proc/" + pid + "/cmdline"); err == nil && strings.Contains(string(line), Argument) {
			n, _ := strconv.Atoi(pid)
			return n
		}
	}
	t.Fatalf("there is no helper: %v", err)
	return 0
}
