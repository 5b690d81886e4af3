//go:build windows

package windows

import (
	"context"
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"syscall"
	"unsafe"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
)

// classes are the priority classes of each priority.
var classes = map[string]uint32{link.PriorityLow: windows.IDLE_PRIORITY_CLASS, link.PriorityBelow: windows.BELOW_NORMAL_PRIORITY_CLASS,
	link.PriorityNormal: windows.NORMAL_PRIORITY_CLASS, link.PriorityAbove: windows.ABOVE_NORMAL_PRIORITY_CLASS,
	link.PriorityHigh: windows.HIGH_PRIORITY_CLASS}

func priority(_ context.Context, p *process.Process) string {
	h, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(p.Pid))
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(h)
	class, err := windows.GetPriorityClass(h)
	if err != nil {
		return ""
	}
	for name, c := range classes {
		if c == class {
			return name
		}
	}
	return link.PriorityHigh // of real time
}

func setPriority(pid int, name string) error {
	class, ok := classes[name]
	if !ok {
		return fmt.Errorf("there is no priority %q", name)
	}
	h, err := windows.OpenProcess(windows.PROCESS_SET_INFORMATION, false, uint32(pid))
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	return windows.SetPriorityClass(h, class)
}

// launch starts a program and leaves it running: with the agent's rights unseen, or as a person in
// their session.
func launch(_ context.Context, p link.Program) (int, error) {
	if p.Person == "" && !p.Visible {
		cmd := exec.Command(p.Argv[0], p.Argv[1:]...)
		cmd.Dir = p.Folder
		cmd.Env = portable.Environment()
		cmd.SysProcAttr = &syscall.SysProcAttr{HideWindow: true, CreationFlags: windows.CREATE_NEW_PROCESS_GROUP | windows.CREATE_NO_WINDOW}
		if err := cmd.Start(); err != nil {
			return 0, refuse(http.StatusUnprocessableEntity, "It could not be started: %v.", err)
		}
		go cmd.Wait()
		return cmd.Process.Pid, nil
	}
	session, token := activeSession(), windows.Token(0)
	if p.Person != "" {
		var err error
		if token, err = tokenOf(p.Person); err != nil {
			return 0, err
		}
		defer token.Close()
	}
	path, err := exec.LookPath(p.Argv[0])
	if err != nil {
		return 0, refuse(http.StatusUnprocessableEntity, "It could not be started: %v.", err)
	}
	pid, err := startIn(session, token, p.Visible, append([]string{path}, p.Argv[1:]...), p.Folder)
	if err != nil {
		return 0, refuse(http.StatusUnprocessableEntity, "It could not be started: %v.", err)
	}
	return pid, nil
}

// startIn starts a program in a session, as whom the token is of; without one, with the agent's own
// rights.
func startIn(session uint32, token windows.Token, visible bool, argv []string, folder string) (int, error) {
	parts := make([]string, len(argv))
	for i, a := range argv {
		parts[i] = windows.EscapeArg(a)
	}
	line, err := windows.UTF16PtrFromString(strings.Join(parts, " "))
	if err != nil {
		return 0, err
	}
	block, home, err := surroundings(token)
	if err != nil {
		return 0, err
	}
	if folder != "" {
		if home, err = windows.UTF16PtrFromString(folder); err != nil {
			return 0, err
		}
	}
	startup := windows.StartupInfo{Flags: windows.STARTF_USESHOWWINDOW, ShowWindow: windows.SW_HIDE}
	startup.Cb = uint32(unsafe.Sizeof(startup))
	flags := uint32(windows.CREATE_UNICODE_ENVIRONMENT | windows.CREATE_NEW_PROCESS_GROUP | windows.CREATE_NO_WINDOW)
	if visible {
		startup.ShowWindow = windows.SW_SHOWNORMAL
		flags = windows.CREATE_UNICODE_ENVIRONMENT | windows.CREATE_NEW_PROCESS_GROUP | windows.CREATE_NEW_CONSOLE
		startup.Desktop = interactive()
	}
	own := ownSession()
	if token == 0 && own != session {
		if token, err = ownToken(session); err != nil {
			return 0, err
		}
		defer token.Close()
	}
	var info windows.ProcessInformation
	if token == 0 {
		err = windows.CreateProcess(nil, line, nil, nil, false, flags, &block[0], home, &startup, &info)
	} else {
		err = windows.CreateProcessAsUser(token, nil, line, nil, nil, false, flags, &block[0], home, &startup, &info)
	}
	if err != nil {
		return 0, err
	}
	windows.CloseHandle(info.Thread)
	windows.CloseHandle(info.Process)
	return int(info.ProcessId), nil
}

// ownToken is the agent's own token, for another session.
func ownToken(session uint32) (windows.Token, error) {
	defer withPrivileges("SeTcbPrivilege")()
	var own, token windows.Token
	if err := windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_DUPLICATE|windows.TOKEN_QUERY, &own); err != nil {
		return 0, err
	}
	defer own.Close()
	if err := windows.DuplicateTokenEx(own, windows.MAXIMUM_ALLOWED, nil, windows.SecurityImpersonation, windows.TokenPrimary,
		&token); err != nil {
		return 0, err
	}
	if err := windows.SetTokenInformation(token, windows.TokenSessionId, (*byte)(unsafe.Pointer(&session)),
		uint32(unsafe.Sizeof(session))); err != nil {
		token.Close()
		return 0, fmt.Errorf("the agent may not act in the session of somebody else, as it does not run as a service: %w", err)
	}
	return token, nil
}
