package sim

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// Run implements host.Runner with the few commands that a simulated device knows.
func (s *simulated) Run(ctx context.Context, c link.Command, stdout, stderr io.Writer) (int, error) {
	argv := c.Argv
	if c.Line {
		argv = strings.Fields(strings.Join(argv, " "))
	}
	if len(argv) == 0 {
		return 0, nil
	}
	if path := argv[len(argv)-1]; len(argv) > 1 && scripted[filepath.Ext(path)] {
		return s.script(ctx, path, c.Env, stdout, stderr)
	}
	exit, err := s.execute(ctx, argv, stdout, stderr)
	if ctx.Err() != nil {
		return 0, context.Cause(ctx)
	}
	return exit, err
}

// scripted are the ends of the names of scripts' files.
var scripted = map[string]bool{".sh": true, ".py": true, ".ps1": true, ".cmd": true, ".applescript": true}

// script carries out those lines of a script that are commands which a simulated device knows.
func (s *simulated) script(ctx context.Context, path string, env []string, stdout, stderr io.Writer) (exit int, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return 0, err
	}
	value := func(name string) string {
		for _, v := range env {
			if rest, ok := strings.CutPrefix(v, name+"="); ok {
				return rest
			}
		}
		return ""
	}
	known := strings.Split(commands, ", ")
	for line := range strings.Lines(string(text)) {
		line = os.Expand(strings.NewReplacer(`"`, "", "'", "").Replace(line), value)
		for part := range strings.SplitSeq(strings.TrimPrefix(line, "eval "), ";") {
			argv := strings.Fields(part)
			if len(argv) == 0 || !slices.Contains(known, argv[0]) {
				continue
			}
			if exit, err = s.execute(ctx, argv, stdout, stderr); ctx.Err() != nil {
				return 0, context.Cause(ctx)
			}
			if err != nil || argv[0] == "exit" {
				return exit, err
			}
		}
	}
	return exit, nil
}

const commands = "date, df, echo, exit, false, free, help, hostname, ps, seq, sleep, true, uname, uptime, ver, who, whoami, yes"

// execute runs one command. An error means that an output was not taken.
func (s *simulated) execute(ctx context.Context, argv []string, stdout, stderr io.Writer) (int, error) {
	now := s.now()
	v, n := s.At(now), natures[s.Kind]
	number := func(i int) float64 {
		if i >= len(argv) {
			return 1
		}
		f, _ := strconv.ParseFloat(argv[i], 64)
		return f
	}
	say := func(format string, args ...any) (int, error) {
		_, err := fmt.Fprintf(stdout, format, args...)
		return 0, err
	}
	switch argv[0] {
	case "help":
		return say("This device is simulated. It knows: %s\n", commands)
	case "hostname":
		return say("%s\n", s.Name)
	case "whoami":
		return say("%s\n", map[bool]string{true: "nt authority\\system", false: "root"}[n.os == device.Windows])
	case "echo":
		return say("%s\n", strings.Join(argv[1:], " "))
	case "date":
		return say("%s\n", now.UTC().Format(time.RFC1123))
	case "uname", "ver":
		return say("%s %s %s %s\n", n.osName, n.osVersion, n.kernel, n.arch)
	case "uptime":
		return say("up %d days, %d users, load %.2f, cpu %.0f %%\n", v.UptimeSeconds/86400, len(v.People), v.Load1, v.CPU)
	case "who":
		for _, p := range v.People {
			if _, err := say("%-16s %-8s idle %ds\n", p.Name, p.Where, p.IdleSeconds); err != nil {
				return 0, err
			}
		}
	case "free":
		return say("memory %s of %s in use (%.0f %%)\n", bytes(v.MemoryUsedBytes), bytes(v.MemoryBytes), v.Memory)
	case "df":
		out := fmt.Sprintf("%-8s %10s %10s %5s\n", "mount", "size", "used", "use")
		for _, d := range v.Disks {
			out += fmt.Sprintf("%-8s %10s %10s %4.0f%%\n", d.Mount, bytes(d.TotalBytes), bytes(d.UsedBytes), d.Percent())
		}
		return say("%s", out)
	case "ps":
		return say("%s", s.processes(v.CPU, n.os))
	case "true":
	case "false":
		return 1, nil
	case "exit":
		return int(number(1)) & 255, nil
	case "sleep":
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(number(1) * float64(time.Second))):
		}
	case "seq":
		for i := 1; i <= int(number(1)) && ctx.Err() == nil; i++ {
			if _, err := say("%d\n", i); err != nil {
				return 0, err
			}
		}
	case "yes":
		line := strings.Repeat("y\n", 2048)
		for ctx.Err() == nil {
			if _, err := say("%s", line); err != nil {
				return 0, err
			}
		}
	default:
		_, err := fmt.Fprintf(stderr, "%s: a simulated device does not know this command; try help\n", argv[0])
		return 127, err
	}
	return 0, nil
}

