//go:build linux

package linux

import (
	"bytes"
	"context"
	"errors"
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
)

// persons implements host.People: sessions as logind tells of them (loginctl(1)) or, without it,
// utmp; messages as dialogs on a person's desktop.
type persons struct{}

// People implements host.People.
func (persons) People(ctx context.Context) (link.PresenceList, error) {
	return presences(ctx, desktops()), nil
}

// presences tells who is signed in, at these desktops and elsewhere.
func presences(ctx context.Context, all []desktop) link.PresenceList {
	out := link.PresenceList{Items: []link.Presence{}}
	if text, err := ask(ctx, "loginctl", "list-sessions", "--no-legend", "--no-pager"); err == nil && booted() {
		for line := range strings.Lines(text) {
			f := strings.Fields(line)
			if len(f) == 0 {
				continue
			}
			if p, ok := logind(ctx, f[0]); ok {
				p.Graphic = p.Graphic || slices.ContainsFunc(all, func(d desktop) bool { return d.name == p.Name && p.Kind != "terminal" })
				out.Items = append(out.Items, p)
			}
		}
	} else {
		for _, d := range all {
			out.Items = append(out.Items, link.Presence{Session: d.display, Name: d.name, Kind: "console", Where: d.display,
				IdleSeconds: -1, Graphic: true})
		}
		for _, p := range people(ctx) {
			out.Items = append(out.Items, link.Presence{Session: p.Where, Name: p.Name, Kind: "terminal", Where: p.Where,
				IdleSeconds: p.IdleSeconds})
		}
	}
	if slices.ContainsFunc(out.Items, func(p link.Presence) bool { return p.Graphic }) {
		if _, err := dialogProgram(); err == nil {
			out.Means = "dialog"
		}
	} else if len(out.Items) > 0 {
		out.Means = "terminal"
	}
	return out
}

func logind(ctx context.Context, id string) (link.Presence, bool) {
	text, err := ask(ctx, "loginctl", "show-session", "--no-pager",
		"--property=Id,Name,Class,Type,Remote,RemoteHost,TTY,Display,Timestamp,IdleHint,IdleSinceHint,LockedHint,State", "--", id)
	all := properties(text)
	if err != nil || len(all) == 0 || all[0]["Class"] != "user" || all[0]["State"] == "closing" {
		return link.Presence{}, false
	}
	u := all[0]
	p := link.Presence{Session: u["Id"], Name: u["Name"], Kind: "terminal", Where: u["TTY"], Locked: u["LockedHint"] == "yes"}
	if u["Type"] == "x11" || u["Type"] == "wayland" || u["Type"] == "mir" {
		p.Kind, p.Graphic = "console", true
	}
	if u["Remote"] == "yes" {
		p.Kind, p.Where = "remote", u["RemoteHost"]
	}
	if u["Display"] != "" {
		p.Where = u["Display"]
	}
	if at, err := time.Parse("Mon 2006-01-02 15:04:05 MST", u["Timestamp"]); err == nil {
		p.Since = at
	}
	if micros, err := strconv.ParseInt(u["IdleSinceHint"], 10, 64); err == nil && u["IdleHint"] == "yes" && micros > 0 {
		p.IdleSeconds = max(0, int64(time.Since(time.UnixMicro(micros)).Seconds()))
	}
	return p, true
}

// dialogProgram finds the program that shows dialogs here.
func dialogProgram() (string, error) {
	for _, name := range []string{"zenity", "xmessage"} {
		if _, err := exec.LookPath(name); err == nil {
			return name, nil
		}
	}
	return "", errors.New("this device has no program that shows dialogs: install zenity")
}

// whom finds the desktop of a session, or the first where none is named.
func whom(ctx context.Context, session string) (desktop, error) {
	all := desktops()
	if session == "" {
		if len(all) == 0 {
			return desktop{}, refuse(http.StatusConflict, "Nobody is signed in at a desktop of this device.")
		}
		return all[0], nil
	}
	for _, d := range all {
		if d.display == session {
			return d, nil
		}
	}
	if p, ok := logind(ctx, session); ok {
		for _, d := range all {
			if d.name == p.Name {
				return d, nil
			}
		}
	}
	return desktop{}, refuse(http.StatusConflict, "Session %s is no desktop, or has ended.", session)
}

// as makes a command run as a person on their desktop.
func (d desktop) as(cmd *exec.Cmd) error {
	if err := posix.Become(cmd, d.name); err != nil {
		return err
	}
	cmd.Env = append(cmd.Env, d.env...)
	return nil
}

