//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/svc"
	"golang.org/x/sys/windows/svc/mgr"

	"moorwatch.example/contract/link"
)

// services implements host.Services through the service control manager.
type services struct{}

// manager opens the service control manager with no more rights than are needed.
func manager(access uint32) (*mgr.Mgr, error) {
	h, err := windows.OpenSCManager(nil, nil, access)
	if err != nil {
		return nil, refusal("The service control manager", err)
	}
	return &mgr.Mgr{Handle: h}, nil
}

func open(m *mgr.Mgr, name string, access uint32) (*mgr.Service, error) {
	text, err := windows.UTF16PtrFromString(name)
	if err != nil || name == "" || len(name) > 256 {
		return nil, refuse(http.StatusBadRequest, "%q is no name of a service.", name)
	}
	h, err := windows.OpenService(m.Handle, text, access)
	if errors.Is(err, windows.ERROR_SERVICE_DOES_NOT_EXIST) {
		return nil, refuse(http.StatusNotFound, "There is no service %q.", name)
	}
	if err != nil {
		return nil, refusal("Service "+name, err)
	}
	return &mgr.Service{Name: name, Handle: h}, nil
}

var stateWords = map[svc.State]string{svc.Stopped: "stopped", svc.StartPending: "starting", svc.StopPending: "stopping",
	svc.Running:         "running",
	svc.ContinuePending: "starting", svc.PausePending: "stopping", svc.Paused: "stopped"}

var startWords = map[uint32]string{mgr.StartAutomatic: "automatic", mgr.StartManual: "manual", mgr.StartDisabled: "disabled"}

func told(name string, state svc.State, pid, exit uint32) link.Service {
	s := link.Service{Name: name, State: stateWords[state], PID: int(pid), Start: "other"}
	if s.State == "stopped" && exit != 0 && windows.Errno(exit) != windows.ERROR_SERVICE_NEVER_STARTED {
		s.State, s.Detail = "failed", windows.Errno(exit).Error()
	}
	if state == svc.Paused {
		s.Detail = "paused"
	}
	return s
}

