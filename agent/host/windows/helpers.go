//go:build windows

package windows

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/aside"
	"moorwatch.example/agent/host/windows/desk"
)

// HelperArgument is the command of the agent's program that makes it a helper.
const HelperArgument = "aside"

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
	return aside.Serve(pipe{os.Stdin, os.Stdout}, desk.Desk{})
}

// pipe is both ends of a connection.
type pipe struct {
	io.ReadCloser
	out io.WriteCloser
}

func (p pipe) Write(b []byte) (int, error) { return p.out.Write(b) }
func (p pipe) Close() error                { return errors.Join(p.out.Close(), p.ReadCloser.Close()) }

// helpers are the helpers in the sessions of people, each started when it is needed and ended when it
// was not for a while.
type helpers struct {
	mu   sync.Mutex
	open map[uint32]*helper
}

type helper struct {
	*aside.Client
	process windows.Handle
	uses    int
	idle    *time.Timer
}

// helperIdle is how long a helper stays when nothing is asked of it.
const helperIdle = 30 * time.Second

// in returns the helper of a session. done is called when it is not used any more.
func (h *helpers) in(session uint32) (desk aside.Desk, done func(), err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	one := h.open[session]
	if one != nil {
		if state, _ := windows.WaitForSingleObject(one.process, 0); state == windows.WAIT_OBJECT_0 {
			h.drop(session, one)
			one = nil
		}
	}
	if one == nil {
		if one, err = startHelper(session); err != nil {
			return nil, nil, refuse(http.StatusConflict, "The agent has no helper on that desktop: %v.", err)
		}
		if h.open == nil {
			h.open = map[uint32]*helper{}
		}
		h.open[session] = one
	}
	if one.idle != nil {
		one.idle.Stop()
	}
	one.uses++
	return one, sync.OnceFunc(func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if one.uses--; one.uses == 0 {
			one.idle = time.AfterFunc(helperIdle, func() {
				h.mu.Lock()
				defer h.mu.Unlock()
				if one.uses == 0 {
					h.drop(session, one)
				}
			})
		}
	}), nil
}

func (h *helpers) drop(session uint32, one *helper) {
	if h.open[session] == one {
		delete(h.open, session)
	}
	one.Close()
	windows.CloseHandle(one.process)
	one.process = 0
}

// startHelper starts the agent's own program in a session, with the agent's rights: those of the system
// are needed for the desktops of log-in and of questions about rights.
func startHelper(session uint32) (*helper, error) {
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
	return &helper{Client: aside.NewClient(pipe{out, in}), process: process}, nil
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
	if err := attributes.Update(windows.PROC_THREAD_ATTRIBUTE_HANDLE_LIST, unsafe.Pointer(&handles[0]), unsafe.Sizeof(handles)); err != nil {
		return 0, err
	}
	startup := windows.StartupInfoEx{ProcThreadAttributeList: attributes.List()}
	startup.Cb = uint32(unsafe.Sizeof(startup))
	startup.Flags = windows.STARTF_USESTDHANDLES | windows.STARTF_USESHOWWINDOW
	startup.StdInput, startup.StdOutput = in, out
	startup.Desktop = interactive()
	line, err := windows.UTF16PtrFromString(windows.EscapeArg(program) + " " + HelperArgument + " " + strconv.Itoa(os.Getpid()))
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

// with has a helper do one thing.
func (h *helpers) with(_ context.Context, session uint32, do func(aside.Desk) error) error {
	desk, done, err := h.in(session)
	if err != nil {
		return err
	}
	defer done()
	return do(desk)
}

// helped is a screen that a helper has open, which is let go when it is closed.
type helped struct {
	host.Screen
	done func()
}

func (h helped) Close() error {
	defer h.done()
	return h.Screen.Close()
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
