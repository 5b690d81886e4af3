//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
)

// terminals implements host.Terminals by pseudo consoles (Windows 10 1809 and later), and by plain
// pipes where there are none.
type terminals struct{}

// shells are looked for by these names, in this order.
var shells = []string{"powershell.exe", "pwsh.exe", "cmd.exe"}

// Programs implements host.Terminals.
func (terminals) Programs() []string {
	list := []string{}
	for _, s := range shells {
		if path, err := exec.LookPath(s); err == nil && usable(path) {
			list = append(list, s)
		}
	}
	return list
}

// usable leaves out a placeholder that stands for a program that is not installed.
func usable(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Size() > leastProgram
}

// leastProgram is what a real interpreter is larger than, in bytes.
const leastProgram = 200 << 10

// Open implements host.Terminals.
func (t terminals) Open(ctx context.Context, o link.ShellOrder) (host.Terminal, error) {
	there := t.Programs()
	if len(there) == 0 {
		return nil, errors.New("this device has no shell")
	}
	shell := there[0]
	if o.Program != "" {
		if !slices.Contains(there, o.Program) {
			return nil, refuse(http.StatusBadRequest, "There is no interpreter %q here: there are %s.", o.Program,
				strings.Join(there, ", "))
		}
		shell = o.Program
	}
	path, err := exec.LookPath(shell)
	if err != nil {
		return nil, err
	}
	var token windows.Token
	if o.Person != "" {
		if token, err = tokenOf(o.Person); err != nil {
			return nil, err
		}
		defer token.Close()
	}
	line := windows.EscapeArg(path)
	if !givesHandles() {
		line = `cmd.exe /d /s /c "` + line + ` <con >con 2>con"`
	}
	s, err := openConsole(line, o.Size.Sane(), token)
	if errors.Is(err, errors.ErrUnsupported) {
		s, err = openPipes(windows.EscapeArg(path), token)
	}
	if err != nil {
		return nil, fmt.Errorf("opening a terminal: %w", err)
	}
	context.AfterFunc(ctx, func() { s.Close() })
	return s, nil
}

// givesHandles tells whether a pseudo console gives the program in it its input and output; where it
// does not, the program is started by an interpreter that opens the console for it. It is tried once.
var givesHandles = sync.OnceValue(func() bool {
	const word = "moorland"
	t, err := openConsole("cmd.exe /d /c echo "+word, link.TerminalSize{Columns: 80, Rows: 25}, 0)
	if err != nil {
		return true // and the shell fails for the same reason
	}
	defer time.AfterFunc(tryWithin, func() { t.Close() }).Stop()
	defer t.Close()
	text, _ := io.ReadAll(io.LimitReader(t, 16<<10))
	return strings.Contains(string(text), word)
})

// tryWithin is how long a console is tried.
const tryWithin = 3 * time.Second

// terminal is a shell in a pseudo console or between pipes.
type terminal struct {
	out     *os.File // what it prints
	in      io.WriteCloser
	process windows.Handle
	job     windows.Handle
	ended   chan struct{}
	exit    int
	closing sync.Once

	mu      sync.Mutex
	console windows.Handle // 0 between pipes, and when it is closed
}