func (s *simulated) processes(cpu float64, system string) string {
	names := map[string][]string{
		device.Windows: {"System", "services.exe", "svchost.exe", "explorer.exe", "spoolsv.exe", "catalogue.exe"},
		device.MacOS:   {"launchd", "WindowServer", "mds", "Finder", "bookings"},
		device.Linux:   {"systemd", "systemd-journald", "sshd", "cron", "catalogued"},
	}[system]
	var b strings.Builder
	fmt.Fprintf(&b, "%7s %6s  %s\n", "pid", "cpu", "name")
	for i, name := range append(names, "moor-agent") {
		share := hash(s.Seed, uint64(i)) * cpu / float64(len(names))
		fmt.Fprintf(&b, "%7d %5.1f%%  %s\n", 1+i*317+int(s.Seed%97), share, name)
	}
	return b.String()
}

// Open implements host.Terminals with a shell that edits one line.
func (s *simulated) Open(ctx context.Context, _ link.ShellOrder) (host.Terminal, error) {
	ctx, cancel := context.WithCancel(ctx)
	r, w := io.Pipe()
	t := &terminal{sim: s, ctx: ctx, cancel: cancel, reader: r, screen: w, typed: make(chan []byte, 64), ended: make(chan struct{})}
	go t.run()
	return t, nil
}

// Programs implements host.Terminals.
func (s *simulated) Programs() []string { return []string{"simulated"} }

type terminal struct {
	sim    *simulated
	ctx    context.Context
	cancel context.CancelFunc
	reader *io.PipeReader
	screen *io.PipeWriter
	typed  chan []byte
	ended  chan struct{}
	exit   int

	mu        sync.Mutex
	interrupt context.CancelFunc // ends the command that runs
}

func (t *terminal) Read(p []byte) (int, error)     { return t.reader.Read(p) }
func (t *terminal) Resize(link.TerminalSize) error { return nil }
func (t *terminal) Wait() int                      { <-t.ended; return t.exit }

func (t *terminal) Close() error {
	t.cancel()
	return t.reader.Close()
}

func (t *terminal) Write(p []byte) (int, error) {
	if strings.ContainsRune(string(p), 3) {
		t.mu.Lock()
		if t.interrupt != nil {
			t.interrupt()
		}
		t.mu.Unlock()
	}
	select {
	case t.typed <- append([]byte(nil), p...):
		return len(p), nil
	case <-t.ctx.Done():
		return 0, os.ErrClosed
	}
}

func (t *terminal) run() {
	defer close(t.ended)
	defer t.screen.Close()
	prompt := "\x1b[35m" + t.sim.Name + "\x1b[0m> "
	if _, err := io.WriteString(t.screen, "Simulated device; help lists what it knows.\r\n"+prompt); err != nil {
		return
	}
	var line []rune
	for {
		var keys []byte
		select {
		case <-t.ctx.Done():
			return
		case keys = <-t.typed:
		}
		text := strings.NewReplacer("\x1b[200~", "", "\x1b[201~", "").Replace(string(keys))
		for _, r := range text {
			echo := string(r)
			switch {
			case r == '\r' || r == '\n':
				if exit, done := t.enter(strings.Fields(string(line))); done {
					t.exit = exit
					return
				}
				line, echo = nil, prompt
			case r == 3: // Ctrl+C
				line, echo = nil, "^C\r\n"+prompt
			case r == 4 && len(line) == 0: // Ctrl+D
				return
			case r == 127 || r == 8:
				if echo = ""; len(line) > 0 {
					line, echo = line[:len(line)-1], "\b \b"
				}
			case r < 32:
				continue
			default:
				line = append(line, r)
			}
			if _, err := io.WriteString(t.screen, echo); err != nil {
				return
			}
		}
	}
}

// enter runs a line that was typed, and tells whether it ended the shell.
func (t *terminal) enter(argv []string) (exit int, done bool) {
	out := crlf{t.screen}
	if _, err := io.WriteString(t.screen, "\r\n"); err != nil || len(argv) == 0 {
		return 0, err != nil
	}
	ctx, cancel := context.WithCancel(t.ctx)
	t.mu.Lock()
	t.interrupt = cancel
	t.mu.Unlock()
	exit, err := t.sim.execute(ctx, argv, out, out)
	cancel()
	return exit, argv[0] == "exit" || errors.Is(err, io.ErrClosedPipe)
}

// crlf ends lines as terminals need it.
type crlf struct{ io.Writer }

func (c crlf) Write(p []byte) (int, error) {
	_, err := io.WriteString(c.Writer, strings.ReplaceAll(string(p), "\n", "\r\n"))
	return len(p), err
}
