package portable

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// Processes implements host.Processes where systems are alike.
type Processes struct {
	// Priority reads and SetPriority sets what link names.
	Priority    func(ctx context.Context, p *process.Process) string
	SetPriority func(pid int, name string) error
	// Person names whose a process is; nil where the system tells that itself, and soon.
	Person func(ctx context.Context, p *process.Process) string
	// Launch starts a program and returns its number.
	Launch func(ctx context.Context, p link.Program) (pid int, err error)

	known map[int32]known
	last  time.Time

	memory *memory
}

// memory is what is remembered of the last hour, shared by all that Another made.
type memory struct {
	mu     sync.Mutex
	list   []link.Spike
	before *Processes
}

// known is what does not change of a process, and what its rates are counted from.
type known struct {
	process      link.Process
	created      int64 // ms since 1970
	cpu          float64
	read, writes uint64
}

// spikesKept is how long moments are remembered, and spikesBusiest how many processes of each.
const (
	spikesKept    = time.Hour
	spikesBusiest = 5
)

// Keep has it remember what Note is told of.
func (s *Processes) Keep() *Processes {
	s.memory = &memory{}
	return s
}

// Another implements host.Processes.
func (s *Processes) Another() host.Processes {
	return &Processes{Person: s.Person, Priority: s.Priority, SetPriority: s.SetPriority, Launch: s.Launch, memory: s.memory}
}

// Note implements host.Noter.
func (s *Processes) Note(ctx context.Context) {
	if s.memory == nil {
		return
	}
	s.memory.mu.Lock()
	defer s.memory.mu.Unlock()
	if s.memory.before == nil {
		s.memory.before = s.Another().(*Processes)
	}
	all, err := s.memory.before.list(ctx, false)
	if err != nil {
		return
	}
	slices.SortFunc(all.Items, func(a, b link.Process) int { return cmp.Compare(b.CPU, a.CPU) })
	spike := link.Spike{At: all.At, Busiest: all.Items[:min(len(all.Items), spikesBusiest)]}
	for _, p := range all.Items {
		spike.CPU += p.CPU / float64(max(all.Cores, 1))
	}
	spike.CPU = min(spike.CPU, 100)
	spike.Busiest = slices.Clone(slices.DeleteFunc(spike.Busiest, func(p link.Process) bool { return p.CPU < 1 }))
	list := slices.DeleteFunc(s.memory.list, func(o link.Spike) bool { return all.At.Sub(o.At) > spikesKept })
	s.memory.list = append(list, spike)
}

// Past implements host.Processes.
func (s *Processes) Past(context.Context) (link.Spikes, error) {
	out := link.Spikes{Items: []link.Spike{}}
	if s.memory != nil {
		s.memory.mu.Lock()
		defer s.memory.mu.Unlock()
		out.Items = append(out.Items, s.memory.list...)
	}
	return out, nil
}

// List implements host.Processes.
func (s *Processes) List(ctx context.Context) (link.Processes, error) { return s.list(ctx, true) }

func (s *Processes) list(ctx context.Context, whole bool) (link.Processes, error) {
	out := link.Processes{At: time.Now(), Items: []link.Process{}}
	all, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return out, err
	}
	if out.Cores, err = cpu.CountsWithContext(ctx, true); err != nil {
		return out, err
	}
	listening := map[int32][]string{}
	if whole {
		listening = listeners(ctx)
	}
	now := make(map[int32]known, len(all))
	for _, p := range all {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		k, ok := s.describe(ctx, p, out.At, whole)
		if !ok {
			continue // ended since
		}
		now[p.Pid] = k
		k.process.Listening = listening[p.Pid]
		out.Items = append(out.Items, k.process)
	}
	s.known, s.last = now, out.At
	return out, nil
}

