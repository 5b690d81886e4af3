package main

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/svc"

	agent "moorwatch.example/agent/host/windows"
	"moorwatch.example/agent/setup"
)

func privileged() bool { return windows.GetCurrentProcessToken().IsElevated() }

// systemCommands are those of this system alone: what its service manager starts.
func systemCommands() []*cli.Command {
	return []*cli.Command{{
		Name:   "service",
		Usage:  "run as the service that the installation made",
		Hidden: true,
		Action: func(context.Context, *cli.Command) error {
			s := &service{}
			if err := svc.Run(setup.ServiceName, s); err != nil {
				return err
			}
			return s.err
		},
	}, {
		Name:   "again",
		Usage:  "stop the service and start it",
		Hidden: true,
		Action: func(ctx context.Context, _ *cli.Command) error { return setup.StartAgain(ctx) },
	}}
}

// service is the agent under the service control manager.
type service struct{ err error }

// Execute implements svc.Handler.
func (s *service) Execute(_ []string, requests <-chan svc.ChangeRequest, status chan<- svc.Status) (bool, uint32) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if agent.InSafeMode() {
		agent.FromSafeMode(ctx) // the start after this one is as usual
	}
	place := setup.Here()
	log, err := openLog(place.Dir)
	if err != nil {
		s.err = err
		return true, 1
	}
	defer log.Close()
	status <- svc.Status{State: svc.Running, Accepts: svc.AcceptStop | svc.AcceptShutdown}
	ended := make(chan error, 1)
	go func() { ended <- work(ctx, place.Dir, true, slog.New(slog.NewTextHandler(log, nil))) }()
	for {
		select {
		case r := <-requests:
			switch r.Cmd {
			case svc.Interrogate:
				status <- r.CurrentStatus
			case svc.Stop, svc.Shutdown:
				status <- svc.Status{State: svc.StopPending}
				cancel()
			}
		case err := <-ended:
			status <- svc.Status{State: svc.StopPending}
			if errors.Is(err, errAgain) {
				// The manager starts a service again on some failures, and this on every system.
				cmd := exec.Command(place.Program, "again")
				cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.DETACHED_PROCESS | windows.CREATE_BREAKAWAY_FROM_JOB}
				if cmd.Start() != nil {
					cmd = exec.Command(place.Program, "again")
					cmd.Start()
				}
				return false, 0
			}
			if err != nil {
				s.err = err
				return true, 1
			}
			return false, 0
		}
	}
}

// mostLog is how large the agent's log grows before it begins anew; the one before is kept.
const mostLog = 4 << 20

// journal is the agent's log.
type journal struct {
	mu   sync.Mutex
	path string
	file *os.File
	size int64
}

func openLog(dir string) (io.WriteCloser, error) {
	j := &journal{path: filepath.Join(dir, "agent.log")}
	return j, j.open()
}

func (j *journal) open() (err error) {
	if j.file, err = os.OpenFile(j.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
		return err
	}
	info, err := j.file.Stat()
	if err == nil {
		j.size = info.Size()
	}
	return err
}

func (j *journal) Write(p []byte) (int, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.size += int64(len(p)); j.size > mostLog {
		j.file.Close()
		os.Remove(j.path + ".1")
		os.Rename(j.path, j.path+".1")
		if err := j.open(); err != nil {
			return 0, err
		}
	}
	return j.file.Write(p)
}

func (j *journal) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.file.Close()
}
