//go:build unix

package darwin

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"howett.net/plist"

	"moorwatch.example/contract/link"
)

// services implements host.Services over launchd: what it has loaded for the system, by launchctl(1),
// and what is installed for it, by property lists (launchd.plist(5)).
type services struct {
	tools tools
	root  string // below which the system's folders are; "" but in tests
	poll  time.Duration
}

// job is what a property list of launchd tells that is of use here.
type job struct {
	Label            string
	Program          string
	ProgramArguments []string
	RunAtLoad        bool
	KeepAlive        any // a flag, or conditions
	Disabled         bool
	StartInterval    int
	Calendar         any    `plist:"StartCalendarInterval"`
	ErrorPath        string `plist:"StandardErrorPath"`
	OutPath          string `plist:"StandardOutPath"`

	file string
}

func (j job) command() string {
	if len(j.ProgramArguments) > 0 {
		return strings.Join(j.ProgramArguments, " ")
	}
	return j.Program
}

// start is when the job's property list has it started.
func (j job) start() string {
	if j.RunAtLoad || j.KeepAlive == true {
		return "automatic"
	}
	return "manual" // when something asks for it
}

// ofSystem tells whether a job came with macOS, which protects it.
func (j job) ofSystem() bool { return strings.Contains(j.file, "/System/Library/") }

// jobs reads the property lists of a folder.
func jobs(folder string) []job {
	var all []job
	files, _ := filepath.Glob(filepath.Join(folder, "*.plist"))
	for _, path := range files {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		j := job{file: path}
		if _, err := plist.Unmarshal(b, &j); err == nil && j.Label != "" {
			all = append(all, j)
		}
	}
	return all
}

// daemons are the jobs that are installed for the system, by label.
func (s services) daemons() map[string]job {
	all := map[string]job{}
	for _, folder := range []string{"/System/Library/LaunchDaemons", "/Library/LaunchDaemons"} {
		for _, j := range jobs(s.root + folder) {
			all[j.Label] = j
		}
	}
	return all
}

// loaded is a line of what `launchctl list` prints.
type loaded struct{ pid, status int }

// state is what it is in, and more of it in words.
func (l loaded) state() (state, detail string) {
	switch {
	case l.pid > 0:
		return "running", ""
	case l.status > 0:
		return "failed", fmt.Sprintf("ended with %d", l.status)
	case l.status < 0 && l.status != -15: // launchd's own way of ending one
		return "failed", fmt.Sprintf("ended by signal %d", -l.status)
	}
	return "stopped", ""
}

// Loaded reads the table of `launchctl list`: process, last exit status (less than 0 for a signal) and
// label, - where there is none.
func Loaded(text string) map[string]loaded {
	all := map[string]loaded{}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) != 3 || f[2] == "Label" {
			continue
		}
		var l loaded
		l.pid, _ = strconv.Atoi(f[0])
		l.status, _ = strconv.Atoi(f[1])
		all[f[2]] = l
	}
	return all
}

var disabledLine = regexp.MustCompile(`^"([^"]+)" => (disabled|enabled|true|false)$`)

// Disabled reads what `launchctl print-disabled` prints: whether each label that was ever switched is
// disabled. Older systems write true for disabled.
func Disabled(text string) map[string]bool {
	all := map[string]bool{}
	for line := range strings.Lines(text) {
		if m := disabledLine.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
			all[m[1]] = m[2] == "disabled" || m[2] == "true"
		}
	}
	return all
}

// state is what launchd has of the system's jobs.
type state struct {
	daemons  map[string]job
	loaded   map[string]loaded
	disabled map[string]bool
}

func (s services) state(ctx context.Context) (state, error) {
	now := state{daemons: s.daemons()}
	list, err := s.tools.ask(ctx, "/bin/launchctl", "list")
	if err != nil {
		return now, unanswered("launchd", err)
	}
	off, err := s.tools.ask(ctx, "/bin/launchctl", "print-disabled", "system")
	if err != nil {
		return now, unanswered("launchd", err)
	}
	now.loaded, now.disabled = Loaded(list), Disabled(off)
	return now, nil
}