// List implements host.Services.
func (services) List(ctx context.Context) (link.Services, error) {
	out := link.Services{Items: []link.Service{}}
	m, err := manager(windows.SC_MANAGER_ENUMERATE_SERVICE)
	if err != nil {
		return out, err
	}
	defer m.Disconnect()
	all, err := enumerate(m)
	if err != nil {
		return out, refusal("The list of services", err)
	}
	for _, one := range all {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		p := one.ServiceStatusProcess
		s := told(windows.UTF16PtrToString(one.ServiceName), svc.State(p.CurrentState), p.ProcessId, p.Win32ExitCode)
		s.Title = windows.UTF16PtrToString(one.DisplayName)
		s.WillNotStop = s.State == "running" && p.ControlsAccepted&windows.SERVICE_ACCEPT_STOP == 0
		if opened, err := open(m, s.Name, windows.SERVICE_QUERY_CONFIG); err == nil {
			if c, err := configOf(opened); err == nil {
				s.Start = startWord(c)
			}
			opened.Close()
		}
		out.Items = append(out.Items, s)
	}
	slices.SortFunc(out.Items, func(a, b link.Service) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// configOf reads how a service is set up.
func configOf(s *mgr.Service) (*windows.QUERY_SERVICE_CONFIG, error) {
	b := make([]byte, 8<<10) // the most that there is
	var needed uint32
	c := (*windows.QUERY_SERVICE_CONFIG)(unsafe.Pointer(&b[0]))
	return c, windows.QueryServiceConfig(s.Handle, c, uint32(len(b)), &needed)
}

func startWord(c *windows.QUERY_SERVICE_CONFIG) string {
	if word := startWords[c.StartType]; word != "" {
		return word
	}
	return "other"
}

// enumerate lists the services that are no drivers.
func enumerate(m *mgr.Mgr) ([]windows.ENUM_SERVICE_STATUS_PROCESS, error) {
	buffer := make([]byte, 256<<10)
	for {
		var needed, count uint32
		err := windows.EnumServicesStatusEx(m.Handle, windows.SC_ENUM_PROCESS_INFO, windows.SERVICE_WIN32, windows.SERVICE_STATE_ALL,
			&buffer[0], uint32(len(buffer)), &needed, &count, nil, nil)
		if errors.Is(err, windows.ERROR_MORE_DATA) && len(buffer) < 16<<20 {
			buffer = make([]byte, len(buffer)+int(needed))
			continue
		}
		if err != nil || count == 0 {
			return nil, err
		}
		return unsafe.Slice((*windows.ENUM_SERVICE_STATUS_PROCESS)(unsafe.Pointer(&buffer[0])), count), nil
	}
}

// Service implements host.Services.
func (services) Service(_ context.Context, in link.Service) (link.Service, error) {
	m, err := manager(windows.SC_MANAGER_CONNECT)
	if err != nil {
		return in, err
	}
	defer m.Disconnect()
	opened, err := open(m, in.Name, windows.SERVICE_QUERY_CONFIG|windows.SERVICE_QUERY_STATUS|windows.SERVICE_ENUMERATE_DEPENDENTS)
	if err != nil {
		return in, err
	}
	defer opened.Close()
	status, err := opened.Query()
	if err != nil {
		return in, refusal("Service "+in.Name, err)
	}
	s := told(in.Name, status.State, status.ProcessId, status.Win32ExitCode)
	s.WillNotStop = s.State == "running" && status.Accepts&svc.AcceptStop == 0
	if c, err := configOf(opened); err == nil {
		s.Title, s.Start = windows.UTF16PtrToString(c.DisplayName), startWord(c)
		for at := c.Dependencies; at != nil && *at != 0; {
			n := windows.UTF16PtrToString(at)
			if !strings.HasPrefix(n, "+") { // a group of services
				s.Needs = append(s.Needs, n)
			}
			at = (*uint16)(unsafe.Add(unsafe.Pointer(at), 2*(len(windows.StringToUTF16(n)))))
		}
	}
	s.NeededBy, _ = opened.ListDependentServices(svc.Active)
	slices.Sort(s.NeededBy)
	return s, nil
}

// serviceWithin is how long a state is waited for when nothing else is said.
const serviceWithin = 60 * time.Second

// Do implements host.Services.
func (services) Do(ctx context.Context, d link.ServiceAction) (link.Outcome, error) {
	access, ok := map[string]uint32{link.ServiceStart: windows.SERVICE_START,
		link.ServiceStop:    windows.SERVICE_STOP | windows.SERVICE_ENUMERATE_DEPENDENTS,
		link.ServiceRestart: windows.SERVICE_START | windows.SERVICE_STOP | windows.SERVICE_ENUMERATE_DEPENDENTS,
		link.ServiceMode:    windows.SERVICE_CHANGE_CONFIG | windows.SERVICE_QUERY_CONFIG}[d.Action]
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
	}
	m, err := manager(windows.SC_MANAGER_CONNECT)
	if err != nil {
		return link.Outcome{}, err
	}
	defer m.Disconnect()
	s, err := open(m, d.Name, access|windows.SERVICE_QUERY_STATUS)
	if err != nil {
		return link.Outcome{}, err
	}
	defer s.Close()
	if d.Action == link.ServiceMode {
		return setStart(s, d.Start)
	}
	within := serviceWithin
	if d.Seconds > 0 {
		within = time.Duration(d.Seconds) * time.Second
	}
	ctx, cancel := context.WithTimeoutCause(ctx, within,
		refuse(http.StatusConflict, "%s is not there after %s: Windows goes on with it. Its process can be ended by force.", d.Name,
			within))
	defer cancel()
	began := time.Now()
	if d.Action == link.ServiceStop || d.Action == link.ServiceRestart {
		others, err := s.ListDependentServices(svc.Active)
		if err != nil {
			return link.Outcome{}, refusal("What depends on "+d.Name, err)
		}
		for _, o := range others {
			if !slices.Contains(d.Stops, o) {
				return link.Outcome{}, refuse(http.StatusConflict, "%s would stop too: look at what depends on %s, and say that it may.", o,
					d.Name)
			}
		}
		for _, o := range append(others, d.Name) { // those that depend on others come first in the list
			if err := stop(ctx, m, o); err != nil {
				return link.Outcome{}, err
			}
		}
		if d.Action == link.ServiceStop {
			return link.Outcome{Message: fmt.Sprintf("%s has stopped, after %s.", d.Name, took(began))}, nil
		}
	}
	if err := s.Start(); err != nil && !errors.Is(err, windows.ERROR_SERVICE_ALREADY_RUNNING) {
		return link.Outcome{}, refusal("Starting "+d.Name, err)
	}
	state, err := settled(ctx, s, svc.Running)
	if err != nil {
		return link.Outcome{}, err
	}
	if state.State != svc.Running {
		if state.Win32ExitCode == 0 {
			return link.Outcome{Message: fmt.Sprintf("%s was started and has ended well already.", d.Name)}, nil
		}
		return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%s failed: %v.", d.Name, windows.Errno(state.Win32ExitCode))
	}
	return link.Outcome{Message: fmt.Sprintf("%s runs, after %s.", d.Name, took(began))}, nil
}

func took(began time.Time) time.Duration { return time.Since(began).Round(100 * time.Millisecond) }

func stop(ctx context.Context, m *mgr.Mgr, name string) error {
	s, err := open(m, name, windows.SERVICE_STOP|windows.SERVICE_QUERY_STATUS)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Control(svc.Stop); err != nil && !errors.Is(err, windows.ERROR_SERVICE_NOT_ACTIVE) {
		return refusal("Stopping "+name, err)
	}
	_, err = settled(ctx, s, svc.Stopped)
	return err
}

// settled waits until a service is in a state, or has stopped.
func settled(ctx context.Context, s *mgr.Service, want svc.State) (svc.Status, error) {
	for {
		status, err := s.Query()
		if err != nil {
			return status, refusal("Service "+s.Name, err)
		}
		if status.State == want || status.State == svc.Stopped {
			return status, nil
		}
		select {
		case <-ctx.Done():
			return status, context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func setStart(s *mgr.Service, mode string) (link.Outcome, error) {
	kind, ok := map[string]uint32{"automatic": mgr.StartAutomatic, "manual": mgr.StartManual, "disabled": mgr.StartDisabled}[mode]
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "A service starts automatic, manual or disabled.")
	}
	const same = windows.SERVICE_NO_CHANGE
	if err := windows.ChangeServiceConfig(s.Handle, same, kind, same, nil, nil, nil, nil, nil, nil, nil); err != nil {
		return link.Outcome{}, refusal("Service "+s.Name, err)
	}
	return link.Outcome{Message: fmt.Sprintf("%s starts %s from now on.", s.Name,
		map[string]string{"automatic": "by itself", "manual": "when it is asked for", "disabled": "never"}[mode])}, nil
}

// service tells whether a service runs, for probes and questions.
func service(ctx context.Context, name string) (bool, string, error) {
	s, err := services{}.Service(ctx, link.Service{Name: name})
	return s.State == "running", s.State, err
}
