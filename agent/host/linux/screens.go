//go:build linux

package linux

import (
	"context"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/linux/x11"
	"moorwatch.example/contract/link"
)

// screens implements host.Screens for X desktops.
type screens struct{}

// waylandMissing says why a Wayland desktop cannot be looked at from outside.
const waylandMissing = "This is a Wayland desktop, whose compositor gives its picture and takes keys only from programs that the person starts and allows. Have them sign in to a session on X11 (a choice on the log-in screen), or work with the quiet tools."

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
		one := link.Desktop{ID: d.display, Name: d.name, Title: "Display " + d.display + " of " + d.name, Locked: locked[d.name], Files: filesOf(d.name)}
		if !d.x() {
			one.Title, one.Missing = "Wayland desktop of "+d.name, waylandMissing
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
		if d.display == desktop && d.x() {
			return x11.OpenSign(d.display, d.variable("XAUTHORITY"), d.uid, acts)
		}
	}
	return nil, refuse(http.StatusNotFound, "The desktop %s has ended.", desktop)
}

// Open implements host.Screens.
func (screens) Open(ctx context.Context, id string) (host.Screen, error) {
	all := desktops()
	if len(all) == 0 {
		return nil, refuse(http.StatusConflict, "This device has no desktop that is open: nobody is signed in, and no log-in screen is shown.")
	}
	missing := ""
	for i, d := range described(ctx, all) {
		switch {
		case id != "" && d.ID != id:
		case d.Missing != "":
			missing = d.Missing
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
