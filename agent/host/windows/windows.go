//go:build windows

// Package windows is the host of Windows devices. It offers no shell yet. It compiles, and is not
// yet tested on one.
package windows

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"
	"unsafe"

	pshost "github.com/shirou/gopsutil/v4/host"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// New returns what this computer offers.
func New() host.Host {
	informer := portable.Informer{OS: device.Windows, More: more}
	return host.Host{
		Informer:  informer,
		Processes: (&portable.Processes{}).Keep(),
		Network:   portable.Network{},
		Meter:     &portable.Meter{People: people},
		Lister:    portable.Lister{Informer: informer},
		Prober:    &portable.Prober{},
		Asker:     portable.Asker{},
		Runner:    runner{},
		Software:  software{},
		Updates:   updates{},
	}
}

// more reads what firmware told Windows at its start.
func more(f *device.Facts) {
	k, err := registry.OpenKey(registry.LOCAL_MACHINE, `HARDWARE\DESCRIPTION\System\BIOS`, registry.QUERY_VALUE)
	if err != nil {
		return
	}
	defer k.Close()
	f.Vendor, _, _ = k.GetStringValue("SystemManufacturer")
	f.Model, _, _ = k.GetStringValue("SystemProductName")
}

func people(ctx context.Context) []device.SignedIn {
	list := []device.SignedIn{}
	users, err := pshost.UsersWithContext(ctx)
	if err != nil {
		return list
	}
	for _, u := range users {
		list = append(list, device.SignedIn{Name: u.User, Where: u.Terminal, IdleSeconds: -1})
	}
	return list
}

type runner struct{}

const drain = 2 * time.Second

// Run implements host.Runner. The program is put into a job object, which ends with everything in
// it when its handle is closed.
func (runner) Run(ctx context.Context, c link.Command, stdout, stderr io.Writer) (int, error) {
	argv := c.Argv
	if c.Line {
		argv = []string{"cmd.exe", "/d", "/s", "/c"}
	}
	job, err := endingJob()
	if err != nil {
		return 0, fmt.Errorf("preparing a job object: %w", err)
	}
	defer windows.CloseHandle(job)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{HideWindow: true, CreationFlags: windows.CREATE_NEW_PROCESS_GROUP | windows.CREATE_NO_WINDOW}
	if c.Line { // the interpreter splits its command line by rules of its own
		cmd.SysProcAttr.CmdLine = `cmd.exe /d /s /c "` + strings.Join(c.Argv, " ") + `"`
	}
	cmd.Env = append(os.Environ(), c.Env...)
	cmd.Stdout, cmd.Stderr = portable.Outputs(stdout, stderr, func(w io.Writer) *ending { return &ending{w, cancel} })
	cmd.Cancel = func() error { return windows.TerminateJobObject(job, 1) }
	cmd.WaitDelay = drain
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("it could not be started: %w", err)
	}
	if p, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(cmd.Process.Pid)); err == nil {
		windows.AssignProcessToJobObject(job, p)
		windows.CloseHandle(p)
	}
	err = cmd.Wait()
	if ctx.Err() != nil {
		return 0, context.Cause(ctx)
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return 0, err
	}
	return cmd.ProcessState.ExitCode(), nil
}

func endingJob() (windows.Handle, error) {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return 0, err
	}
	info := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{BasicLimitInformation: windows.JOBOBJECT_BASIC_LIMIT_INFORMATION{
		LimitFlags: windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE}}
	_, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info)))
	if err != nil {
		windows.CloseHandle(job)
	}
	return job, err
}

// ending ends the program when its output is not wanted any more.
type ending struct {
	io.Writer
	cancel context.CancelCauseFunc
}

func (e ending) Write(p []byte) (int, error) {
	n, err := e.Writer.Write(p)
	if err != nil {
		e.cancel(err)
	}
	return n, err
}
