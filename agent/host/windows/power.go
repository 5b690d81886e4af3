//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"moorwatch.example/agent/host/helper"
	"moorwatch.example/contract/link"
)

// power implements host.Power.
type power struct{ helpers *helpers }

// Do implements host.Power.
func (p power) Do(ctx context.Context, d link.PowerAction) (link.Outcome, error) {
	switch d.Action {
	case link.PowerCancel:
		defer withPrivileges("SeShutdownPrivilege")()
		if err := abortShutdown(); err != nil {
			return link.Outcome{}, refuse(http.StatusConflict, "Nothing was to come: %v.", err)
		}
		return link.Outcome{Message: "It goes on running: what was to come was called off."}, nil
	case link.PowerLogOff, link.PowerLock:
		return p.session(ctx, d)
	}
	word, ok := map[string]string{link.PowerRestart: "restarts", link.PowerFirmware: "restarts into its firmware",
		link.PowerRecovery: "restarts into safe mode with a network, and returns from it at the restart after that",
		link.PowerOff:      "shuts down"}[d.Action]
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
	}
	delay := time.Duration(min(max(d.DelaySeconds, 0), 3600)) * time.Second
	switch d.Action {
	case link.PowerFirmware:
		// The firmware is told through a program of the system, which asks for the right variables.
		if out, err := exec.CommandContext(ctx, "shutdown.exe", "/r", "/fw", "/t",
			strconv.Itoa(int(delay.Seconds()))).CombinedOutput(); err != nil {
			return link.Outcome{}, refuse(http.StatusNotImplemented, "This device's firmware cannot be restarted into: %s.",
				strings.TrimRight(strings.TrimSpace(string(out)), "."))
		}
	case link.PowerRecovery:
		if err := toSafeMode(ctx); err != nil {
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "Safe mode cannot be restarted into: %v.", err)
		}
		fallthrough
	default:
		if err := shutDown(d.Message, delay, d.Action != link.PowerOff); err != nil {
			FromSafeMode(ctx)
			return link.Outcome{}, refusal("The device", err)
		}
	}
	if delay > 0 {
		return link.Outcome{Message: fmt.Sprintf("It %s in %s.", word, delay)}, nil
	}
	return link.Outcome{Message: fmt.Sprintf("It %s now.", word)}, nil
}

// leastDelay lets the answer reach the service before the network goes.
const leastDelay = time.Second

// shutDown ends the system or restarts it after a delay, in which people are told.
func shutDown(message string, delay time.Duration, restart bool) error {
	defer withPrivileges("SeShutdownPrivilege")()
	text, err := windows.UTF16PtrFromString(message)
	if err != nil {
		return err
	}
	const planned, other = 0x80000000, 0
	return windows.InitiateSystemShutdownEx(nil, text, uint32(max(delay, leastDelay).Seconds()), true, restart, planned|other)
}

var abortSystemShutdown = windows.NewLazySystemDLL("advapi32.dll").NewProc("AbortSystemShutdownW")

func abortShutdown() error {
	if ok, _, err := abortSystemShutdown.Call(0); ok == 0 {
		return err
	}
	FromSafeMode(context.Background())
	return nil
}

func (p power) session(ctx context.Context, d link.PowerAction) (link.Outcome, error) {
	if d.Session == "" {
		return link.Outcome{}, refuse(http.StatusBadRequest, "Whose session? Name it.")
	}
	s, err := find(d.Session)
	if err != nil {
		return link.Outcome{}, err
	}
	if d.Action == link.PowerLock {
		if err := p.helpers.With(s.id, func(d *helper.Client) error { return d.Lock() }); err != nil {
			return link.Outcome{}, err
		}
		return link.Outcome{Message: "The session of " + s.name + " is locked."}, nil
	}
	if ok, _, err := wtsLogoffSession.Call(0, uintptr(s.id), 0); ok == 0 {
		return link.Outcome{}, refusal("The session of "+s.name, err)
	}
	return link.Outcome{Message: s.name + " is being signed out."}, nil
}

// safeBoot is where services stand that are started in safe mode with a network.
const safeBoot = `SYSTEM\CurrentControlSet\Control\SafeBoot\Network\`

// ServiceName is what the agent's service is called.
const ServiceName = "moor-agent"

// toSafeMode has the next start be in safe mode, with the agent in it.
func toSafeMode(ctx context.Context) error {
	k, _, err := registry.CreateKey(registry.LOCAL_MACHINE, safeBoot+ServiceName, registry.SET_VALUE)
	if err == nil {
		err = k.SetStringValue("", "Service")
		k.Close()
	}
	if err != nil {
		return err
	}
	return bootEntry(ctx, "/set", "{current}", "safeboot", "network")
}

// FromSafeMode has the start after the next be as usual. The agent calls it when it starts in safe
// mode, so that a device never stays there.
func FromSafeMode(ctx context.Context) error {
	return bootEntry(ctx, "/deletevalue", "{current}", "safeboot")
}

// InSafeMode tells whether the system was started in safe mode.
func InSafeMode() bool {
	k, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Control\SafeBoot\Option`, registry.QUERY_VALUE)
	if err != nil {
		return false
	}
	defer k.Close()
	mode, _, err := k.GetIntegerValue("OptionValue")
	return err == nil && mode > 0
}

// bootEntry changes how the system starts. The store is kept by a program of the system.
func bootEntry(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, "bcdedit.exe", args...).CombinedOutput()
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = errors.New(strings.TrimRight(said, "."))
	}
	return err
}