func (s *Processes) describe(ctx context.Context, p *process.Process, at time.Time, whole bool) (known, bool) {
	created, err := p.CreateTimeWithContext(ctx)
	if err != nil {
		return known{}, false
	}
	k, seen := s.known[p.Pid]
	if seen = seen && k.created == created; !seen {
		name, err := p.NameWithContext(ctx)
		if err != nil {
			return k, false
		}
		k = known{created: created, process: link.Process{PID: int(p.Pid), Name: name, Started: time.UnixMilli(created)}}
		if whole {
			k.process.Command, _ = p.CmdlineWithContext(ctx)
			k.process.Command = k.process.Command[:min(len(k.process.Command), 4096)]
			if s.Person != nil {
				k.process.Person = s.Person(ctx, p)
			} else {
				k.process.Person, _ = p.UsernameWithContext(ctx)
			}
		}
	}
	t, err := p.TimesWithContext(ctx)
	if err != nil {
		return k, false
	}
	used, since := t.User+t.System, at.Sub(k.process.Started).Seconds()
	before, read, writes := 0.0, uint64(0), uint64(0)
	if seen {
		before, since, read, writes = k.cpu, at.Sub(s.last).Seconds(), k.read, k.writes
	}
	since = max(since, 0.001)
	k.process.CPU, k.cpu = max(0, 100*(used-before)/since), used
	if m, err := p.MemoryInfoWithContext(ctx); err == nil {
		k.process.Memory = int64(m.RSS)
	}
	if !whole {
		return k, true
	}
	if parent, err := p.PpidWithContext(ctx); err == nil {
		k.process.Parent = int(parent)
	}
	if c, err := p.IOCountersWithContext(ctx); err == nil {
		k.process.Read, k.process.Written = float64(c.ReadBytes-min(read, c.ReadBytes))/since,
			float64(c.WriteBytes-min(writes, c.WriteBytes))/since
		k.read, k.writes = c.ReadBytes, c.WriteBytes
	}
	if states, err := p.StatusWithContext(ctx); err == nil && len(states) > 0 {
		k.process.State = stateWords[states[0]]
	}
	if s.Priority != nil {
		k.process.Priority = s.Priority(ctx, p)
	}
	return k, true
}

var stateWords = map[string]string{process.Running: "running", process.Sleep: "sleeping", process.Idle: "sleeping",
	process.Blocked: "waiting",
	process.Wait:    "waiting", process.Lock: "waiting", process.Stop: "stopped", process.Zombie: "ended"}

// listeners are the sockets that each process listens on.
func listeners(ctx context.Context) map[int32][]string {
	found := map[int32][]string{}
	all, err := psnet.ConnectionsWithContext(ctx, "inet")
	if err != nil {
		return found
	}
	for _, c := range all {
		if c.Pid > 0 && (c.Status == "LISTEN" || (c.Type == 2 && c.Raddr.Port == 0)) {
			text := map[uint32]string{1: "tcp ", 2: "udp "}[c.Type] + net.JoinHostPort(c.Laddr.IP, strconv.Itoa(int(c.Laddr.Port)))
			if !slices.Contains(found[c.Pid], text) {
				found[c.Pid] = append(found[c.Pid], text)
			}
		}
	}
	return found
}

// endWithin is how long a process has to end when it is asked to.
const endWithin = 5 * time.Second

// Do implements host.Processes.
func (s *Processes) Do(ctx context.Context, d link.ProcessAction) (link.Outcome, error) {
	if d.Name != "" {
		return s.doNamed(ctx, d)
	}
	p, name, err := s.find(ctx, d)
	if err != nil {
		return link.Outcome{}, err
	}
	done := func(format string, args ...any) (link.Outcome, error) {
		return link.Outcome{Message: fmt.Sprintf(format, args...), PIDs: []int{d.PID}}, nil
	}
	refuse := func(err error) (link.Outcome, error) {
		return link.Outcome{}, &link.Problem{Status: http.StatusUnprocessableEntity, Reason: fmt.Sprintf("%s (%d): %v.", name, d.PID, err)}
	}
	switch d.Action {
	case link.ProcessPause:
		if err := p.SuspendWithContext(ctx); err != nil {
			return refuse(err)
		}
		return done("%s is paused.", name)
	case link.ProcessContinue:
		if err := p.ResumeWithContext(ctx); err != nil {
			return refuse(err)
		}
		return done("%s goes on.", name)
	case link.ProcessPriority:
		if s.SetPriority == nil {
			return link.Outcome{}, &link.Problem{Status: http.StatusNotImplemented,
				Reason: "The agent sets no priorities on this system yet."}
		}
		if err := s.SetPriority(d.PID, d.Priority); err != nil {
			return refuse(err)
		}
		return done("%s has the priority %s.", name, d.Priority)
	case link.ProcessEnd, link.ProcessEndTree:
		return s.end(ctx, p, name, d)
	}
	return link.Outcome{}, &link.Problem{Status: http.StatusBadRequest, Reason: fmt.Sprintf("There is no action %q.", d.Action)}
}