// openConsole starts a command line in a pseudo console; errors.ErrUnsupported where the system has none.
func openConsole(line string, size link.TerminalSize, token windows.Token) (*terminal, error) {
	if kernel32.NewProc("CreatePseudoConsole").Find() != nil {
		return nil, errors.ErrUnsupported
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
	t := &terminal{in: in, out: out, ended: make(chan struct{})}
	coord := windows.Coord{X: int16(size.Columns), Y: int16(size.Rows)}
	if err := windows.CreatePseudoConsole(coord, windows.Handle(theirIn.Fd()), windows.Handle(theirOut.Fd()), 0, &t.console); err != nil {
		in.Close()
		out.Close()
		return nil, errors.ErrUnsupported
	}
	attributes, err := windows.NewProcThreadAttributeList(1)
	if err == nil {
		defer attributes.Delete()
		// the handle itself is the value
		err = attributes.Update(windows.PROC_THREAD_ATTRIBUTE_PSEUDOCONSOLE, *(*unsafe.Pointer)(unsafe.Pointer(&t.console)),
			unsafe.Sizeof(t.console))
	}
	if err == nil {
		startup := &windows.StartupInfoEx{ProcThreadAttributeList: attributes.List()}
		startup.Flags = windows.STARTF_USESTDHANDLES // none: otherwise the agent's own would be the shell's
		err = t.start(line, token, startup, false)
	}
	if err != nil {
		windows.ClosePseudoConsole(t.console)
		in.Close()
		out.Close()
		return nil, err
	}
	return t, nil
}

// start starts the shell in the home of whom it runs as, and waits for its end.
func (t *terminal) start(line string, token windows.Token, startup *windows.StartupInfoEx, inherit bool) error {
	startup.Cb = uint32(unsafe.Sizeof(*startup))
	flags := uint32(windows.CREATE_UNICODE_ENVIRONMENT | windows.EXTENDED_STARTUPINFO_PRESENT)
	if startup.ProcThreadAttributeList == nil {
		flags = windows.CREATE_UNICODE_ENVIRONMENT | windows.CREATE_NO_WINDOW
		startup.Cb = uint32(unsafe.Sizeof(startup.StartupInfo))
	}
	command, err := windows.UTF16PtrFromString(line)
	if err != nil {
		return err
	}
	block, home, err := surroundings(token)
	if err != nil {
		return err
	}
	if t.job, err = endingJob(); err != nil {
		return err
	}
	var info windows.ProcessInformation
	if token == 0 {
		err = windows.CreateProcess(nil, command, nil, nil, inherit, flags, &block[0], home, &startup.StartupInfo, &info)
	} else {
		err = windows.CreateProcessAsUser(token, nil, command, nil, nil, inherit, flags, &block[0], home, &startup.StartupInfo, &info)
	}
	if err != nil {
		windows.CloseHandle(t.job)
		return err
	}
	windows.CloseHandle(info.Thread)
	windows.AssignProcessToJobObject(t.job, info.Process)
	t.process = info.Process
	go func() {
		windows.WaitForSingleObject(t.process, windows.INFINITE)
		var exit uint32
		windows.GetExitCodeProcess(t.process, &exit)
		t.exit = int(int32(exit))
		close(t.ended)
		// The console keeps its end of the pipe open, and is closed once what it still had to say is read.
		time.AfterFunc(lastWords, t.hangUp)
	}()
	return nil
}

// lastWords is how long a console has to print what its shell wrote last.
const lastWords = 300 * time.Millisecond

func (t *terminal) hangUp() {
	t.mu.Lock()
	console := t.console
	t.console = 0
	t.mu.Unlock()
	if console != 0 {
		windows.ClosePseudoConsole(console)
	}
}

// surroundings are the environment of whom a token is of, and their home; the agent's own without one.
func surroundings(token windows.Token) (block []uint16, home *uint16, err error) {
	variables := portable.Environment()
	folder, _ := os.UserHomeDir()
	if token != 0 {
		if variables, err = token.Environ(false); err != nil {
			return nil, nil, err
		}
		if folder, err = token.GetUserProfileDirectory(); err != nil {
			return nil, nil, err
		}
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		folder = filepath.VolumeName(os.Getenv("SystemRoot")) + `\`
	}
	for _, v := range append(variables, "TERM=xterm-256color") {
		if strings.ContainsRune(v, 0) {
			continue
		}
		line, err := windows.UTF16FromString(v)
		if err != nil {
			return nil, nil, err
		}
		block = append(block, line...)
	}
	home, err = windows.UTF16PtrFromString(folder)
	return append(block, 0), home, err
}

func (t *terminal) Read(p []byte) (int, error) {
	n, err := t.out.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		select {
		case <-t.ended: // the pipe breaks when its last writer is gone
			err = io.EOF
		default:
		}
	}
	return n, err
}

func (t *terminal) Write(p []byte) (int, error) { return t.in.Write(p) }

func (t *terminal) Resize(size link.TerminalSize) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.console == 0 {
		return nil // pipes have no size
	}
	return windows.ResizePseudoConsole(t.console, windows.Coord{X: int16(size.Columns), Y: int16(size.Rows)})
}

func (t *terminal) Wait() int {
	<-t.ended
	return t.exit
}

// Close ends the shell and what it started.
func (t *terminal) Close() error {
	t.closing.Do(t.close)
	return nil
}

func (t *terminal) close() {
	windows.TerminateJobObject(t.job, 1)
	t.hangUp()
	t.in.Close()
	t.out.Close()
	go func() {
		<-t.ended
		windows.CloseHandle(t.process)
		windows.CloseHandle(t.job)
	}()
}

// openPipes starts a command line between plain pipes. What is typed is shown and edited here, as a
// console would do it.
func openPipes(line string, token windows.Token) (*terminal, error) {
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
	for _, end := range []*os.File{theirIn, theirOut} {
		if err == nil {
			err = windows.SetHandleInformation(windows.Handle(end.Fd()), windows.HANDLE_FLAG_INHERIT, windows.HANDLE_FLAG_INHERIT)
		}
	}
	t := &terminal{out: out, ended: make(chan struct{})}
	t.in = &typed{to: in, echo: theirOut}
	startup := &windows.StartupInfoEx{}
	startup.Flags = windows.STARTF_USESTDHANDLES
	startup.StdInput, startup.StdOutput, startup.StdErr = windows.Handle(theirIn.Fd()), windows.Handle(theirOut.Fd()),
		windows.Handle(theirOut.Fd())
	if err == nil {
		err = t.start(line, token, startup, true)
	}
	if err != nil {
		in.Close()
		out.Close()
		theirOut.Close()
		return nil, err
	}
	go func() {
		<-t.ended
		theirOut.Close()
	}()
	return t, nil
}
