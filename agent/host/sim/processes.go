package sim

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

type simProcesses struct{ *simulated }

// Another implements host.Processes.
func (s simProcesses) Another() host.Processes { return s }

// List implements host.Processes.
func (s simProcesses) List(context.Context) (link.Processes, error) {
	now := s.now()
	return s.at(now, s.At(now)), nil
}

func (s simProcesses) at(now time.Time, v device.Vitals) link.Processes {
	n := natures[s.Kind]
	boot := now.Add(-time.Duration(v.UptimeSeconds) * time.Second)
	root, first := "root", "systemd"
	switch n.os {
	case device.Windows:
		root, first = `NT AUTHORITY\SYSTEM`, "System"
	case device.MacOS:
		first = "launchd"
	}
	t := s.changed()
	t.mu.Lock()
	ended, nice, paused := t.ended, t.nice, t.paused
	t.mu.Unlock()
	out := link.Processes{At: now, Cores: n.cores,
		Items: []link.Process{{PID: 1, Name: first, Person: root, Started: boot, State: "sleeping", Memory: 12 << 20,
			Priority: link.PriorityNormal}}}
	add := func(pid, parent int, name, command, person string, started time.Time, share float64, memory int64, listens string) {
		if ended[pid] {
			return
		}
		p := link.Process{PID: pid, Parent: parent, Name: name, Command: command, Person: person, Started: started.Truncate(time.Second),
			State: "sleeping", Memory: memory, Priority: cmp.Or(nice[pid], link.PriorityNormal)}
		p.CPU = share * v.CPU * float64(n.cores) * (0.7 + 0.6*smooth(s.Seed+uint64(pid), now, 7*time.Second))
		p.Read, p.Written = p.CPU*900, p.CPU*2100
		if p.CPU > 3 {
			p.State = "running"
		}
		if paused[pid] {
			p.State, p.CPU, p.Read, p.Written = "stopped", 0, 0, 0
		}
		if listens != "" {
			p.Listening = []string{listens}
		}
		out.Items = append(out.Items, p)
	}
	for i, j := range s.jobs() {
		v := s.running(i, j)
		if v.State != "running" {
			continue
		}
		started, _ := time.Parse(time.RFC3339, v.Since)
		share := j.share
		if s.stuck(j) {
			share = 0
		}
		add(v.PID, 1, j.program, "/usr/sbin/"+j.program+" --config "+strings.TrimSuffix(j.program, ".exe")+".conf", root, started, share,
			j.memory, j.listens)
	}
	add(391+int(s.Seed%7), 1, "moor-agent", "moor-agent run", root, boot, .002, 21<<20, "")
	for i, p := range v.People {
		person := p.Name
		shell := 9000 + i*100
		add(shell, 1, map[string]string{device.Windows: "explorer.exe", device.MacOS: "Finder", device.Linux: "bash"}[n.os], "", person,
			now.Add(-3*time.Hour), .03, 90<<20, "")
		for k, q := range products[n.os] {
			if q.program != "" && n.os != device.Linux {
				add(shell+1+k, shell, q.program, q.program, person, now.Add(-2*time.Hour), .12, int64(150+40*k)<<20, "")
			}
		}
	}
	return out
}

// Past implements host.Processes.
func (s simProcesses) Past(context.Context) (link.Spikes, error) {
	out := link.Spikes{Items: []link.Spike{}}
	for at := s.now().Add(-time.Hour).Truncate(30 * time.Second); at.Before(s.now()); at = at.Add(30 * time.Second) {
		v := s.At(at)
		all := s.at(at, v).Items
		slices.SortFunc(all, func(a, b link.Process) int { return cmp.Compare(b.CPU, a.CPU) })
		out.Items = append(out.Items, link.Spike{At: at, CPU: v.CPU, Busiest: all[:min(3, len(all))]})
	}
	return out, nil
}

// Do implements host.Processes.
func (s simProcesses) Do(ctx context.Context, d link.ProcessAction) (link.Outcome, error) {
	all, _ := s.List(ctx)
	t := s.changed()
	t.mu.Lock()
	defer t.mu.Unlock()
	out := link.Outcome{}
	for _, p := range all.Items {
		if p.PID == 1 || (d.Name == "" && p.PID != d.PID) || (d.Name != "" && p.Name != d.Name) {
			continue
		}
		out.PIDs = append(out.PIDs, p.PID)
		switch d.Action {
		case link.ProcessEnd, link.ProcessEndTree:
			t.ended[p.PID], out.Message = true, p.Name+" has ended."
		case link.ProcessPause, link.ProcessContinue:
			t.paused[p.PID] = d.Action == link.ProcessPause
			out.Message = p.Name + map[bool]string{true: " is paused.", false: " goes on."}[t.paused[p.PID]]
		case link.ProcessPriority:
			t.nice[p.PID], out.Message = d.Priority, p.Name+" has the priority "+d.Priority+"."
		}
	}
	switch n := len(out.PIDs); {
	case d.Name != "":
		out.Number, out.Message = &n, fmt.Sprintf("It was done to %d processes of this name.", n)
	case n == 0:
		return out, refuse(http.StatusNotFound, "Process %d has ended already.", d.PID)
	}
	return out, nil
}

// Start implements host.Processes.
func (s simProcesses) Start(context.Context, link.Program) (link.Outcome, error) {
	return link.Outcome{}, refuse(http.StatusNotImplemented, "A simulated device starts no programs.")
}
