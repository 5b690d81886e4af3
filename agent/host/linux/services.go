//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/contract/link"
)

// services implements host.Services through systemctl(1), whose properties are an interface that
// is kept stable (systemd.io, Portability and Stability).
type services struct{}

// booted tells whether systemd runs this computer (sd_booted(3)).
func booted() bool {
	info, err := os.Stat("/run/systemd/system")
	return err == nil && info.IsDir()
}

const serviceProperties = "Id,Description,LoadState,ActiveState,SubState,Result,UnitFileState,MainPID,MemoryCurrent,StateChangeTimestamp," +
	"Requires,Wants,RequiredBy,BoundBy,ConsistsOf,RequisiteOf,RefuseManualStop,Names"

func refuse(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// systemctl runs systemctl, and gives what it complains of as the error.
func systemctl(ctx context.Context, args ...string) (string, error) {
	return ask(ctx, "systemctl", args...)
}

func ask(ctx context.Context, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = time.Second
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=UTC")
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		if said := strings.TrimRight(strings.TrimSpace(string(exit.Stderr)), "."); said != "" {
			err = errors.New(said)
		}
	}
	return string(out), err
}

// unit is a unit's properties by name.
type unit map[string]string

// properties reads what `systemctl show` prints: blocks of Name=Value lines, parted by empty ones.
func properties(text string) []unit {
	var all []unit
	u := unit{}
	for line := range strings.Lines(text + "\n\n") {
		line = strings.TrimRight(line, "\n")
		if line == "" {
			if len(u) > 0 {
				all = append(all, u)
				u = unit{}
			}
			continue
		}
		if key, value, ok := strings.Cut(line, "="); ok {
			u[key] = value
		}
	}
	return all
}

func (u unit) service() link.Service {
	s := link.Service{Name: u["Id"], Title: u["Description"], Detail: u["SubState"], WillNotStop: u["RefuseManualStop"] == "yes"}
	switch u["ActiveState"] {
	case "active", "reloading":
		s.State = "running"
	case "activating":
		s.State = "starting"
	case "deactivating":
		s.State = "stopping"
	case "failed":
		s.State = "failed"
		if r := u["Result"]; r != "" && r != "success" {
			s.Detail = r
		}
	default:
		s.State = "stopped"
	}
	s.Start = startWords[u["UnitFileState"]]
	if s.Start == "" {
		s.Start = "other"
	}
	s.PID, _ = strconv.Atoi(u["MainPID"])
	s.Memory, _ = strconv.ParseInt(u["MemoryCurrent"], 10, 64)
	if at, err := time.Parse("Mon 2006-01-02 15:04:05 MST", u["StateChangeTimestamp"]); err == nil {
		s.Since = at.Format(time.RFC3339)
	}
	return s
}

var startWords = map[string]string{"enabled": "automatic", "enabled-runtime": "automatic", "static": "manual", "disabled": "manual",
	"indirect": "manual", "alias": "other", "masked": "disabled", "masked-runtime": "disabled"}

