package setup

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
	"golang.org/x/sys/windows/svc"
	"golang.org/x/sys/windows/svc/mgr"

	"moorwatch.example/agent/host/windows/locks"
)

// Here is where the agent stands on this system.
func Here() Place {
	known := func(id *windows.KNOWNFOLDERID, otherwise string) string {
		if path, err := windows.KnownFolderPath(id, 0); err == nil {
			return path
		}
		return otherwise
	}
	return Place{
		Program: filepath.Join(known(windows.FOLDERID_ProgramFiles, `C:\Program Files`), "Moorwatch Agent", "moor-agent.exe"),
		Dir:     filepath.Join(known(windows.FOLDERID_ProgramData, `C:\ProgramData`), "Moorwatch Agent"),
	}
}

// Secure makes the agent's folder one that the system and administrators alone can read.
func Secure(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return locks.Close(dir)
}

// listed is the agent's entry in the list of programs.
const listed = `SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Moorwatch Agent`

// announce puts the agent into the list of programs.
func announce(p Place, version string) error {
	k, _, err := registry.CreateKey(registry.LOCAL_MACHINE, listed, registry.SET_VALUE|registry.WOW64_64KEY)
	if err != nil {
		return err
	}
	defer k.Close()
	return errors.Join(k.SetStringValue("DisplayName", "Moorwatch Agent"), k.SetStringValue("DisplayVersion", version),
		k.SetStringValue("Publisher", "Moorwatch"),
		k.SetStringValue("InstallLocation", filepath.Dir(p.Program)), k.SetStringValue("UninstallString", `"`+p.Program+`" uninstall`),
		k.SetStringValue("QuietUninstallString", `"`+p.Program+`" uninstall`),
		k.SetDWordValue("NoModify", 1), k.SetDWordValue("NoRepair", 1))
}

func retract(Place) error {
	err := registry.DeleteKey(registry.LOCAL_MACHINE, listed)
	if safe := registry.DeleteKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Control\SafeBoot\Network\`+
		ServiceName); !errors.Is(safe, registry.ErrNotExist) && err == nil {
		err = safe
	}
	if errors.Is(err, registry.ErrNotExist) {
		return nil
	}
	return err
}

// remove removes a file or folder. The program that runs cannot be removed: it is moved out of the way
// and goes at the next start of the system.
func remove(path string) error {
	var err error
	for range goneTries { // what was just ended may hold it for a moment
		if err = removeBelow(path); err == nil {
			return nil
		}
		time.Sleep(goneWait)
	}
	if info, wrong := os.Stat(path); wrong != nil || info.IsDir() {
		return err
	}
	gone := filepath.Join(os.TempDir(), fmt.Sprintf("moor-agent-gone-%d.exe", os.Getpid()))
	if os.Rename(path, gone) != nil {
		return err
	}
	name, err := windows.UTF16PtrFromString(gone)
	if err != nil {
		return err
	}
	return windows.MoveFileEx(name, nil, windows.MOVEFILE_DELAY_UNTIL_REBOOT)
}

// removeBelow removes a file, or a folder with all in it, by plain calls that every version knows.
func removeBelow(path string) error {
	info, err := os.Lstat(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil && info.IsDir() {
		entries, err := os.ReadDir(path)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := removeBelow(filepath.Join(path, e.Name())); err != nil {
				return err
			}
		}
	}
	return os.Remove(path)
}

// How often, and how long apart, it is tried to remove what somebody holds.
const (
	goneTries = 20
	goneWait  = 100 * time.Millisecond
)

func services() (manager, error) { return control{}, nil }

// control implements manager by the service control manager.
type control struct{}

func (control) name() string { return "the service control manager" }

// settleWithin is how long a service has to be there, or gone.
const settleWithin = 90 * time.Second

func (control) add(ctx context.Context, p Place) error {
	m, err := mgr.Connect()
	if err != nil {
		return err
	}
	defer m.Disconnect()
	s, err := m.CreateService(ServiceName, p.Program, mgr.Config{StartType: mgr.StartAutomatic, DisplayName: "Moorwatch Agent",
		Description: "Lets the technicians who look after this computer see how it fares and work on it."}, "service")
	if err != nil {
		return err
	}
	defer s.Close()
	again := []mgr.RecoveryAction{{Type: mgr.ServiceRestart, Delay: time.Second}, {Type: mgr.ServiceRestart, Delay: 5 * time.Second},
		{Type: mgr.ServiceRestart, Delay: 30 * time.Second}}
	if err := s.SetRecoveryActions(again, 3600); err == nil {
		s.SetRecoveryActionsOnNonCrashFailures(true) // it ends with a status to be started anew
	}
	if err := s.Start(); err != nil {
		return err
	}
	return await(ctx, s, svc.Running)
}

func (control) remove(ctx context.Context) error {
	m, err := mgr.Connect()
	if err != nil {
		return err
	}
	defer m.Disconnect()
	s, err := m.OpenService(ServiceName)
	if errors.Is(err, windows.ERROR_SERVICE_DOES_NOT_EXIST) {
		return nil
	}
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Control(svc.Stop); err != nil && !errors.Is(err, windows.ERROR_SERVICE_NOT_ACTIVE) {
		return err
	}
	return errors.Join(await(ctx, s, svc.Stopped), s.Delete())
}

func await(ctx context.Context, s *mgr.Service, want svc.State) error {
	ctx, cancel := context.WithTimeout(ctx, settleWithin)
	defer cancel()
	for {
		status, err := s.Query()
		if err != nil || status.State == want {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the service is not there after %s", settleWithin)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// StartAgain stops the service and starts it.
func StartAgain(ctx context.Context) error {
	m, err := mgr.Connect()
	if err != nil {
		return err
	}
	defer m.Disconnect()
	s, err := m.OpenService(ServiceName)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Control(svc.Stop); err != nil && !errors.Is(err, windows.ERROR_SERVICE_NOT_ACTIVE) &&
		!errors.Is(err, windows.ERROR_SERVICE_CANNOT_ACCEPT_CTRL) {
		return err
	}
	if err := await(ctx, s, svc.Stopped); err != nil {
		return err
	}
	if err := s.Start(); err != nil && !errors.Is(err, windows.ERROR_SERVICE_ALREADY_RUNNING) {
		return err
	}
	return await(ctx, s, svc.Running)
}

func (control) state(context.Context) string {
	m, err := windows.OpenSCManager(nil, nil, windows.SC_MANAGER_CONNECT)
	if err != nil {
		return "not known"
	}
	defer windows.CloseServiceHandle(m)
	name, _ := windows.UTF16PtrFromString(ServiceName)
	h, err := windows.OpenService(m, name, windows.SERVICE_QUERY_STATUS)
	if err != nil {
		return "absent"
	}
	s := &mgr.Service{Name: ServiceName, Handle: h}
	defer s.Close()
	if status, err := s.Query(); err == nil && status.State == svc.Running {
		return "running"
	}
	return "stopped"
}
