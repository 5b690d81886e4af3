//go:build unix

package unix

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/test/wait"
)

func TestRunExit(t *testing.T) {
	for _, c := range []struct {
		argv     []string
		line     bool
		exit     int
		out, err string
	}{
		{[]string{"sh", "-c", "echo out; echo err >&2; exit 3"}, false, 3, "out\n", "err\n"},
		{[]string{"echo a | tr a b;", "exit 7"}, true, 7, "b\n", ""},
		{[]string{"sh", "-c", "kill -TERM $$"}, false, 128 + 15, "", ""},
		{[]string{"cat"}, false, 0, "", ""}, // its input is empty, not a terminal
	} {
		var out, errs bytes.Buffer
		exit, err := Runner{}.Run(t.Context(), link.Command{Argv: c.argv, Line: c.line}, &out, &errs)
		if err != nil || exit != c.exit || out.String() != c.out || errs.String() != c.err {
			t.Errorf("%q: %d, %v, %q, %q", c.argv, exit, err, out.String(), errs.String())
		}
	}
	if _, err := (Runner{}).Run(t.Context(), link.Command{Argv: []string{"/no/such/program"}}, io.Discard, io.Discard); err == nil ||
		!strings.Contains(err.Error(), "could not be started") {
		t.Errorf("a program that is not there gives %v", err)
	}
}

// What a program started is ended with it.
func TestCancelEndsChildren(t *testing.T) {
	cause := errors.New("enough")
	ctx, cancel := context.WithCancelCause(t.Context())
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := Runner{}.Run(ctx, link.Command{Argv: []string{"sh", "-c", "sleep 300 & echo $!; wait"}}, w, io.Discard)
		done <- err
	}()
	line := make([]byte, 32)
	n, err := r.Read(line)
	if err != nil {
		t.Fatal(err)
	}
	child, err := strconv.Atoi(strings.TrimSpace(string(line[:n])))
	if err != nil {
		t.Fatal(err)
	}
	cancel(cause)
	if err := <-done; !errors.Is(err, cause) {
		t.Errorf("Run returns %v", err)
	}
	gone(t, child)
}

// gone waits until a process has ended; a child of nobody may be a zombie for a moment.
func gone(t *testing.T, pid int) {
	t.Helper()
	if wait.Holds(t, 20*time.Second, func() bool {
		stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
		return err != nil || strings.Contains(string(stat), ") Z ")
	}) {
		return
	}
	t.Errorf("process %d still runs", pid)
	syscall.Kill(pid, syscall.SIGKILL)
}

func TestOutputNotTakenEndsTheProgram(t *testing.T) {
	full := errors.New("full")
	_, err := Runner{}.Run(t.Context(), link.Command{Argv: []string{"yes"}}, writerFunc(func([]byte) (int, error) { return 0, full }),
		io.Discard)
	if !errors.Is(err, full) {
		t.Errorf("Run returns %v", err)
	}
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(p []byte) (int, error) { return f(p) }

func TestTerminal(t *testing.T) {
	term, err := Terminals{Shells: []string{"/no/such/shell", "/bin/sh"}}.Open(t.Context(),
		link.ShellOrder{Size: link.TerminalSize{Columns: 91, Rows: 33}})
	if err != nil {
		t.Fatal(err)
	}
	defer term.Close()
	if _, err := io.WriteString(term, "stty size; printf 'h\\303\\251\\n'\n"); err != nil {
		t.Fatal(err)
	}
	awaitText(t, term, "33 91", "hé")
	if err := term.Resize(link.TerminalSize{Columns: 120, Rows: 40}); err != nil {
		t.Fatal(err)
	}
	io.WriteString(term, "stty size\n")
	awaitText(t, term, "40 120")
	io.WriteString(term, "exit 5\n")
	if _, err := io.Copy(io.Discard, term); err != nil {
		t.Errorf("the end of a terminal reads as %v", err)
	}
	if exit := term.Wait(); exit != 5 {
		t.Errorf("exit status %d", exit)
	}
}

// awaitText reads until all texts came. The test's own time limit ends a wait for what never comes.
func awaitText(t *testing.T, r io.Reader, texts ...string) {
	t.Helper()
	var all []byte
	b := make([]byte, 1024)
	for _, text := range texts {
		for !bytes.Contains(all, []byte(text)) {
			n, err := r.Read(b)
			if err != nil {
				t.Fatalf("%v before %q came; so far %q", err, text, all)
			}
			all = append(all, b[:n]...)
		}
	}
}
