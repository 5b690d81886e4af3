//go:build unix

package darwin

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	posix "moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// persons implements host.People: desktops as the I/O Registry tells of them (ioreg(8)), terminals as
// utmpx does; dialogs by osascript(1).
type persons struct {
	tools     tools
	terminals func(ctx context.Context) []device.SignedIn
}

// person is somebody signed in at a desktop.
type person struct {
	uid     int
	name    string
	session string
	front   bool // theirs is the desktop that is seen
	locked  bool
}

// desktops lists who is signed in at a desktop, the one that is seen first.
func (p persons) desktops(ctx context.Context) ([]person, error) {
	var root struct {
		Users []struct {
			Name    string `plist:"kCGSSessionUserNameKey"`
			ID      int    `plist:"kCGSSessionUserIDKey"`
			Session int    `plist:"kCGSSessionIDKey"`
			Front   bool   `plist:"kCGSSessionOnConsoleKey"`
			Done    bool   `plist:"kCGSessionLoginDoneKey"`
			Locked  bool   `plist:"CGSSessionScreenIsLocked"`
		} `plist:"IOConsoleUsers"`
	}
	if err := p.tools.list(ctx, &root, "/usr/sbin/ioreg", "-a", "-n", "Root", "-d", "1"); err != nil {
		return nil, unanswered("the I/O Registry", err)
	}
	var all []person
	for _, u := range root.Users {
		if u.Name != "" && u.Done {
			all = append(all, person{uid: u.ID, name: u.Name, session: "desktop " + strconv.Itoa(u.Session), front: u.Front,
				locked: u.Locked})
		}
	}
	slices.SortStableFunc(all, func(a, b person) int {
		return cmp.Compare(map[bool]int{true: 0, false: 1}[a.front], map[bool]int{true: 0, false: 1}[b.front])
	})
	return all, nil
}

// idle is since when nothing was typed or pointed at, in seconds; -1 when that is not known.
func (p persons) idle(ctx context.Context) int64 {
	var all []struct {
		Idle uint64 `plist:"HIDIdleTime"` // nanoseconds
	}
	if err := p.tools.list(ctx, &all, "/usr/sbin/ioreg", "-a", "-r", "-c", "IOHIDSystem", "-d", "1"); err != nil || len(all) == 0 {
		return -1
	}
	return int64(all[0].Idle / 1e9)
}

// whom finds the person of a session, or the one whose desktop is seen where none is named.
func (p persons) whom(ctx context.Context, session string) (person, error) {
	all, err := p.desktops(ctx)
	if err != nil {
		return person{}, err
	}
	for _, one := range all {
		if one.session == session || (session == "" && one.front) {
			return one, nil
		}
	}
	if session == "" {
		return person{}, refuse(http.StatusConflict, "Nobody is signed in at a desktop of this device.")
	}
	return person{}, refuse(http.StatusConflict, "Session %s is no desktop, or has ended.", session)
}

// People implements host.People.
func (p persons) People(ctx context.Context) (link.PresenceList, error) {
	out := link.PresenceList{Items: []link.Presence{}}
	all, err := p.desktops(ctx)
	if err != nil {
		return out, err
	}
	for _, one := range all {
		idle, where := int64(-1), "in the background"
		if one.front {
			idle, where = p.idle(ctx), "the screen"
		}
		out.Items = append(out.Items, link.Presence{Session: one.session, Name: one.name, Kind: "console", Where: where, IdleSeconds: idle,
			Locked: one.locked, Graphic: true})
		out.Means = "dialog"
	}
	for _, t := range p.terminals(ctx) {
		if t.Where != "console" {
			out.Items = append(out.Items, link.Presence{Session: t.Where, Name: t.Name, Kind: "terminal", Where: t.Where,
				IdleSeconds: t.IdleSeconds})
		}
	}
	return out, nil
}

// dialog shows a message: its arguments are the title, the text, the seconds to wait, and the buttons. No
// button has the keyboard, so that nobody presses it with an Enter meant for something else.
const dialog = `on run argv
	set all to items 4 thru -1 of argv
	set said to display dialog (item 2 of argv) with title (item 1 of argv) buttons all giving up after ((item 3 of argv) as integer)
	if gave up of said then return "late"
	return "pressed " & button returned of said
end run
`

// Show implements host.People.
func (p persons) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	within, buttons := m.Limits()
	who, err := p.whom(ctx, m.Session)
	if err != nil {
		return link.MessageAnswer{Reason: err.Error()}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, within+5*time.Second)
	defer cancel()
	began := time.Now()
	argv := append(as(who), "/usr/bin/osascript", "-", m.Title, m.Text, strconv.Itoa(int(within.Seconds())))
	out, err := p.tools(ctx, dialog, append(argv, buttons...)...)
	answer := link.MessageAnswer{By: who.name, Shown: true, After: time.Since(began).Seconds()}
	pressed, ok := strings.CutPrefix(strings.TrimSpace(out), "pressed ")
	switch {
	case err == nil && ok && slices.Contains(buttons, pressed):
		answer.Answer = pressed
	case err == nil:
		answer.Reason = fmt.Sprintf("no answer within %s", within)
	case strings.Contains(err.Error(), "(-128)") && slices.Contains(buttons, "Cancel"): // what AppleScript makes of such a button
		answer.Answer = "Cancel"
	case strings.Contains(err.Error(), "(-128)"):
		answer.Reason = "the dialog was closed"
	default:
		answer.Shown, answer.Reason = false, "The dialog could not be shown: "+err.Error()
	}
	return answer, nil
}

// Clip implements host.People.
func (p persons) Clip(ctx context.Context, c link.Clip) (link.Outcome, error) {
	who, err := p.whom(ctx, c.Session)
	if err != nil {
		return link.Outcome{}, err
	}
	argv := append(as(who), "/usr/bin/env", "LC_CTYPE=UTF-8", "/usr/bin/pbcopy")
	if _, err := p.tools(ctx, c.Text, argv...); err != nil {
		return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "The clipboard does not take it: %v.", err)
	}
	return link.Outcome{Message: fmt.Sprintf("%d characters are on the clipboard of %s.", len([]rune(c.Text)), who.name)}, nil
}

// launch starts a program and leaves it running.
func (p persons) launch(ctx context.Context, what link.Program) (int, error) {
	argv := what.Argv
	if what.Visible {
		all, err := p.desktops(ctx)
		if err != nil {
			return 0, err
		}
		i := slices.IndexFunc(all, func(one person) bool { return one.name == what.Person || (what.Person == "" && one.front) })
		if i < 0 {
			return 0, refuse(http.StatusConflict, "%s is not signed in at a desktop of this device.", cmp.Or(what.Person, "Nobody"))
		}
		argv = append(as(all[i]), argv...)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir, cmd.SysProcAttr = what.Folder, &syscall.SysProcAttr{Setsid: true}
	if what.Person != "" && !what.Visible {
		if err := posix.Become(cmd, what.Person); err != nil {
			return 0, err
		}
	}
	if err := cmd.Start(); err != nil {
		return 0, refuse(http.StatusUnprocessableEntity, "It could not be started: %v.", err)
	}
	go cmd.Wait()
	return cmd.Process.Pid, nil
}
