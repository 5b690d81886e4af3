//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
)

type runner struct{}

// drain is how long output is awaited from processes that outlive the one that was started.
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
	cmd.Env = append(portable.Environment(), c.Env...)
	cmd.Stdout, cmd.Stderr = portable.Outputs(stdout, stderr, cancel)
	cmd.Cancel = func() error { return windows.TerminateJobObject(job, 1) }
	cmd.WaitDelay = drain
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("it could not be started: %w", err)
	}
	take(job, cmd.Process.Pid)
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
	_, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)),
		uint32(unsafe.Sizeof(info)))
	if err != nil {
		windows.CloseHandle(job)
	}
	return job, err
}

// take puts a process into a job object.
func take(job windows.Handle, pid int) {
	if p, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(pid)); err == nil {
		windows.AssignProcessToJobObject(job, p)
		windows.CloseHandle(p)
	}
}
