package console

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"runtime/debug"
	"syscall"

	"golang.org/x/sys/unix"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/helper"
	"moorwatch.example/contract/link"
)

// nobody is the account without rights of its own (systemd.io, UIDS-GIDS).
const nobody = 65534

// helperMemory is what a helper uses of memory before it collects garbage again and again.
const helperMemory = 192 << 20

// Apart opens a console in a process of the agent's program that may do nothing but speak with it: what other computers
// send is not parsed by root. An agent that is not root has no more to lose than the helper would, and opens it itself.
func Apart(program string) func(ctx context.Context, o link.ConsoleOrder) (host.Screen, error) {
	return func(ctx context.Context, o link.ConsoleOrder) (host.Screen, error) {
		if os.Geteuid() != 0 {
			return Open(ctx, o)
		}
		order, err := json.Marshal(o)
		if err != nil {
			return nil, err
		}
		cmd := exec.Command(program, Argument)
		cmd.Dir, cmd.Env = "/", []string{"GOTRACEBACK=none"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL,
			Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		in, err := cmd.StdinPipe()
		if err != nil {
			return nil, err
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			return nil, err
		}
		if err := cmd.Start(); errors.Is(err, fs.ErrPermission) {
			return nil, refuse(http.StatusConflict, "The helper for consoles cannot be started: "+program+
				" is in a folder that accounts without rights may not enter. Put the agent elsewhere, as moor-agent install does.")
		} else if err != nil {
			return nil, refuse(http.StatusConflict, "The helper for consoles cannot be started: "+err.Error()+".")
		}
		client := helper.NewClient(helper.Pipe{ReadCloser: out, Out: in})
		end := func() {
			client.Close()
			syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
			go cmd.Process.Wait()
		}
		s, err := client.Open(ctx, string(order)) // which holds a secret: it goes by the pipe, and not as an argument
		if err != nil {
			end()
			return nil, err
		}
		return apart{s, end}, nil
	}
}

// confine takes from the helper what it does not need: new rights by programs, files to write, many descriptors.
func confine() error {
	debug.SetMemoryLimit(helperMemory)
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	var all error
	for which, most := range map[int]uint64{unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0, unix.RLIMIT_NOFILE: 64} {
		all = errors.Join(all, unix.Setrlimit(which, &unix.Rlimit{Cur: most, Max: most}))
	}
	return all
}