// find returns the process that an action means.
func (s *Processes) find(ctx context.Context, d link.ProcessAction) (*process.Process, string, error) {
	gone := &link.Problem{Status: http.StatusNotFound, Reason: fmt.Sprintf("Process %d has ended already.", d.PID)}
	if d.PID <= 1 || d.PID == os.Getpid() {
		return nil, "", &link.Problem{Status: http.StatusUnprocessableEntity,
			Reason: "The system's first process and the agent are left alone."}
	}
	p, err := process.NewProcessWithContext(ctx, int32(d.PID))
	if err != nil {
		return nil, "", gone
	}
	created, err := p.CreateTimeWithContext(ctx)
	if err != nil {
		return nil, "", gone
	}
	if off := time.UnixMilli(created).Sub(d.Started).Abs(); !d.Started.IsZero() && off > time.Second {
		return nil, "", &link.Problem{Status: http.StatusNotFound,
			Reason: fmt.Sprintf("Process %d has ended; its number belongs to another now.", d.PID)}
	}
	name, err := p.NameWithContext(ctx)
	if err != nil {
		return nil, "", gone
	}
	return p, name, nil
}

func (s *Processes) end(ctx context.Context, p *process.Process, name string, d link.ProcessAction) (link.Outcome, error) {
	family := []*process.Process{p}
	if d.Action == link.ProcessEndTree {
		for i := 0; i < len(family); i++ {
			children, _ := family[i].ChildrenWithContext(ctx)
			family = append(family, children...)
		}
	}
	out := link.Outcome{}
	for _, one := range family {
		if int(one.Pid) == os.Getpid() {
			return out, &link.Problem{Status: http.StatusUnprocessableEntity,
				Reason: "The agent is below this process, and would end with it."}
		}
		out.PIDs = append(out.PIDs, int(one.Pid))
	}
	for _, one := range family {
		end := one.TerminateWithContext
		if d.Force {
			end = one.KillWithContext
		}
		if err := end(ctx); err != nil && alive(ctx, one) {
			return out, &link.Problem{Status: http.StatusUnprocessableEntity, Reason: fmt.Sprintf("%s (%d): %v.", name, one.Pid, err)}
		}
	}
	deadline := time.Now().Add(endWithin)
	for slices.ContainsFunc(family, func(one *process.Process) bool { return alive(ctx, one) }) {
		if time.Now().After(deadline) || ctx.Err() != nil {
			return out, &link.Problem{Status: http.StatusConflict,
				Reason: fmt.Sprintf("%s was asked to end and has not within %s: it may be saving its work. End it by force, or wait.", name,
					endWithin)}
		}
		time.Sleep(50 * time.Millisecond)
	}
	out.Message = fmt.Sprintf("%s has ended.", name)
	if len(family) > 1 {
		out.Message = fmt.Sprintf("%s has ended, and the %d processes that it had started.", name, len(family)-1)
	}
	return out, nil
}

// alive tells whether a process runs; one that only waits to be noticed by its parent does not.
func alive(ctx context.Context, p *process.Process) bool {
	running, err := p.IsRunningWithContext(ctx)
	if err != nil || !running {
		return false
	}
	states, err := p.StatusWithContext(ctx)
	return err == nil && !slices.Contains(states, process.Zombie)
}

// doNamed does an action to all processes of a name.
func (s *Processes) doNamed(ctx context.Context, d link.ProcessAction) (link.Outcome, error) {
	all, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return link.Outcome{}, err
	}
	out := link.Outcome{}
	for _, p := range all {
		if name, err := p.NameWithContext(ctx); err != nil || name != d.Name || int(p.Pid) == os.Getpid() {
			continue
		}
		one := d
		one.Name, one.PID = "", int(p.Pid)
		if _, err := s.Do(ctx, one); err != nil {
			return out, err
		}
		out.PIDs = append(out.PIDs, one.PID)
	}
	n := len(out.PIDs)
	out.Number, out.Message = &n, fmt.Sprintf("It was done to %d processes of this name.", n)
	if n == 0 {
		out.Message = "No process of this name runs."
	}
	return out, nil
}

// Start implements host.Processes.
func (s *Processes) Start(ctx context.Context, p link.Program) (link.Outcome, error) {
	if s.Launch == nil {
		return link.Outcome{}, &link.Problem{Status: http.StatusNotImplemented,
			Reason: "The agent starts no programs on this system yet: run a command instead."}
	}
	if len(p.Argv) == 0 || p.Argv[0] == "" {
		return link.Outcome{}, &link.Problem{Status: http.StatusBadRequest, Reason: "Which program? Name it in argv."}
	}
	pid, err := s.Launch(ctx, p)
	if err != nil {
		return link.Outcome{}, err
	}
	as := "with the agent's rights"
	if p.Person != "" {
		as = "as " + p.Person
	}
	return link.Outcome{Message: fmt.Sprintf("%s runs %s as process %d.", p.Argv[0], as, pid), PIDs: []int{pid}}, nil
}