// Show implements host.People.
func (persons) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	within, buttons := m.Limits()
	d, err := whom(ctx, m.Session)
	if err != nil {
		return link.MessageAnswer{Reason: err.Error()}, nil
	}
	program, err := dialogProgram()
	if err != nil {
		return link.MessageAnswer{By: d.name, Reason: err.Error()}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, within+5*time.Second)
	defer cancel()
	var cmd *exec.Cmd
	if program == "zenity" {
		cmd = exec.CommandContext(ctx, program, zenity(m, buttons, within)...)
	} else {
		list := ""
		for i, b := range buttons {
			list += fmt.Sprintf(",%s:%d", strings.NewReplacer(",", " ", ":", " ").Replace(b), 101+i)
		}
		cmd = exec.CommandContext(ctx, program, "-center", "-timeout", strconv.Itoa(int(within.Seconds())), "-buttons", list[1:],
			"-default", buttons[0], "-title", m.Title, "-file", "-")
		cmd.Stdin = strings.NewReader(m.Text)
	}
	if err := d.as(cmd); err != nil {
		return link.MessageAnswer{By: d.name, Reason: err.Error()}, nil
	}
	var out bytes.Buffer
	cmd.Stdout = &out
	began := time.Now()
	err = cmd.Run()
	answer := link.MessageAnswer{By: d.name, Shown: true, After: time.Since(began).Seconds()}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return link.MessageAnswer{By: d.name, Reason: "The dialog could not be shown: " + err.Error()}, nil
	}
	answer.Answer = pressed(program, cmd.ProcessState.ExitCode(), strings.TrimSpace(out.String()), buttons)
	if answer.Answer == "" {
		answer.Reason = fmt.Sprintf("no answer within %s", within)
		if time.Since(began) < within-time.Second {
			answer.Reason = "the dialog was closed"
			if answer.After < 0.2 {
				answer.Shown, answer.Reason = false, "the dialog could not be shown"
			}
		}
	}
	return answer, nil
}

func zenity(m link.Message, buttons []string, within time.Duration) []string {
	args := []string{"--no-markup", "--width=420", "--title=" + m.Title, "--text=" + m.Text, "--timeout=" +
		strconv.Itoa(int(within.Seconds())), "--ok-label=" + buttons[0]}
	switch len(buttons) {
	case 1:
		return append([]string{"--info"}, args...)
	case 3:
		args = append(args, "--extra-button="+buttons[2])
	}
	return append([]string{"--question", "--cancel-label=" + buttons[1]}, args...)
}

// pressed tells which button ended a dialog program; "" for none.
func pressed(program string, exit int, said string, buttons []string) string {
	switch {
	case program == "xmessage" && exit > 100 && exit-101 < len(buttons):
		return buttons[exit-101]
	case program == "xmessage":
		return ""
	case exit == 0:
		return buttons[0]
	case exit == 1 && len(buttons) == 3 && said == buttons[2]:
		return buttons[2]
	case exit == 1 && len(buttons) > 1:
		return buttons[1]
	}
	return ""
}

// Clip implements host.People.
func (persons) Clip(ctx context.Context, c link.Clip) (link.Outcome, error) {
	d, err := whom(ctx, c.Session)
	if err != nil {
		return link.Outcome{}, err
	}
	for _, argv := range [][]string{{"wl-copy"}, {"xclip", "-selection", "clipboard"}, {"xsel", "--clipboard", "--input"}} {
		if _, err := exec.LookPath(argv[0]); err != nil || (argv[0] == "wl-copy") != strings.HasPrefix(d.display, "wayland") {
			continue
		}
		cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
		if err := d.as(cmd); err != nil {
			return link.Outcome{}, err
		}
		cmd.Stdin = strings.NewReader(c.Text)
		cmd.WaitDelay = time.Second
		if err := cmd.Run(); err != nil && !errors.Is(err, exec.ErrWaitDelay) {
			return link.Outcome{}, refuse(http.StatusUnprocessableEntity, "The clipboard does not take it: %v.", err)
		}
		return link.Outcome{Message: fmt.Sprintf("%d characters are on the clipboard of %s.", len([]rune(c.Text)), d.name)}, nil
	}
	return link.Outcome{}, refuse(http.StatusNotImplemented,
		"This device has no program that reaches the clipboard: install xclip, or wl-clipboard under Wayland.")
}

// launch starts a program and leaves it running.
func launch(_ context.Context, p link.Program) (int, error) {
	cmd := exec.Command(p.Argv[0], p.Argv[1:]...)
	cmd.Dir = p.Folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	switch {
	case p.Person != "":
		if err := posix.Become(cmd, p.Person); err != nil {
			return 0, err
		}
		if p.Visible {
			all := desktops()
			i := slices.IndexFunc(all, func(d desktop) bool { return d.name == p.Person })
			if i < 0 {
				return 0, refuse(http.StatusConflict, "%s is not signed in at a desktop of this device.", p.Person)
			}
			cmd.Env = append(cmd.Env, all[i].env...)
		}
	case p.Visible:
		d, err := whom(context.Background(), "")
		if err == nil {
			err = d.as(cmd) // never as root on somebody's desktop
		}
		if err != nil {
			return 0, err
		}
	}
	if err := cmd.Start(); err != nil {
		return 0, refuse(http.StatusUnprocessableEntity, "It could not be started: %v.", err)
	}
	go cmd.Wait()
	return cmd.Process.Pid, nil
}
