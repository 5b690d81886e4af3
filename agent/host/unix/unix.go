//go:build unix

// Package unix runs programs and shells as Linux and macOS have in common: process groups, signals
// and pseudo-terminals.
package unix

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
)

// Runner implements host.Runner.
type Runner struct{}

// drain is how long output is awaited from processes that left the program's group.
const drain = 2 * time.Second

// Run implements host.Runner. The program is the leader of a session of its own, without a
// terminal, and so is everything that it starts and does not deliberately detach.
func (Runner) Run(ctx context.Context, c link.Command, stdout, stderr io.Writer) (int, error) {
	argv := c.Argv
	if c.Line {
		argv = []string{"/bin/sh", "-c", strings.Join(argv, " ")}
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir = home()
	cmd.Env = append(portable.Environment(), c.Env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Stdout, cmd.Stderr = portable.Outputs(stdout, stderr, cancel)
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = drain
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("it could not be started: %w", err)
	}
	err := cmd.Wait()
	syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it left behind in its group
	if ctx.Err() != nil {
		return 0, context.Cause(ctx)
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return 0, err
	}
	return status(cmd.ProcessState), nil
}

func status(s *os.ProcessState) int {
	if w, ok := s.Sys().(syscall.WaitStatus); ok && w.Signaled() {
		return 128 + int(w.Signal())
	}
	return s.ExitCode()
}

func home() string {
	if dir, err := os.UserHomeDir(); err == nil {
		if _, err := os.Stat(dir); err == nil {
			return dir
		}
	}
	return "/"
}

// Terminals implements host.Terminals.
type Terminals struct {
	Shells []string // in order of preference; the first that is there is the usual one
	// Become makes a command run as a person; nil where the system has no way yet.
	Become func(cmd *exec.Cmd, person string) error
}

// Programs implements host.Terminals.
func (t Terminals) Programs() []string {
	list := []string{}
	for _, s := range t.Shells {
		if _, err := exec.LookPath(s); err == nil {
			list = append(list, s)
		}
	}
	return list
}

// Open implements host.Terminals.
func (t Terminals) Open(ctx context.Context, o link.ShellOrder) (host.Terminal, error) {
	size := o.Size.Sane()
	there := t.Programs()
	if len(there) == 0 {
		return nil, errors.New("this device has no shell")
	}
	shell := there[0]
	if o.Program != "" {
		if !slices.Contains(there, o.Program) {
			return nil, &link.Problem{Status: http.StatusBadRequest,
				Reason: fmt.Sprintf("There is no interpreter %q here: there are %s.", o.Program, strings.Join(there, ", "))}
		}
		shell = o.Program
	}
	args := []string{"-l"}
	if strings.Contains(shell, "python") {
		args = nil
	}
	cmd := exec.CommandContext(ctx, shell, args...)
	cmd.Dir = home()
	env := portable.Environment()
	if o.Person != "" {
		if t.Become == nil {
			return nil, &link.Problem{Status: http.StatusNotImplemented,
				Reason: "The agent opens no shells as other people on this system yet."}
		}
		cmd.Dir = ""
		if err := t.Become(cmd, o.Person); err != nil {
			return nil, err
		}
		env = cmd.Env
	}
	cmd.Env = append(env, "TERM=xterm-256color", "COLORTERM=truecolor", "HISTCONTROL=ignorespace")
	if os.Getenv("LANG") == "" && os.Getenv("LC_ALL") == "" {
		cmd.Env = append(cmd.Env, "LANG=C.UTF-8")
	}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGHUP) }
	cmd.WaitDelay = drain
	f, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: uint16(size.Columns), Rows: uint16(size.Rows)})
	if err != nil {
		return nil, fmt.Errorf("opening a terminal: %w", err)
	}
	s := &terminal{file: f, pid: cmd.Process.Pid, ended: make(chan struct{})}
	go func() {
		cmd.Wait()
		s.exit = status(cmd.ProcessState)
		close(s.ended)
	}()
	return s, nil
}

type terminal struct {
	file  *os.File
	pid   int
	ended chan struct{}
	exit  int

	mu     sync.Mutex // the size is set by the file's number, which may be another's once it is closed
	closed bool
}

// Read takes the error that Linux gives when the last holder of the terminal is gone for the end.
func (t *terminal) Read(p []byte) (int, error) {
	n, err := t.file.Read(p)
	if errors.Is(err, syscall.EIO) {
		err = io.EOF
	}
	return n, err
}

func (t *terminal) Write(p []byte) (int, error) { return t.file.Write(p) }

func (t *terminal) Resize(size link.TerminalSize) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return os.ErrClosed
	}
	return pty.Setsize(t.file, &pty.Winsize{Cols: uint16(size.Columns), Rows: uint16(size.Rows)})
}

func (t *terminal) Wait() int {
	<-t.ended
	return t.exit
}

// Close hangs the shell up, and kills what ignores that after two seconds.
func (t *terminal) Close() error {
	syscall.Kill(-t.pid, syscall.SIGHUP)
	t.mu.Lock()
	t.closed = true
	err := t.file.Close()
	t.mu.Unlock()
	select {
	case <-t.ended:
	case <-time.After(drain):
		syscall.Kill(-t.pid, syscall.SIGKILL)
	}
	return err
}
