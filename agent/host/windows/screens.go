//go:build windows

package windows

import (
	"context"
	"net/http"
	"strconv"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/helper"
	"moorwatch.example/contract/link"
)

// screens implements host.Screens by a helper in each session.
type screens struct{ helpers *helpers }

// Desktops implements host.Screens: those of sessions that are shown somewhere, and the log-in screen.
func (screens) Desktops(context.Context) (link.DesktopList, error) {
	out := link.DesktopList{Items: []link.Desktop{}}
	console := windows.WTSGetActiveConsoleSessionId()
	seen := false
	for _, s := range sessions() {
		d := link.Desktop{ID: strconv.Itoa(int(s.id)), Name: s.name, Title: "Desktop of " + s.name, Locked: s.locked, Active: s.active &&
			!s.locked}
		if !s.active {
			d.Missing = s.name + " is signed in, and their desktop is shown nowhere: Windows draws it only once they return."
		}
		seen = seen || s.id == console
		out.Items = append(out.Items, d)
	}
	if !seen && console != noSession {
		out.Items = append(out.Items, link.Desktop{ID: strconv.Itoa(int(console)), Title: "Log-in screen", Active: true})
	}
	return out, nil
}

// LetGo implements host.Screens.
func (s screens) LetGo() {
	for _, one := range sessions() {
		s.helpers.With(one.id, func(d *helper.Client) error {
			d.LetGo()
			return nil
		})
	}
}

// Open implements host.Screens.
func (s screens) Open(ctx context.Context, id string) (host.Screen, error) {
	all, err := s.Desktops(ctx)
	if err != nil {
		return nil, err
	}
	missing := ""
	for _, d := range all.Items {
		switch {
		case id != "" && d.ID != id:
		case d.Missing != "":
			missing = d.Missing
		default:
			session, err := strconv.ParseUint(d.ID, 10, 32)
			if err != nil {
				return nil, err
			}
			return s.open(ctx, uint32(session), d)
		}
	}
	if missing != "" {
		return nil, refuse(http.StatusConflict, "%s", missing)
	}
	return nil, refuse(http.StatusConflict, "This device has no desktop that is open.")
}

func (s screens) open(ctx context.Context, session uint32, d link.Desktop) (host.Screen, error) {
	one, err := s.helpers.Open(ctx, session, d.ID)
	if err != nil {
		return nil, err
	}
	return attending{one, d}, nil
}

// attending is a screen at which the agent's service presses Ctrl+Alt+Del.
type attending struct {
	host.Screen
	desktop link.Desktop
}

// Desktop implements host.Screen.
func (a attending) Desktop() link.Desktop { return a.desktop }

// Attend implements host.Screen. Windows lets a service press the keys where a policy allows it
// (Windows Logon Options, SoftwareSASGeneration 1 or 3).
func (attending) Attend() error {
	allowed := uint64(0)
	if k, err := registry.OpenKey(registry.LOCAL_MACHINE, `SOFTWARE\Microsoft\Windows\CurrentVersion\Policies\System`,
		registry.QUERY_VALUE); err == nil {
		allowed, _, _ = k.GetIntegerValue("SoftwareSASGeneration")
		k.Close()
	}
	press := windows.NewLazySystemDLL("sas.dll").NewProc("SendSAS")
	if allowed&1 == 0 || press.Find() != nil {
		return refuse(http.StatusConflict, "Windows lets no service press Ctrl+Alt+Del here: the policy Disable or enable software "+
			"Secure Attention Sequence must allow services to.")
	}
	press.Call(0)
	return nil
}

// Sign implements host.Signs.
func (s screens) Sign(ctx context.Context, desktop string, acts host.SignActs) (host.Sign, error) {
	session, err := strconv.ParseUint(desktop, 10, 32)
	if err != nil {
		return nil, refuse(http.StatusNotFound, "There is no desktop %q.", desktop)
	}
	return s.helpers.Sign(ctx, uint32(session), desktop, acts)
}

// Marks implements host.Signs.
func (screens) Marks() bool { return true }