func (s state) service(label string) link.Service {
	j, installed := s.daemons[label]
	l, known := s.loaded[label]
	one := link.Service{Name: label, Title: filepath.Base(strings.Split(j.command()+" ", " ")[0]), Start: "other", PID: l.pid,
		WillNotStop: j.ofSystem()}
	if !installed {
		one.Title = ""
	}
	if one.State, one.Detail = l.state(); !known {
		one.Detail = "not loaded"
	}
	off, switched := s.disabled[label]
	switch {
	case switched && off, !switched && j.Disabled:
		one.Start = "disabled"
	case installed:
		one.Start = j.start()
	}
	return one
}

// List implements host.Services.
func (s services) List(ctx context.Context) (link.Services, error) {
	out := link.Services{Items: []link.Service{}}
	now, err := s.state(ctx)
	if err != nil {
		return out, err
	}
	labels := maps.Clone(now.daemons)
	for label := range now.loaded {
		if !strings.HasPrefix(label, "application.") { // programs of people, whom launchd keeps too
			labels[label] = now.daemons[label]
		}
	}
	for _, label := range slices.Sorted(maps.Keys(labels)) {
		out.Items = append(out.Items, now.service(label))
	}
	return out, nil
}

var label = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:-]{0,254}$`)

// find returns a service and what launchd has of all.
func (s services) find(ctx context.Context, name string) (state, link.Service, error) {
	if !label.MatchString(name) {
		return state{}, link.Service{}, refuse(http.StatusBadRequest, "%q is no label of a service.", name)
	}
	now, err := s.state(ctx)
	if err != nil {
		return now, link.Service{}, err
	}
	_, installed := now.daemons[name]
	if _, known := now.loaded[name]; !known && !installed {
		return now, link.Service{}, refuse(http.StatusNotFound, "There is no service %q.", name)
	}
	return now, now.service(name), nil
}

// mostServiceLog is how many of a log's last bytes, and serviceLines how many of their lines, are shown with a service.
const (
	mostServiceLog = 16 << 10
	serviceLines   = 20
)

// Service implements host.Services. launchd knows no needs of one job for another. Its log is the file
// that the property list names, where it names one.
func (s services) Service(ctx context.Context, in link.Service) (link.Service, error) {
	now, one, err := s.find(ctx, in.Name)
	if err != nil {
		return in, err
	}
	j := now.daemons[in.Name]
	one.NeededBy = []string{}
	for _, path := range []string{j.ErrorPath, j.OutPath} {
		if one.Log = tail(s.root + path); path != "" && len(one.Log) > 0 {
			break
		}
	}
	return one, nil
}

// tail is the last lines of a file.
func tail(path string) []string {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil
	}
	b := make([]byte, min(info.Size(), mostServiceLog))
	if _, err := f.ReadAt(b, info.Size()-int64(len(b))); err != nil {
		return nil
	}
	lines := strings.Split(strings.TrimRight(string(b), "\n"), "\n")
	return lines[max(0, len(lines)-serviceLines):]
}

// endsWell is after how long a service that was started and does not run is believed to have done its work.
const endsWell = 2 * time.Second

// serviceWithin is how long a state is waited for when nothing else is said.
const serviceWithin = 60 * time.Second

// Do implements host.Services. A service is stopped by taking it out of launchd, which would else start
// it again, and started by putting it there.
func (s services) Do(ctx context.Context, d link.ServiceAction) (link.Outcome, error) {
	now, one, err := s.find(ctx, d.Name)
	if err != nil {
		return link.Outcome{}, err
	}
	j := now.daemons[d.Name]
	_, known := now.loaded[d.Name]
	target := "system/" + d.Name
	var steps [][]string
	switch d.Action {
	case link.ServiceMode:
		return s.mode(ctx, d)
	case link.ServiceStop:
		if known {
			steps = [][]string{{"bootout", target}}
		}
	case link.ServiceStart, link.ServiceRestart:
		switch {
		case one.Start == "disabled":
			return link.Outcome{}, refuse(http.StatusConflict, "%s is disabled: let it start first.", d.Name)
		case !known:
			steps = append(steps, []string{"bootstrap", "system", j.file})
		}
		if d.Action == link.ServiceRestart && known {
			steps = append(steps, []string{"kickstart", "-k", target})
		} else {
			steps = append(steps, []string{"kickstart", target})
		}
	default:
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
	}
	began := time.Now()
	for _, args := range steps {
		if _, err := s.tools.ask(ctx, append([]string{"/bin/launchctl"}, args...)...); err != nil {
			if j.ofSystem() {
				return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v. It came with macOS, which protects it.", err)
			}
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v.", err)
		}
	}
	within := serviceWithin
	if d.Seconds > 0 {
		within = time.Duration(d.Seconds) * time.Second
	}
	return s.settle(ctx, d, began, within)
}

// settle waits until a service is where an action leads.
func (s services) settle(ctx context.Context, d link.ServiceAction, began time.Time, within time.Duration) (link.Outcome, error) {
	for {
		list, err := s.tools.ask(ctx, "/bin/launchctl", "list")
		if err != nil {
			return link.Outcome{}, unanswered("launchd", err)
		}
		l, known := Loaded(list)[d.Name]
		took := time.Since(began).Round(100 * time.Millisecond)
		switch {
		case d.Action == link.ServiceStop && l.pid == 0:
			return link.Outcome{Message: fmt.Sprintf("%s has stopped, after %s.", d.Name, took)}, nil
		case d.Action != link.ServiceStop && l.pid > 0:
			return link.Outcome{Message: fmt.Sprintf("%s runs, after %s.", d.Name, took)}, nil
		case d.Action != link.ServiceStop && known && l.status != 0:
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%s failed (exit status %d): its log says why.", d.Name, l.status)
		case d.Action != link.ServiceStop && known && time.Since(began) > endsWell:
			return link.Outcome{Message: fmt.Sprintf("%s was started and has ended well already.", d.Name)}, nil
		case time.Since(began) > within:
			return link.Outcome{}, refuse(http.StatusConflict, "%s is not where it should be after %s: launchd goes on with it.", d.Name,
				within)
		}
		select {
		case <-ctx.Done():
			return link.Outcome{}, context.Cause(ctx)
		case <-time.After(s.poll):
		}
	}
}

// mode sets whether a service may start. When it does, its property list says: that is not changed.
func (s services) mode(ctx context.Context, d link.ServiceAction) (link.Outcome, error) {
	verb, ok := map[string]string{"automatic": "enable", "disabled": "disable"}[d.Start]
	if !ok {
		return link.Outcome{}, refuse(http.StatusUnprocessableEntity,
			"On macOS a service's property list says when it starts: it may do so (automatic) or not (disabled).")
	}
	if _, err := s.tools.ask(ctx, "/bin/launchctl", verb, "system/"+d.Name); err != nil {
		return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v.", err)
	}
	return link.Outcome{Message: fmt.Sprintf("%s starts %s from now on.", d.Name,
		map[string]string{"enable": "as its property list says", "disable": "never"}[verb])}, nil
}

// running answers questions and checks about one service. They come every few seconds: the property lists are read
// for what launchd does not have alone.
func (s services) running(ctx context.Context, name string) (bool, string, error) {
	if !label.MatchString(name) {
		return false, "", refuse(http.StatusBadRequest, "%q is no label of a service.", name)
	}
	list, err := s.tools.ask(ctx, "/bin/launchctl", "list")
	if err != nil {
		return false, "", unanswered("launchd", err)
	}
	l, known := Loaded(list)[name]
	if !known {
		if _, installed := s.daemons()[name]; !installed {
			return false, "not installed", nil
		}
	}
	state, _ := l.state()
	return state == "running", state, nil
}
