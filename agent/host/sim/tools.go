package sim

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/eventlog"
)

// state is what technicians changed on a simulated device since its agent started. It is made when
// something is first changed: most devices of a fleet have none.
type state struct {
	mu      sync.Mutex
	started map[string]time.Time // services, when they were last started; zero for stopped
	modes   map[string]string    // their start modes
	ended   map[int]bool         // processes
	nice    map[int]string
	paused  map[int]bool
	events  []link.Event  // that deeds left in the log
	grown   chan struct{} // closed when an event is added
}

func (s *simulated) changed() *state {
	s.once.Do(func() {
		s.state = &state{started: map[string]time.Time{}, modes: map[string]string{}, ended: map[int]bool{}, nice: map[int]string{}, paused: map[int]bool{}, grown: make(chan struct{})}
	})
	return s.state
}

func (t *state) log(e link.Event) {
	t.events = append(t.events[max(0, len(t.events)-999):], e)
	close(t.grown)
	t.grown = make(chan struct{})
}

func refuse(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// job is a program of the sample world that always runs: a service, where it has a title.
type job struct {
	name, program, title string
	needs                []string
	listens              string
	share                float64 // of the device's CPU
	memory               int64
	manual               bool
}

var jobs = map[string][]job{
	device.Windows: {
		{name: "EventLog", program: "svchost.exe", title: "Windows Event Log", share: .02, memory: 24 << 20},
		{name: "Spooler", program: "spoolsv.exe", title: "Print Spooler", share: .03, memory: 31 << 20},
		{name: "Dnscache", program: "svchost.exe", title: "DNS Client", share: .02, memory: 14 << 20},
		{name: "HedgeProtection", program: "hedge.exe", title: "Hedge Protection", needs: []string{"EventLog"}, share: .08, memory: 96 << 20},
		{name: "FaxRelay", program: "faxrelay.exe", title: "Fax Relay", manual: true},
	},
	device.MacOS: {
		{name: "mds", program: "mds", title: "Metadata server", share: .1, memory: 80 << 20},
		{name: "bookings", program: "bookings", title: "Surgery bookings", listens: "tcp 127.0.0.1:8020", share: .2, memory: 140 << 20},
	},
	device.Linux: {
		{name: "systemd-journald.service", program: "systemd-journald", title: "Journal Service", share: .03, memory: 22 << 20},
		{name: "ssh.service", program: "sshd", title: "OpenBSD Secure Shell server", listens: "tcp 0.0.0.0:22", share: .01, memory: 9 << 20},
		{name: "cron.service", program: "cron", title: "Regular background program processing daemon", share: .01, memory: 4 << 20},
	},
}

var uses = map[Kind][]job{
	Server: {
		{name: "postgresql.service", program: "postgres", title: "Records database", listens: "tcp 127.0.0.1:5432", share: .3, memory: 812 << 20},
		{name: "records.service", program: "recordsd", title: "Records of animals and owners", needs: []string{"postgresql.service"}, listens: "tcp 0.0.0.0:8443", share: .25, memory: 390 << 20},
		{name: "records-sync.service", program: "records-sync", title: "Copies records to the surgeries", needs: []string{"postgresql.service"}, share: .1, memory: 121 << 20},
	},
	Kiosk:   {{name: "catalogue-screen.service", program: "catalogue", title: "Catalogue on the screen", share: .5, memory: 310 << 20}},
	Board:   {{name: "position.service", program: "positiond", title: "Where the van is", share: .2, memory: 31 << 20}},
	Station: {{name: "weather.service", program: "weatherd", title: "Reads the instruments", share: .5, memory: 48 << 20}},
	Desk:    {{name: "IssueDesk", program: "catalogue.exe", title: issueDesk, share: .4, memory: 260 << 20}},
	Imaging: {{name: "ImageStore", program: "imgstore.exe", title: "X-ray image store", listens: "tcp 0.0.0.0:11112", share: .5, memory: 2 << 30}},
}

func (s *simulated) jobs() []job {
	return append(slices.Clone(jobs[natures[s.Kind].os]), uses[s.Kind]...)
}

// stuck tells whether a service of the stories hangs: it runs, says nothing, and does no work.
func (s *simulated) stuck(j job) bool {
	if s.Stuck.IsZero() || j.program != "records-sync" || s.now().Before(s.Stuck) {
		return false
	}
	at, changed := s.startedAt(j.name)
	return !changed || at.Before(s.Stuck)
}

// startedAt tells when a technician last started a service, or zero when they stopped it; changed is
// false when they did neither.
func (s *simulated) startedAt(name string) (at time.Time, changed bool) {
	t := s.changed()
	t.mu.Lock()
	defer t.mu.Unlock()
	at, changed = t.started[name]
	return at, changed
}

func (s *simulated) running(i int, j job) link.Service {
	v := link.Service{Name: j.name, Title: j.title, State: "running", Start: "automatic", PID: s.pid(i, j), Memory: j.memory, Needs: j.needs, Detail: "running"}
	since := s.now().Add(-s.uptime(s.now()))
	at, changed := s.startedAt(j.name)
	switch {
	case changed && at.IsZero(), !changed && j.manual:
		v.State, v.PID, v.Memory, v.Detail = "stopped", 0, 0, ""
	case changed:
		since = at
	}
	if s.stuck(j) {
		v.Detail = "no sign of life for " + span(s.now().Sub(s.Stuck))
	}
	if j.manual {
		v.Start = "manual"
	}
	t := s.changed()
	t.mu.Lock()
	v.Start = cmp.Or(t.modes[j.name], v.Start)
	t.mu.Unlock()
	v.Since = since.Truncate(time.Second).Format(time.RFC3339)
	return v
}

func span(d time.Duration) string {
	if d > time.Hour {
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d min", int(d.Minutes()))
}

type simServices struct{ *simulated }

// List implements host.Services.
func (s simServices) List(context.Context) (link.Services, error) {
	out := link.Services{Items: []link.Service{}}
	for i, j := range s.jobs() {
		out.Items = append(out.Items, s.running(i, j))
	}
	slices.SortFunc(out.Items, func(a, b link.Service) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (s simServices) find(name string) (int, job, error) {
	all := s.jobs()
	i := slices.IndexFunc(all, func(j job) bool { return j.name == name || j.name == name+".service" })
	if i < 0 {
		return 0, job{}, refuse(http.StatusNotFound, "There is no service %q.", name)
	}
	return i, all[i], nil
}

// Service implements host.Services.
func (s simServices) Service(_ context.Context, named link.Service) (link.Service, error) {
	i, j, err := s.find(named.Name)
	if err != nil {
		return named, err
	}
	v := s.running(i, j)
	v.NeededBy = s.dependants(j)
	for _, e := range s.past(s.now().Add(-6*time.Hour), s.now()) {
		if e.Unit == j.name {
			v.Log = append(v.Log, e.At.UTC().Format("2006-01-02T15:04:05Z")+" "+e.Message)
		}
	}
	v.Log = v.Log[max(0, len(v.Log)-20):]
	return v, nil
}

func (s simServices) dependants(of job) (names []string) {
	for i, j := range s.jobs() {
		if slices.Contains(j.needs, of.name) && s.running(i, j).State == "running" {
			names = append(names, j.name)
		}
	}
	return names
}

// Do implements host.Services.
func (s simServices) Do(ctx context.Context, d link.ServiceDeed) (link.Outcome, error) {
	_, j, err := s.find(d.Name)
	if err != nil {
		return link.Outcome{}, err
	}
	t := s.changed()
	if d.Deed == link.ServiceMode {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.modes[j.name] = d.Start
		return link.Outcome{Message: fmt.Sprintf("%s starts %s from now on.", j.name, map[string]string{"automatic": "by itself", "manual": "when it is asked for", "disabled": "never"}[d.Start])}, nil
	}
	others := s.dependants(j)
	if d.Deed != link.ServiceStart {
		for _, o := range others {
			if !slices.Contains(d.Stops, o) {
				return link.Outcome{}, refuse(http.StatusConflict, "%s would stop too: look at what depends on %s, and say that it may.", o, j.name)
			}
		}
	}
	wait := 300 * time.Millisecond
	if s.stuck(j) {
		wait = 1500 * time.Millisecond // it does not answer, and is ended by force
	}
	select {
	case <-ctx.Done():
		return link.Outcome{}, context.Cause(ctx)
	case <-time.After(wait):
	}
	hung := s.stuck(j)
	t.mu.Lock()
	defer t.mu.Unlock()
	say := func(level, text string) {
		t.log(link.Event{At: s.now(), Level: level, Unit: j.name, Message: text})
	}
	if d.Deed != link.ServiceStart {
		if hung {
			say("warning", j.name+": State 'stop-sigterm' timed out. Killing.")
		}
		say("info", "Stopped "+j.title+".")
		t.started[j.name] = time.Time{}
		for _, o := range others {
			t.started[o] = time.Time{}
		}
	}
	if d.Deed == link.ServiceStop {
		return link.Outcome{Message: fmt.Sprintf("%s has stopped, after %s.", j.name, wait)}, nil
	}
	t.started[j.name] = s.now()
	say("info", "Started "+j.title+".")
	if d.Deed == link.ServiceRestart {
		for _, o := range others {
			t.started[o] = s.now()
		}
	}
	if j.program == "records-sync" {
		say("info", "lock taken; 1,204 records wait; copying to three surgeries")
	}
	return link.Outcome{Message: fmt.Sprintf("%s runs, after %s.", j.name, wait)}, nil
}

func (s *simulated) pid(i int, j job) int {
	at, changed := s.startedAt(j.name)
	return 400 + i*317 + int(s.Seed%97) + map[bool]int{true: int(at.Unix()%5000) + 5000}[changed]
}

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
	root, first, person := "root", "systemd", "root"
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
	out := link.Processes{At: now, Cores: n.cores, Items: []link.Process{{PID: 1, Name: first, Person: root, Started: boot, State: "sleeping", Memory: 12 << 20, Priority: link.PriorityNormal}}}
	add := func(pid, parent int, name, command, person string, started time.Time, share float64, memory int64, listens string) {
		if ended[pid] {
			return
		}
		p := link.Process{PID: pid, Parent: parent, Name: name, Command: command, Person: person, Started: started.Truncate(time.Second), State: "sleeping", Memory: memory, Priority: cmp.Or(nice[pid], link.PriorityNormal)}
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
		add(v.PID, 1, j.program, "/usr/sbin/"+j.program+" --config "+strings.TrimSuffix(j.program, ".exe")+".conf", root, started, share, j.memory, j.listens)
	}
	add(391+int(s.Seed%7), 1, "moor-agent", "moor-agent run", root, boot, .002, 21<<20, "")
	for i, p := range v.People {
		person = p.Name
		shell := 9000 + i*100
		add(shell, 1, map[string]string{device.Windows: "explorer.exe", device.MacOS: "Finder", device.Linux: "bash"}[n.os], "", person, now.Add(-3*time.Hour), .03, 90<<20, "")
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
func (s simProcesses) Do(ctx context.Context, d link.ProcessDeed) (link.Outcome, error) {
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
		switch d.Deed {
		case link.ProcessEnd, link.ProcessEndTree:
			t.ended[p.PID], out.Message = true, p.Name+" has ended."
		case link.ProcessPause, link.ProcessContinue:
			t.paused[p.PID] = d.Deed == link.ProcessPause
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

type simEvents struct{ *simulated }

// Sources implements host.Events.
func (s simEvents) Sources(context.Context) (link.EventSources, error) {
	name, title, kind := "journal", "Journal", "journal"
	switch natures[s.Kind].os {
	case device.Windows:
		name, title, kind = "System", "System", "channel"
	case device.MacOS:
		name, title, kind = "unified", "Unified log", "unified"
	}
	var units []string
	for _, j := range s.jobs() {
		units = append(units, j.name)
	}
	slices.Sort(units)
	return link.EventSources{Items: []link.EventSource{{Name: name, Title: title, Kind: kind, Units: units}}}, nil
}

// sayings are what services say now and then, in the order of how often.
var sayings = []struct{ level, text string }{
	{"info", "housekeeping done in %d ms"}, {"info", "%d requests since the last hour"}, {"debug", "cache holds %d entries"},
	{"notice", "settings read again, %d values"}, {"warning", "slow answer: %d ms"}, {"error", "a connection was reset after %d s"},
}

// past are the events between two times, oldest first: they follow from seed and time.
func (s *simulated) past(from, to time.Time) []link.Event {
	const every = 40 * time.Second
	all := s.jobs()
	var list []link.Event
	for at := from.Truncate(every); at.Before(to); at = at.Add(every) {
		r := rand.New(rand.NewPCG(s.Seed, uint64(at.Unix())))
		j := all[r.IntN(len(all))]
		k := min(int(r.ExpFloat64()*1.1), len(sayings)-1)
		at := at.Add(time.Duration(r.IntN(int(every))))
		if at.Before(from) || !at.Before(to) || (s.stuck(j) && at.After(s.Stuck)) || j.manual {
			continue
		}
		list = append(list, link.Event{At: at, Level: sayings[k].level, Unit: j.name, PID: s.pid(0, j), Message: fmt.Sprintf(sayings[k].text, 1+r.IntN(900))})
	}
	if !s.Stuck.IsZero() && s.Stuck.After(from) && s.Stuck.Before(to) {
		list = append(list, link.Event{At: s.Stuck, Level: "error", Unit: "records-sync.service", Message: "waiting for the lock of batch 4471: its holder went away"},
			link.Event{At: s.Stuck.Add(2 * time.Second), Level: "warning", Unit: "records-sync.service", Message: "no record copied since; will wait"})
	}
	if j := slices.IndexFunc(all, func(j job) bool { return j.program == "records-sync" }); j >= 0 && s.stuck(all[j]) {
		for at := s.Stuck.Add(5 * time.Minute); at.Before(to); at = at.Add(5 * time.Minute) {
			if !at.Before(from) {
				list = append(list, link.Event{At: at, Level: "warning", Unit: all[j].name, Message: fmt.Sprintf("no record copied for %s", span(at.Sub(s.Stuck)))})
			}
		}
	}
	t := s.changed()
	t.mu.Lock()
	for _, e := range t.events {
		if !e.At.Before(from) && e.At.Before(to) {
			list = append(list, e)
		}
	}
	t.mu.Unlock()
	slices.SortStableFunc(list, func(a, b link.Event) int { return a.At.Compare(b.At) })
	return list
}

// Events implements host.Events.
func (s simEvents) Events(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error {
	var text *regexp.Regexp
	if q.Text != "" {
		var err error
		if text, err = regexp.Compile(q.Text); err != nil {
			return refuse(http.StatusBadRequest, "The text cannot be read as a pattern: %v.", err)
		}
	}
	least := eventlog.Severity(q.Level)
	sift := func(list []link.Event) []link.Event {
		return slices.DeleteFunc(list, func(e link.Event) bool {
			return (least >= 0 && eventlog.Severity(e.Level) > least) || (q.Unit != "" && e.Unit != q.Unit) || (text != nil && !text.MatchString(e.Message))
		})
	}
	now := s.now()
	from, to := now.Add(-24*time.Hour), now
	if !q.Since.IsZero() {
		from = q.Since
	}
	if !q.Until.IsZero() && q.Until.Before(now) {
		to = q.Until
	}
	list := sift(s.past(from, to))
	list = list[max(0, len(list)-cmp.Or(q.Last, 500)):]
	if err := send(link.EventBatch{Events: list}); err != nil {
		return err
	}
	if err := send(link.EventBatch{Live: true, Done: !q.Follow}); err != nil || !q.Follow {
		return err
	}
	for {
		t := s.changed()
		t.mu.Lock()
		grown := t.grown
		t.mu.Unlock()
		select {
		case <-ctx.Done():
			return nil
		case <-grown:
		case <-time.After(time.Second):
		}
		next := s.now()
		if list := sift(s.past(now, next)); len(list) > 0 {
			if err := send(link.EventBatch{Events: list}); err != nil {
				return err
			}
		}
		now = next
	}
}

type simPeople struct{ *simulated }

// People implements host.People.
func (s simPeople) People(context.Context) (link.PresenceList, error) {
	out := link.PresenceList{Items: []link.Presence{}}
	for i, p := range s.At(s.now()).People {
		one := link.Presence{Session: fmt.Sprint(i + 1), Name: p.Name, Kind: "console", Where: p.Where, Since: s.now().Add(-3 * time.Hour).Truncate(time.Minute), IdleSeconds: p.IdleSeconds, Locked: p.IdleSeconds > 900, Graphic: natures[s.Kind].os != device.Linux}
		if !one.Graphic {
			one.Kind = "terminal"
		} else {
			out.Means = "dialog"
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// Show implements host.People: the people of the sample world answer after a moment with the first
// button, but leave open what does not ask them.
func (s simPeople) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	list, _ := s.People(ctx)
	i := slices.IndexFunc(list.Items, func(p link.Presence) bool {
		return p.Graphic && !p.Locked && (m.Session == "" || m.Session == p.Session)
	})
	if i < 0 {
		return link.MessageAnswer{Reason: "Nobody is signed in at a desktop of this device."}, nil
	}
	answer := link.MessageAnswer{Shown: true, By: list.Items[i].Name}
	wait := 2*time.Second + time.Duration(s.Seed%3)*time.Second
	if len(m.Buttons) == 1 { // a sign, not a question
		wait = time.Duration(cmp.Or(m.Seconds, 120)) * time.Second
	}
	select {
	case <-ctx.Done():
		return answer, ctx.Err()
	case <-time.After(wait):
	}
	answer.After = wait.Seconds()
	if len(m.Buttons) == 1 {
		answer.Reason = "no answer"
		return answer, nil
	}
	answer.Answer = append(m.Buttons, "OK")[0]
	return answer, nil
}

// Clip implements host.People.
func (s simPeople) Clip(_ context.Context, c link.Clip) (link.Outcome, error) {
	if people := s.At(s.now()).People; len(people) > 0 {
		return link.Outcome{Message: fmt.Sprintf("%d characters are on the clipboard of %s.", len([]rune(c.Text)), people[0].Name)}, nil
	}
	return link.Outcome{}, refuse(http.StatusConflict, "Nobody is signed in at a desktop of this device.")
}

type simPower struct{ *simulated }

// Do implements host.Power. A simulated device that is restarted goes away for a while, and comes
// back as it was.
func (s simPower) Do(_ context.Context, d link.PowerDeed) (link.Outcome, error) {
	switch d.Deed {
	case link.PowerLock:
		return link.Outcome{Message: "The session is locked."}, nil
	case link.PowerCancel:
		return link.Outcome{}, refuse(http.StatusConflict, "Nothing was to come.")
	case link.PowerRestart, link.PowerOff, link.PowerFirmware, link.PowerRecovery:
		if s.Away == nil {
			return link.Outcome{}, refuse(http.StatusNotImplemented, "This simulated device cannot be restarted.")
		}
		t := s.changed()
		t.mu.Lock()
		clear(t.started)
		clear(t.ended)
		clear(t.paused)
		t.mu.Unlock()
		s.Away(d.Deed == link.PowerOff)
		return link.Outcome{Message: map[bool]string{true: "It shuts down now.", false: "It restarts now."}[d.Deed == link.PowerOff]}, nil
	}
	return link.Outcome{Message: "The session is signed out."}, nil
}

type simNetwork struct{ *simulated }

// Network implements host.Network.
func (s simNetwork) Network(context.Context) (link.Network, error) {
	parts := strings.Split(s.Address, ".")
	base := strings.Join(parts[:min(3, len(parts))], ".")
	n := link.Network{Resolvers: []string{base + ".1"}, Search: []string{"larkmoor.example"},
		Interfaces: []link.Interface{{Name: "eth0", Hardware: s.hardware(s.Address), Addresses: []string{s.Address + "/24"}, Up: true, MTU: 1500}},
		Routes:     []link.Route{{To: "0.0.0.0/0", By: base + ".1", Interface: "eth0", Metric: 100}, {To: base + ".0/24", Interface: "eth0"}},
		Neighbours: s.neighbours(base), Connections: []link.Connection{}}
	for i, j := range s.jobs() {
		if proto, at, ok := strings.Cut(j.listens, " "); ok {
			n.Connections = append(n.Connections, link.Connection{Protocol: proto, Local: at, State: "listen", PID: s.pid(i, j), Process: j.program})
		}
	}
	n.Connections = append(n.Connections, link.Connection{Protocol: "tcp", Local: s.Address + ":49812", Remote: "198.51.100.7:443", State: "established", PID: 391 + int(s.Seed%7), Process: "moor-agent"})
	return n, nil
}

func (s *simulated) hardware(address string) string {
	h := uint64(hash(uint64(len(address)), uint64(strings.Count(address, "1"))+uint64(address[len(address)-1])<<8) * (1 << 40))
	return fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", byte(h>>32), byte(h>>24), byte(h>>16), byte(h>>8), byte(h))
}

// neighbours are a router, a printer without an agent, and others on the same network.
func (s *simulated) neighbours(base string) []link.Neighbour {
	list := []link.Neighbour{{Address: base + ".1", Interface: "eth0", Open: []int{80, 443}}, {Address: base + ".9", Interface: "eth0", Name: "printer", Open: []int{80, 631, 9100}}}
	for i := range 4 {
		a := fmt.Sprintf("%s.%d", base, 10+(int(s.Seed)+i*3)%20)
		if a != s.Address {
			list = append(list, link.Neighbour{Address: a, Interface: "eth0", Open: []int{135, 445}})
		}
	}
	for i := range list {
		list[i].Hardware = s.hardware(list[i].Address)
	}
	return list
}

// Reach implements host.Network.
func (s simNetwork) Reach(ctx context.Context, r link.Reach, send func(link.ReachResult) error) error {
	n := max(r.Times, 1)
	for i := range n {
		took := 8 + 9*smooth(s.Seed, s.now().Add(time.Duration(i)*time.Second), 3*time.Second)
		if err := send(link.ReachResult{OK: true, Text: "answer from " + r.Target, Milliseconds: took}); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
	return send(link.ReachResult{OK: true, Done: true, Text: fmt.Sprintf("%d of %d tries answered", n, n), Milliseconds: 11})
}

// Scan implements host.Network.
func (s simNetwork) Scan(ctx context.Context, q link.Scan, send func(link.ScanEvent) error) error {
	parts := strings.Split(s.Address, ".")
	base := strings.Join(parts[:min(3, len(parts))], ".")
	if !strings.HasPrefix(q.Network, base+".") {
		return refuse(http.StatusBadRequest, "The device is not on the network %s: it scans its own alone.", q.Network)
	}
	for i, n := range s.neighbours(base) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
		if err := send(link.ScanEvent{Found: &n, Tried: 40 * (i + 1), Of: 254}); err != nil {
			return err
		}
	}
	return send(link.ScanEvent{Tried: 254, Of: 254, Done: true})
}

// Wake implements host.Network.
func (s simNetwork) Wake(_ context.Context, w link.Wake) (link.Outcome, error) {
	return link.Outcome{Message: "The call was sent to " + strings.Join(w.Hardware, ", ") + "."}, nil
}
