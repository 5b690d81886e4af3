package sim

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// state is what technicians changed on a simulated device since its agent started. It is made when
// something is first changed: most devices of a fleet have none.
type state struct {
	mu        sync.Mutex
	started   map[string]time.Time // services, when they were last started; zero for stopped
	modes     map[string]string    // their start modes
	ended     map[int]bool         // processes
	nice      map[int]string
	paused    map[int]bool
	events    []link.Event      // that actions left in the log
	grown     chan struct{}     // closed when an event is added
	desk      *desk             // nil until somebody looks at it
	software  map[string]string // installed since, by name; "" for what was removed
	restarted time.Time         // when it was last restarted
	updates   map[string]string // versions that updates led to since, by name; nil for none
	restart   bool              // an update asks for a restart
	crash     *device.Crash     // the last of a program that an update broke
}

func (s *simulated) changed() *state {
	s.once.Do(func() {
		s.state.Store(&state{started: map[string]time.Time{}, modes: map[string]string{}, ended: map[int]bool{}, nice: map[int]string{},
			paused: map[int]bool{}, software: map[string]string{}, grown: make(chan struct{})})
	})
	return s.state.Load()
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
		{name: "HedgeProtection", program: "hedge.exe", title: "Hedge Protection", needs: []string{"EventLog"}, share: .08,
			memory: 96 << 20},
		{name: "FaxRelay", program: "faxrelay.exe", title: "Fax Relay", manual: true},
	},
	device.MacOS: {
		{name: "mds", program: "mds", title: "Metadata server", share: .1, memory: 80 << 20},
		{name: "bookings", program: "bookings", title: "Surgery bookings", listens: "tcp 127.0.0.1:8020", share: .2, memory: 140 << 20},
	},
	device.Linux: {
		{name: "systemd-journald.service", program: "systemd-journald", title: "Journal Service", share: .03, memory: 22 << 20},
		{name: "ssh.service", program: "sshd", title: "OpenBSD Secure Shell server", listens: "tcp 0.0.0.0:22", share: .01,
			memory: 9 << 20},
		{name: "cron.service", program: "cron", title: "Regular background program processing daemon", share: .01, memory: 4 << 20},
	},
}

var uses = map[Kind][]job{
	Server: {
		{name: "postgresql.service", program: "postgres", title: "Records database", listens: "tcp 127.0.0.1:5432", share: .3,
			memory: 812 << 20},
		{name: "records.service", program: "recordsd", title: "Records of animals and owners", needs: []string{"postgresql.service"},
			listens: "tcp 0.0.0.0:8443", share: .25, memory: 390 << 20},
		{name: "records-sync.service", program: "records-sync", title: "Copies records to the surgeries",
			needs: []string{"postgresql.service"}, share: .1, memory: 121 << 20},
	},
	Kiosk:   {{name: "catalogue-screen.service", program: "catalogue", title: "Catalogue on the screen", share: .5, memory: 310 << 20}},
	Board:   {{name: "position.service", program: "positiond", title: "Where the van is", share: .2, memory: 31 << 20}},
	Station: {{name: "weather.service", program: "weatherd", title: "Reads the instruments", share: .5, memory: 48 << 20}},
	Desk:    {{name: "IssueDesk", program: "catalogue.exe", title: issueDesk, share: .4, memory: 260 << 20}},
	Imaging: {{name: "ImageStore", program: "imgstore.exe", title: "X-ray image store", listens: "tcp 0.0.0.0:11112", share: .5,
		memory: 2 << 30}},
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

// stops tells whether a service of the stories has stopped by itself.
func (s *simulated) stops(j job) bool {
	return !s.Stops.IsZero() && len(uses[s.Kind]) > 0 && j.name == uses[s.Kind][0].name && !s.now().Before(s.Stops)
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
	v := link.Service{Name: j.name, Title: j.title, State: "running", Start: "automatic", PID: s.pid(i, j), Memory: j.memory,
		Needs: j.needs, Detail: "running"}
	since := s.now().Add(-s.uptime(s.now()))
	at, changed := s.startedAt(j.name)
	switch {
	case s.breaks(j):
		v.State, v.PID, v.Memory, v.Detail = "failed", 0, 0, "exit status 1"
	case changed && at.IsZero(), !changed && j.manual, s.stops(j) && (!changed || at.Before(s.Stops)):
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
func (s simServices) Do(ctx context.Context, d link.ServiceAction) (link.Outcome, error) {
	_, j, err := s.find(d.Name)
	if err != nil {
		return link.Outcome{}, err
	}
	t := s.changed()
	if d.Action == link.ServiceMode {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.modes[j.name] = d.Start
		return link.Outcome{Message: fmt.Sprintf("%s starts %s from now on.", j.name,
			map[string]string{"automatic": "by itself", "manual": "when it is asked for", "disabled": "never"}[d.Start])}, nil
	}
	others := s.dependants(j)
	if d.Action != link.ServiceStart {
		for _, o := range others {
			if !slices.Contains(d.Stops, o) {
				return link.Outcome{}, refuse(http.StatusConflict, "%s would stop too: look at what depends on %s, and say that it may.", o,
					j.name)
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
	if d.Action != link.ServiceStart {
		if hung {
			say("warning", j.name+": State 'stop-sigterm' timed out. Killing.")
		}
		say("info", "Stopped "+j.title+".")
		t.started[j.name] = time.Time{}
		for _, o := range others {
			t.started[o] = time.Time{}
		}
	}
	if d.Action == link.ServiceStop {
		return link.Outcome{Message: fmt.Sprintf("%s has stopped, after %s.", j.name, wait)}, nil
	}
	t.started[j.name] = s.now()
	say("info", "Started "+j.title+".")
	if d.Action == link.ServiceRestart {
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
