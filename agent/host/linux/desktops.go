//go:build linux

package linux

import (
	"bytes"
	"context"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// desktop is a graphic session that programs can be shown on.
type desktop struct {
	uid     uint32
	name    string
	display string   // or the name of a Wayland socket
	env     []string // what a program needs to find it
}

// desktopVariables lead a program to a desktop.
var desktopVariables = []string{"DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "XDG_RUNTIME_DIR", "DBUS_SESSION_BUS_ADDRESS", "LANG"}

// desktops finds the desktops by the environment of the programs that run on them (proc(5)), each
// once. What a program's environment says is its starter's word, and a program that runs as another may
// have been started by anybody: a desktop is somebody's only where its server is theirs, or logind says
// so, and only programs that are theirs through and through are asked.
func desktops() []desktop {
	var list []desktop
	seen := map[string]bool{}      // by account and place
	users := map[string][]uint32{} // of each place
	tried := map[uint32]int{}
	paths, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range paths {
		uid, ok := accountOf(dir)
		if !ok {
			continue
		}
		b, err := os.ReadFile(filepath.Join(dir, "environ"))
		if err != nil {
			continue
		}
		d := fromEnvironment(uid, b)
		if d.display == "" {
			continue
		}
		key := strconv.Itoa(int(uid)) + " " + d.where()
		if seen[key] {
			continue
		}
		seen[key] = true
		users[d.where()] = append(users[d.where()], uid)
		if tried[uid]++; tried[uid] > mostDesktops || !d.theirs() {
			continue
		}
		d.name = strconv.Itoa(int(d.uid))
		if u, err := user.LookupId(d.name); err == nil {
			d.name = u.Username
		}
		list = append(list, d)
	}
	// Who is let work as root on somebody's desktop leaves root's programs there: it stays theirs.
	return slices.DeleteFunc(list, func(d desktop) bool { return d.uid == 0 && len(users[d.where()]) > 1 })
}

// mostDesktops is how many desktops of one account are looked for: each may keep the agent waiting.
const mostDesktops = 16

// where is the socket on which the desktop's server answers; "" where its name is none.
func (d desktop) where() string {
	if !d.x() {
		return d.socket()
	}
	number, _, _ := strings.Cut(strings.TrimPrefix(d.display, ":"), ".")
	if _, err := strconv.ParseUint(number, 10, 16); err != nil {
		return ""
	}
	return "/tmp/.X11-unix/X" + number
}

// accountOf is the account that a process runs as; false where its real, effective, saved and file system
// ids differ (credentials(7)), as those of a set-user-id program do.
func accountOf(dir string) (uint32, bool) {
	b, err := os.ReadFile(filepath.Join(dir, "status"))
	if err != nil {
		return 0, false
	}
	_, rest, ok := bytes.Cut(b, []byte("\nUid:"))
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	ids := strings.Fields(string(line))
	if !ok || len(ids) != 4 {
		return 0, false
	}
	for _, id := range ids[1:] {
		if id != ids[0] {
			return 0, false
		}
	}
	uid, err := strconv.ParseUint(ids[0], 10, 32)
	return uint32(uid), err == nil
}

var locale = regexp.MustCompile(`^[A-Za-z0-9_.@-]{1,64}$`)

// fromEnvironment reads the desktop that a program's environment names.
func fromEnvironment(uid uint32, environment []byte) desktop {
	d := desktop{uid: uid}
	for _, v := range bytes.Split(environment, []byte{0}) {
		key, value, _ := strings.Cut(string(v), "=")
		if value == "" || !slices.Contains(desktopVariables, key) || !d.fits(key, value) {
			continue
		}
		d.env = append(d.env, string(v))
		if key == "DISPLAY" {
			d.display = value
		}
	}
	// A Wayland session may have an X server for older programs, which shows nothing by itself.
	if v := d.variable("WAYLAND_DISPLAY"); v != "" {
		w := d
		w.display = v
		if _, err := os.Stat(w.socket()); err == nil {
			d = w
		}
	}
	return d
}

// fits tells whether a program of the desktop's account may be given a variable.
func (d desktop) fits(key, value string) bool {
	owner := func(path string) (uint32, os.FileMode, bool) {
		info, err := os.Lstat(path)
		if err != nil {
			return 0, 0, false
		}
		s, ok := info.Sys().(*syscall.Stat_t)
		return s.Uid, info.Mode(), ok
	}
	switch key {
	case "XAUTHORITY":
		uid, mode, ok := owner(value)
		return ok && mode.IsRegular() && (uid == d.uid || uid == 0)
	case "XDG_RUNTIME_DIR":
		uid, mode, ok := owner(value)
		return ok && mode.IsDir() && uid == d.uid
	case "DBUS_SESSION_BUS_ADDRESS":
		path, ok := strings.CutPrefix(value, "unix:path=")
		path, _, _ = strings.Cut(path, ",")
		if !ok {
			return false
		}
		uid, ok := server(path)
		return ok && (uid == d.uid || uid == 0)
	case "LANG":
		return locale.MatchString(value)
	}
	return true
}

// theirs tells whether the server of a desktop answers, and is the account's.
func (d desktop) theirs() bool {
	if !d.x() && strings.Contains(d.display, ":") || d.where() == "" {
		return false // a display of another computer is not this one's person
	}
	uid, ok := server(d.where())
	switch {
	case !ok:
		return false
	case uid == d.uid:
		return true
	case uid != 0:
		return false // somebody else's, who waits for the programs of others
	}
	return ofSession(d.uid, d.display)
}

// server is the account of whoever listens on a socket (SO_PEERCRED, unix(7)); false where nobody answers:
// a server that was killed leaves its socket behind.
func server(path string) (uint32, bool) {
	c, err := net.DialTimeout("unix", path, time.Second)
	if err != nil {
		return 0, false
	}
	defer c.Close()
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return 0, false
	}
	var peer *unix.Ucred
	if raw.Control(func(fd uintptr) { peer, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }) != nil || err != nil {
		return 0, false
	}
	return peer.Uid, true
}

// sessionWithin is how long logind is given to tell of a session.
const sessionWithin = 5 * time.Second

// ofSession tells whether logind knows an account's session on a display whose server runs as root. Where
// there is no logind nobody says otherwise: what is started there is started as the account.
func ofSession(uid uint32, display string) bool {
	if !booted() {
		return true
	}
	ctx, cancel := context.WithTimeout(context.Background(), sessionWithin)
	defer cancel()
	text, err := ask(ctx, "loginctl", "list-sessions", "--no-legend", "--no-pager")
	if err != nil {
		return true
	}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		text, err := ask(ctx, "loginctl", "show-session", "--no-pager", "--property=User,Display,State", "--", f[0])
		if all := properties(text); err == nil && len(all) > 0 && all[0]["User"] == strconv.Itoa(int(uid)) &&
			all[0]["Display"] == display && all[0]["State"] != "closing" {
			return true
		}
	}
	return false
}
