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
	out := link.DesktopList{Items: []link.Desktop{}}
	people, err := persons{}.People(ctx)
	if err != nil {
		return out, err
	}
	locked := map[string]bool{}
	for _, p := range people.Items {
		if p.Graphic {
			locked[p.Name] = p.Locked
		}
	}
	for _, d := range desktops() {
		one := link.Desktop{ID: d.display, Name: d.name, Title: "Display " + d.display + " of " + d.name, Locked: locked[d.name]}
		if !d.x() {
			one.Title, one.Missing = "Wayland desktop of "+d.name, waylandMissing
		}
		one.Files = filesOf(d.name)
		one.Active = one.Missing == "" && !one.Locked
		out.Items = append(out.Items, one)
	}
	return out, nil
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

// Open implements host.Screens.
func (s screens) Open(ctx context.Context, id string) (host.Screen, error) {
	list, err := s.Desktops(ctx)
	if err != nil {
		return nil, err
	}
	if len(list.Items) == 0 {
		return nil, refuse(http.StatusConflict, "This device has no desktop that is open: nobody is signed in, and no log-in screen is shown.")
	}
	missing := ""
	all := desktops()
	for _, d := range list.Items {
		if id != "" && d.ID != id {
			continue
		}
		if d.Missing != "" {
			missing = d.Missing
			continue
		}
		for _, own := range all {
			if own.display == d.ID && own.name == d.Name {
				return x11.Open(d, own.display, own.variable("XAUTHORITY"), own.uid)
			}
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
