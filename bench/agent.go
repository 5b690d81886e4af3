package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"moorwatch.example/client"
)

// How long an idle agent is watched, and how long it is left alone before.
const (
	agentSettles = 45 * time.Second
	agentRests   = 4 * time.Minute // eight reports
)

// idleAgent measures what an agent costs a device on which nothing is done: its program, memory, processor and
// traffic; and how soon a device that enrols is seen with its vitals.
func (b *bench) idleAgent() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	program := filepath.Join(w.dir, "moor-agent-small")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", program, "./cmd/moor-agent")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	info, err := os.Stat(program)
	if err != nil {
		return err
	}
	b.figure("agent, its program", float64(info.Size())/1e6, "MB", 20, true)

	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close()
	var bytes atomic.Int64
	go count(l, w.listen, &bytes)
	began := time.Now()
	id, stop, err := w.agentAt(b.ctx, "https://"+l.Addr().String())
	if err != nil {
		return err
	}
	defer stop()
	for {
		d, err := client.Result(w.client.GetDeviceWithResponse(b.ctx, id))
		if err != nil {
			return err
		}
		if d.Vitals != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	b.figure("agent, enrolling to first vitals", time.Since(began).Seconds(), "s", 5, true)
	time.Sleep(agentSettles)
	pid := w.pids[id]
	before, err := cpuOf(pid)
	if err != nil {
		return err
	}
	sent, from := bytes.Load(), time.Now()
	time.Sleep(agentRests)
	after, err := cpuOf(pid)
	if err != nil {
		return err
	}
	resident, err := residentOf(pid)
	if err != nil {
		return err
	}
	took := time.Since(from)
	b.figure("agent, idle, resident", float64(resident)/1e6, "MB", 30, true)
	b.figure("agent, idle, of one core", 100*(after-before).Seconds()/took.Seconds(), "%", 0.3, true)
	b.figure("agent, idle, traffic of a day", float64(bytes.Load()-sent)/took.Hours()*24/1e6, "MB", 1, true)
	return nil
}

// count passes connections on and counts what goes either way.
func count(l net.Listener, to string, bytes *atomic.Int64) {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", to)
		if err != nil {
			near.Close()
			continue
		}
		for _, way := range [][2]net.Conn{{near, far}, {far, near}} {
			go func() {
				io.Copy(way[0], io.TeeReader(way[1], counter{bytes}))
				way[0].Close()
			}()
		}
	}
}

type counter struct{ n *atomic.Int64 }

func (c counter) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return len(p), nil
}

// residentOf is what a process has in memory (proc_pid_status(5)), in bytes.
func residentOf(pid int) (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kib, err := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 10, 64)
			return kib << 10, err
		}
	}
	return 0, fmt.Errorf("process %d tells nothing of its memory", pid)
}