// List implements host.Services.
func (services) List(ctx context.Context) (link.Services, error) {
	out := link.Services{Items: []link.Service{}}
	text, err := systemctl(ctx, "show", "--no-pager", "--property="+serviceProperties, "--", "*.service")
	if err != nil {
		return out, refuse(http.StatusBadGateway, "systemd does not answer: %v.", err)
	}
	seen := map[string]bool{}
	for _, u := range properties(text) {
		if u["LoadState"] == "not-found" || seen[u["Id"]] {
			continue
		}
		seen[u["Id"]] = true
		out.Items = append(out.Items, u.service())
	}
	// Those that are installed and were not loaded are stopped.
	files, err := systemctl(ctx, "list-unit-files", "--no-pager", "--no-legend", "--type=service")
	if err != nil {
		return out, refuse(http.StatusBadGateway, "systemd does not answer: %v.", err)
	}
	for line := range strings.Lines(files) {
		f := strings.Fields(line)
		if len(f) < 2 || seen[f[0]] || strings.Contains(f[0], "@.") || f[1] == "alias" {
			continue
		}
		out.Items = append(out.Items, unit{"Id": f[0], "UnitFileState": f[1], "ActiveState": "inactive", "SubState": "dead"}.service())
	}
	slices.SortFunc(out.Items, func(a, b link.Service) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// named refuses what is no name of a service, so that it can be no option or pattern either.
func named(name string) (string, error) {
	if name == "" || strings.HasPrefix(name, "-") || strings.ContainsAny(name, "*?[]/ \n\t") || len(name) > 255 {
		return "", refuse(http.StatusBadRequest, "%q is no name of a service.", name)
	}
	if !strings.Contains(name, ".") {
		name += ".service"
	}
	return name, nil
}

func show(ctx context.Context, name string) (unit, error) {
	text, err := systemctl(ctx, "show", "--no-pager", "--property="+serviceProperties, "--", name)
	if err != nil {
		return nil, refuse(http.StatusBadGateway, "systemd does not answer: %v.", err)
	}
	all := properties(text)
	if len(all) == 0 || all[0]["LoadState"] == "not-found" {
		return nil, refuse(http.StatusNotFound, "There is no service %q.", name)
	}
	return all[0], nil
}

// Service implements host.Services.
func (services) Service(ctx context.Context, in link.Service) (link.Service, error) {
	name, err := named(in.Name)
	if err != nil {
		return in, err
	}
	u, err := show(ctx, name)
	if err != nil {
		return in, err
	}
	s := u.service()
	for _, n := range strings.Fields(u["Requires"] + " " + u["Wants"]) {
		if strings.HasSuffix(n, ".service") {
			s.Needs = append(s.Needs, n)
		}
	}
	if s.NeededBy, err = dependants(ctx, u); err != nil {
		return s, err
	}
	text, err := ask(ctx, "journalctl", "--quiet", "--no-pager", "--output=short-iso", "--lines=20", "--unit="+u["Id"])
	if err == nil {
		for line := range strings.Lines(text) {
			s.Log = append(s.Log, strings.TrimRight(line, "\n"))
		}
	}
	return s, nil
}

// dependants are the running units that stop when u does, and those that stop with them.
func dependants(ctx context.Context, u unit) ([]string, error) {
	seen := map[string]bool{u["Id"]: true}
	list := []string{}
	for queue := []unit{u}; len(queue) > 0 && len(list) < 200; {
		next := queue[0]
		queue = queue[1:]
		var names []string
		for _, key := range []string{"RequiredBy", "BoundBy", "ConsistsOf", "RequisiteOf"} {
			for _, n := range strings.Fields(next[key]) {
				if !seen[n] {
					seen[n] = true
					names = append(names, n)
				}
			}
		}
		if len(names) == 0 {
			continue
		}
		text, err := systemctl(ctx, append([]string{"show", "--no-pager", "--property=" + serviceProperties, "--"}, names...)...)
		if err != nil {
			return nil, refuse(http.StatusBadGateway, "systemd does not answer: %v.", err)
		}
		for _, d := range properties(text) {
			if d["ActiveState"] != "inactive" && d["ActiveState"] != "failed" {
				list = append(list, d["Id"])
				queue = append(queue, d)
			}
		}
	}
	slices.Sort(list)
	return list, nil
}

// serviceWithin is how long a state is waited for when nothing else is said.
const serviceWithin = 60 * time.Second

// Do implements host.Services.
func (s services) Do(ctx context.Context, d link.ServiceAction) (link.Outcome, error) {
	name, err := named(d.Name)
	if err != nil {
		return link.Outcome{}, err
	}
	u, err := show(ctx, name)
	if err != nil {
		return link.Outcome{}, err
	}
	if d.Action == link.ServiceMode {
		return setStart(ctx, u, d.Start)
	}
	if d.Action == link.ServiceStop || d.Action == link.ServiceRestart {
		others, err := dependants(ctx, u)
		if err != nil {
			return link.Outcome{}, err
		}
		for _, o := range others {
			if !slices.Contains(d.Stops, o) {
				return link.Outcome{}, refuse(http.StatusConflict, "%s would stop too: look at what depends on %s, and say that it may.", o,
					name)
			}
		}
	}
	verb, ok := map[string]string{link.ServiceStart: "start", link.ServiceStop: "stop", link.ServiceRestart: "restart"}[d.Action]
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
	}
	began := time.Now()
	if _, err := systemctl(ctx, verb, "--no-block", "--no-ask-password", "--", name); err != nil {
		return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v.", err)
	}
	within := serviceWithin
	if d.Seconds > 0 {
		within = time.Duration(d.Seconds) * time.Second
	}
	return settle(ctx, name, d.Action, began, within)
}

// settle waits until a service is where an action leads.
func settle(ctx context.Context, name, action string, began time.Time, within time.Duration) (link.Outcome, error) {
	for {
		jobs, _ := systemctl(ctx, "show", "--no-pager", "--property=Job,ActiveState,SubState,Result,MainPID,Type", "--", name)
		all := properties(jobs)
		if len(all) == 0 {
			return link.Outcome{}, refuse(http.StatusBadGateway, "systemd does not answer any more.")
		}
		u := all[0]
		took := time.Since(began).Round(100 * time.Millisecond)
		if job := u["Job"]; job == "" || job == "0" {
			state := u.service().State
			switch {
			case state == "failed":
				return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%s failed (%s): its log says why.", name, u["Result"])
			case action == link.ServiceStop && state == "stopped":
				return link.Outcome{Message: fmt.Sprintf("%s has stopped, after %s.", name, took)}, nil
			case action != link.ServiceStop && state == "running":
				return link.Outcome{Message: fmt.Sprintf("%s runs, after %s.", name, took)}, nil
			case action != link.ServiceStop && state == "stopped":
				return link.Outcome{Message: fmt.Sprintf("%s was started and has ended well already.", name)}, nil
			}
		}
		if time.Since(began) > within {
			return link.Outcome{}, refuse(http.StatusConflict,
				"%s is still %s after %s: systemd goes on with it. Its processes can be ended by force.", name, u.service().State, within)
		}
		select {
		case <-ctx.Done():
			return link.Outcome{}, context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func setStart(ctx context.Context, u unit, mode string) (link.Outcome, error) {
	name := u["Id"]
	var steps [][]string
	if u["UnitFileState"] == "masked" && mode != "disabled" {
		steps = append(steps, []string{"unmask", "--", name})
	}
	switch mode {
	case "automatic":
		steps = append(steps, []string{"enable", "--", name})
	case "manual":
		steps = append(steps, []string{"disable", "--", name})
	case "disabled":
		steps = append(steps, []string{"mask", "--", name})
	default:
		return link.Outcome{}, refuse(http.StatusBadRequest, "A service starts automatic, manual or disabled.")
	}
	for _, args := range steps {
		if _, err := systemctl(ctx, append([]string{"--quiet", "--no-ask-password"}, args...)...); err != nil {
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v.", err)
		}
	}
	return link.Outcome{Message: fmt.Sprintf("%s starts %s from now on.", name,
		map[string]string{"automatic": "by itself", "manual": "when it is asked for", "disabled": "never"}[mode])}, nil
}
