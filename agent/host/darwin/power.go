//go:build unix

package darwin

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	posix "moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
)

// machine implements host.Power by shutdown(8) and launchctl(1).
type machine struct {
	posix.Delayed
	tools  tools
	people persons
}

// Do implements host.Power.
func (m *machine) Do(ctx context.Context, d link.PowerAction) (link.Outcome, error) {
	switch d.Action {
	case link.PowerCancel:
		return m.Cancel()
	case link.PowerLogOff:
		p, err := m.people.whom(ctx, d.Session)
		if err != nil {
			return link.Outcome{}, err
		}
		if _, err := m.tools.ask(ctx, "/bin/launchctl", "bootout", "gui/"+strconv.Itoa(p.uid)); err != nil {
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "%v.", err)
		}
		return link.Outcome{Message: fmt.Sprintf("%s is signed out.", p.name)}, nil
	case link.PowerLock:
		return link.Outcome{}, refuse(http.StatusNotImplemented,
			"macOS gives no program a way to lock a session. Let the displays sleep by the command “pmset displaysleepnow”: the session "+
				"locks where its settings ask for a password after that.")
	case link.PowerFirmware, link.PowerRecovery:
		return link.Outcome{}, refuse(http.StatusNotImplemented,
			"A Mac is started into its recovery by hand alone: by holding its power button, or Command and R, while it starts.")
	}
	arg, ok := map[string]string{link.PowerRestart: "-r", link.PowerOff: "-h"}[d.Action]
	if !ok {
		return link.Outcome{}, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
	}
	if d.Message != "" {
		go m.people.Show(context.WithoutCancel(ctx), link.Message{Title: "Moorwatch", Text: d.Message,
			Seconds: max(int(posix.Delay(d).Seconds()), 5)})
	}
	word := map[string]string{link.PowerRestart: "restarts", link.PowerOff: "shuts down"}[d.Action]
	return m.After(d, word, func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		m.tools.ask(ctx, "/sbin/shutdown", arg, "now")
	}), nil
}
