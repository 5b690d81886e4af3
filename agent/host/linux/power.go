//go:build linux

package linux

import (
	"context"
	"fmt"
	"net/http"
	"time"

	posix "moorwatch.example/agent/host/unix"

	"moorwatch.example/contract/link"
)

// machine implements host.Power through systemd.
type machine struct{ posix.Delayed }

// Do implements host.Power.
func (p *machine) Do(ctx context.Context, d link.PowerAction) (link.Outcome, error) {
	switch d.Action {
	case link.PowerCancel:
		return p.Cancel()
	case link.PowerLogOff, link.PowerLock:
		verb, done := "terminate-session", "is signed out"
		if d.Action == link.PowerLock {
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
	args, ok := map[string][]string{link.PowerRestart: {"reboot"}, link.PowerFirmware: {"reboot", "--firmware-setup"},
		link.PowerOff: {"poweroff"}}[d.Action]
	if d.Action == link.PowerRecovery {
		return link.Outcome{}, refuse(http.StatusNotImplemented, "This system has no recovery that it could be restarted into by itself.")
	}
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
	}
	if d.Action == link.PowerFirmware {
		if can, _ := ask(ctx, "busctl", "call", "org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.login1.Manager",
			"CanRebootToFirmwareSetup"); can != "s \"yes\"\n" {
			return link.Outcome{}, refuse(http.StatusNotImplemented, "This device's firmware cannot be restarted into.")
		}
	}
	delay := posix.Delay(d)
	if d.Message != "" {
		go persons{}.Show(context.WithoutCancel(ctx),
			link.Message{Title: "Moorwatch", Text: d.Message, Seconds: max(int(delay.Seconds()), 5)})
	}
	word := map[string]string{link.PowerRestart: "restarts", link.PowerFirmware: "restarts into its firmware",
		link.PowerOff: "shuts down"}[d.Action]
	return p.After(d, word, func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		systemctl(ctx, append([]string{"--no-ask-password"}, args...)...)
	}), nil
}
