//go:build linux

package linux

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"

	"golang.org/x/sys/unix"
	"moorwatch.example/contract/link"
)

// machine implements host.Power through systemd.
type machine struct {
	mu      sync.Mutex
	waiting *time.Timer
	what    string
}

// grace lets the answer reach the service before the network goes.
const grace = time.Second

// Do implements host.Power.
func (p *machine) Do(ctx context.Context, d link.PowerDeed) (link.Outcome, error) {
	switch d.Deed {
	case link.PowerCancel:
		return p.cancel()
	case link.PowerLogOff, link.PowerLock:
		verb, done := "terminate-session", "is signed out"
		if d.Deed == link.PowerLock {
			verb, done = "lock-session", "is locked"
		}
		if d.Session == "" {
			return link.Outcome{}, refuse(http.StatusBadRequest, "Whose session? Name it.")
		}
		if _, err := ask(ctx, "loginctl", verb, "--", d.Session); err != nil {
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v.", err)
		}
		return link.Outcome{Message: fmt.Sprintf("Session %s %s.", d.Session, done)}, nil
	}
	args, ok := map[string][]string{link.PowerRestart: {"reboot"}, link.PowerFirmware: {"reboot", "--firmware-setup"}, link.PowerOff: {"poweroff"}}[d.Deed]
	if d.Deed == link.PowerRecovery {
		return link.Outcome{}, refuse(http.StatusNotImplemented, "This system has no recovery that it could be restarted into by itself.")
	}
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no deed %q.", d.Deed)
	}
	if d.Deed == link.PowerFirmware {
		if can, _ := ask(ctx, "busctl", "call", "org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.login1.Manager", "CanRebootToFirmwareSetup"); can != "s \"yes\"\n" {
			return link.Outcome{}, refuse(http.StatusNotImplemented, "This device's firmware cannot be restarted into.")
		}
	}
	delay := time.Duration(min(max(d.DelaySeconds, 0), 3600)) * time.Second
	if d.Message != "" {
		go persons{}.Show(context.WithoutCancel(ctx), link.Message{Title: "Moorwatch", Text: d.Message, Seconds: max(int(delay.Seconds()), 5)})
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.waiting != nil {
		p.waiting.Stop()
	}
	p.what = d.Deed
	p.waiting = time.AfterFunc(max(delay, grace), func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		systemctl(ctx, append([]string{"--no-ask-password"}, args...)...)
	})
	word := map[string]string{link.PowerRestart: "restarts", link.PowerFirmware: "restarts into its firmware", link.PowerOff: "shuts down"}[d.Deed]
	if delay > 0 {
		return link.Outcome{Message: fmt.Sprintf("It %s in %s.", word, delay)}, nil
	}
	return link.Outcome{Message: fmt.Sprintf("It %s now.", word)}, nil
}

func (p *machine) cancel() (link.Outcome, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.waiting == nil || !p.waiting.Stop() {
		return link.Outcome{}, refuse(http.StatusConflict, "Nothing was to come.")
	}
	p.waiting = nil
	return link.Outcome{Message: "It goes on running: the " + p.what + " was called off."}, nil
}

// nices are the niceness (nice(2)) of each priority.
var nices = map[string]int{link.PriorityLow: 19, link.PriorityBelow: 10, link.PriorityNormal: 0, link.PriorityAbove: -5, link.PriorityHigh: -10}

func priority(ctx context.Context, p *process.Process) string {
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

func setPriority(pid int, name string) error {
	nice, ok := nices[name]
	if !ok {
		return fmt.Errorf("there is no priority %q", name)
	}
	return unix.Setpriority(unix.PRIO_PROCESS, pid, nice)
}
