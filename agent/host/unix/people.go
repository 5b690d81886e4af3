//go:build unix

package unix

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"

	"moorwatch.example/contract/link"
)

// Become makes a command run as a person: with their account, their groups and their home.
func Become(cmd *exec.Cmd, name string) error {
	u, err := user.Lookup(name)
	if err != nil {
		if u, err = user.LookupId(name); err != nil {
			return &link.Problem{Status: http.StatusNotFound, Reason: fmt.Sprintf("There is no account %q.", name)}
		}
	}
	cmd.Env = []string{"HOME=" + u.HomeDir, "USER=" + u.Username, "LOGNAME=" + u.Username, "PATH=/usr/local/bin:/usr/bin:/bin",
		"SHELL=/bin/sh"}
	if cmd.Dir == "" {
		cmd.Dir = u.HomeDir
		if _, err := os.Stat(cmd.Dir); err != nil {
			cmd.Dir = "/"
		}
	}
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setsid = true
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil || err2 != nil || int(uid) == os.Getuid() {
		return errors.Join(err, err2)
	}
	if os.Getuid() != 0 {
		return &link.Problem{Status: http.StatusUnprocessableEntity,
			Reason: fmt.Sprintf("The agent does not run as root, and cannot act as %s.", name)}
	}
	groups := []uint32{}
	ids, _ := u.GroupIds()
	for _, id := range ids {
		if n, err := strconv.ParseUint(id, 10, 32); err == nil {
			groups = append(groups, uint32(n))
		}
	}
	cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid), Groups: groups}
	return nil
}

// nices are the niceness (nice(2)) of each priority.
var nices = map[string]int{link.PriorityLow: 19, link.PriorityBelow: 10, link.PriorityNormal: 0, link.PriorityAbove: -5,
	link.PriorityHigh: -10}

// Priority names the priority of a process.
func Priority(ctx context.Context, p *process.Process) string {
	n, err := p.NiceWithContext(ctx)
	if err != nil {
		return ""
	}
	switch {
	case n > 10:
		return link.PriorityLow
	case n > 0:
		return link.PriorityBelow
	case n == 0:
		return link.PriorityNormal
	case n >= -5:
		return link.PriorityAbove
	}
	return link.PriorityHigh
}

// SetPriority gives a process the priority of a name.
func SetPriority(pid int, name string) error {
	nice, ok := nices[name]
	if !ok {
		return fmt.Errorf("there is no priority %q", name)
	}
	return unix.Setpriority(unix.PRIO_PROCESS, pid, nice)
}
