//go:build windows

package windows

import (
	"errors"
	"os"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/helper"
	"moorwatch.example/agent/host/windows/desk"
)

// Help serves the desktop of this session to the agent that started this helper, over standard input
// and output, and ends with it. args hold the agent's process number.
func Help(args []string) error {
	if len(args) != 1 {
		return errors.New("a helper is started by its agent")
	}
	pid, err := strconv.ParseUint(args[0], 10, 32)
	if err != nil {
		return err
	}
	agent, err := windows.OpenProcess(windows.SYNCHRONIZE, false, uint32(pid))
	if err != nil {
		return err
	}
	go func() {
		windows.WaitForSingleObject(agent, windows.INFINITE)
		os.Exit(0)
	}()
	return helper.Serve(helper.Pipe{ReadCloser: os.Stdin, Out: os.Stdout}, desk.Desk{})
}

// helpers are the helpers in the sessions of people, by the sessions' numbers.
type helpers = helper.Helpers[uint32]

// startHelper starts the agent's own program in a session, with the agent's rights: those of the system
// are needed for the desktops of log-in and of questions about rights.
func startHelper(session uint32) (*helper.Helper, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	own := ownSession()
	var token windows.Token
	if own != session {
		if token, err = ownToken(session); err != nil {
			return nil, err
		}
		defer token.Close()
	}
	theirIn, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer theirIn.Close()
	out, theirOut, err := os.Pipe()
	if err != nil {
		in.Close()
		return nil, err
	}
	defer theirOut.Close()
	process, err := startBetween(program, token, windows.Handle(theirIn.Fd()), windows.Handle(theirOut.Fd()))
	if err != nil {
		in.Close()
		out.Close()
		return nil, err
	}
	return &helper.Helper{Client: helper.NewClient(helper.Pipe{ReadCloser: out, Out: in}), Ended: func() bool {
		state, _ := windows.WaitForSingleObject(process, 0)
		return state == windows.WAIT_OBJECT_0
	}, Gone: func() { windows.CloseHandle(process) }}, nil
}

// startBetween starts the helper with two handles as its input and output, and no other.
func startBetween(program string, token windows.Token, in, out windows.Handle) (windows.Handle, error) {
	handles := [2]windows.Handle{in, out}
	for _, h := range handles {
		if err := windows.SetHandleInformation(h, windows.HANDLE_FLAG_INHERIT, windows.HANDLE_FLAG_INHERIT); err != nil {
			return 0, err
		}
	}
	attributes, err := windows.NewProcThreadAttributeList(1)
	if err != nil {
		return 0, err
	}
	defer attributes.Delete()
	if err := attributes.Update(windows.PROC_THREAD_ATTRIBUTE_HANDLE_LIST, unsafe.Pointer(&handles[0]),
		unsafe.Sizeof(handles)); err != nil {
		return 0, err
	}
	startup := windows.StartupInfoEx{ProcThreadAttributeList: attributes.List()}
	startup.Cb = uint32(unsafe.Sizeof(startup))
	startup.Flags = windows.STARTF_USESTDHANDLES | windows.STARTF_USESHOWWINDOW
	startup.StdInput, startup.StdOutput = in, out
	startup.Desktop = interactive()
	line, err := windows.UTF16PtrFromString(windows.EscapeArg(program) + " " + helper.Argument + " " + strconv.Itoa(os.Getpid()))
	if err != nil {
		return 0, err
	}
	var info windows.ProcessInformation
	flags := uint32(windows.EXTENDED_STARTUPINFO_PRESENT | windows.CREATE_NO_WINDOW)
	if token == 0 {
		err = windows.CreateProcess(nil, line, nil, nil, true, flags, nil, nil, &startup.StartupInfo, &info)
	} else {
		err = windows.CreateProcessAsUser(token, nil, line, nil, nil, true, flags, nil, nil, &startup.StartupInfo, &info)
	}
	if err != nil {
		return 0, err
	}
	windows.CloseHandle(info.Thread)
	return info.Process, nil
}

// interactive names the desktop of people, for a process of a service; nil for one that is there itself.
func interactive() *uint16 {
	const name = 2 // UOI_NAME
	station, _, _ := getProcessWindowStation.Call()
	text := make([]uint16, 64)
	var n uint32
	getUserObjectInformation.Call(station, name, uintptr(unsafe.Pointer(&text[0])), uintptr(2*len(text)), uintptr(unsafe.Pointer(&n)))
	if strings.EqualFold(windows.UTF16ToString(text), "WinSta0") {
		return nil
	}
	desktop, _ := windows.UTF16PtrFromString(`WinSta0\Default`)
	return desktop
}

var (
	user32                   = windows.NewLazySystemDLL("user32.dll")
	getProcessWindowStation  = user32.NewProc("GetProcessWindowStation")
	getUserObjectInformation = user32.NewProc("GetUserObjectInformationW")
)
