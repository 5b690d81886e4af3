//go:build linux

package linux

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/linux/wayland"
	"moorwatch.example/agent/host/linux/x11"
	"moorwatch.example/agent/host/sign"
	"moorwatch.example/contract/link"
)

// screens implements host.Screens for X desktops, and those of Wayland compositors that allow it.
type screens struct{}

// waylandMissing says why a Wayland desktop cannot be looked at from outside.
const waylandMissing = "This is a Wayland desktop, whose compositor gives its picture and takes keys only from programs that the person " +
	"starts and allows. Have them sign in to a session on X11 (a choice on the log-in screen), or work with the quiet tools."

// Desktops implements host.Screens.
func (screens) Desktops(ctx context.Context) (link.DesktopList, error) {
	return link.DesktopList{Items: described(ctx, desktops())}, nil
}

// described tells of desktops, in their order.
func described(ctx context.Context, all []desktop) []link.Desktop {
	locked := map[string]bool{}
	for _, p := range presences(ctx, all).Items {
		if p.Graphic {
			locked[p.Name] = p.Locked
		}
	}
	out := []link.Desktop{}
	for _, d := range all {
		one := link.Desktop{ID: d.display, Name: d.name, Title: "Display " + d.display + " of " + d.name, Locked: locked[d.name],
			Files: filesOf(d.name)}
		if !d.x() {
			one.Title = "Wayland desktop of " + d.name
			if !wayland.Offers(d.socket()) {
				one.Missing = waylandMissing
			}
		}
		one.Active = one.Missing == "" && !one.Locked
		out = append(out, one)
	}
	return out
}

// filesOf is the folder of downloads of a person, or their home.
func filesOf(name string) string {
	u, err := user.Lookup(name)
	if err != nil {
		return ""
	}
	downloads := filepath.Join(u.HomeDir, "Downloads")
	if info, err := os.Stat(downloads); err == nil && info.IsDir() {
		return downloads
	}
	return u.HomeDir
}

// socket is where a Wayland compositor answers.
func (d desktop) socket() string {
	if filepath.IsAbs(d.display) {
		return d.display
	}
	return filepath.Join(d.variable("XDG_RUNTIME_DIR"), d.display)
}

// x tells whether a desktop is an X server's.
func (d desktop) x() bool { return strings.HasPrefix(d.display, ":") }

// LetGo implements host.Screens.
func (screens) LetGo() {
	for _, d := range desktops() {
		if d.x() {
			x11.LetGo(d.display, d.variable("XAUTHORITY"), d.uid)
		}
	}
}

// Sign implements host.Signs.
func (screens) Sign(_ context.Context, desktop string, acts host.SignActs) (host.Sign, error) {
	for _, d := range desktops() {
		switch {
		case d.display != desktop:
		case !d.x():
			return notices(d)
		default:
			return x11.OpenSign(d.display, d.variable("XAUTHORITY"), d.uid, acts)
		}
	}
	return nil, refuse(http.StatusNotFound, "The desktop %s has ended.", desktop)
}

// noticeWithin is how long showing a notice may take.
const noticeWithin = 5 * time.Second

// notices are the sign on a Wayland desktop, over which nobody else paints.
func notices(d desktop) (host.Sign, error) {
	program, err := exec.LookPath("notify-send")
	if err != nil {
		return nil, refuse(http.StatusNotImplemented, "This device has no program that shows a notice: install libnotify-bin.")
	}
	return &sign.Notices{Tell: func(title, text string) {
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), noticeWithin)
			defer cancel()
			cmd := exec.CommandContext(ctx, program, "--app-name=Moorwatch", "--", title, text)
			if d.as(cmd) == nil {
				cmd.Run()
			}
		}()
	}}, nil
}

// Open implements host.Screens.
func (screens) Open(ctx context.Context, id string) (host.Screen, error) {
	all := desktops()
	if len(all) == 0 {
		return nil, refuse(http.StatusConflict, "This device has no desktop that is open: nobody is signed in, and no log-in screen "+
			"is shown.")
	}
	missing := ""
	for i, d := range described(ctx, all) {
		switch {
		case id != "" && d.ID != id:
		case d.Missing != "":
			missing = d.Missing
		case !all[i].x():
			return wayland.Open(d, all[i].socket(), func(ctx context.Context, text string) error {
				_, err := persons{}.Clip(ctx, link.Clip{Text: text, Session: d.ID})
				return err
			})
		default:
			return x11.Open(d, all[i].display, all[i].variable("XAUTHORITY"), all[i].uid)
		}
	}
	if missing != "" {
		return nil, refuse(http.StatusNotImplemented, "%s", missing)
	}
	return nil, refuse(http.StatusNotFound, "The desktop %s has ended.", id)
}

// variable is one of those that lead a program to the desktop.
func (d desktop) variable(name string) string {
	for _, v := range d.env {
		if value, ok := strings.CutPrefix(v, name+"="); ok {
			return value
		}
	}
	return ""
}

// Marks implements host.Signs.
func (screens) Marks() bool { return true }
