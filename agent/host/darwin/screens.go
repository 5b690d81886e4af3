//go:build unix

package darwin

import (
	"context"
	"image"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/helper"
	"moorwatch.example/agent/host/sign"
	"moorwatch.example/contract/link"
)

// screens implements host.Screens by a helper in each person's session, which the person must permit to look
// and to type (package quartz).
type screens struct {
	people  persons
	helpers *helper.Helpers[int] // by the person's number
	explain *explainer
}

func newScreens(people persons) screens {
	return screens{people, &helper.Helpers[int]{Start: startHelper}, &explainer{people: people}}
}

// Desktops implements host.Screens.
func (s screens) Desktops(ctx context.Context) (link.DesktopList, error) {
	out := link.DesktopList{Items: []link.Desktop{}}
	all, err := s.people.desktops(ctx)
	if err != nil {
		return out, err
	}
	for _, p := range all {
		d := link.Desktop{ID: p.session, Name: p.name, Title: "Desktop of " + p.name, Locked: p.locked, Active: p.front && !p.locked}
		if !p.front {
			d.Missing = p.name + " is signed in, and another's desktop is seen: macOS draws theirs only once they return."
		}
		out.Items = append(out.Items, d)
	}
	if len(out.Items) == 0 || !all[0].front {
		out.Items = append(out.Items, link.Desktop{ID: "log-in", Title: "Log-in screen", Active: true,
			Missing: "macOS shows its log-in screen to no program that runs as a service: somebody must sign in at the device."})
	}
	return out, nil
}

// LetGo implements host.Screens: macOS lets go of the keys of a helper that has ended.
func (screens) LetGo() {}

// Open implements host.Screens.
func (s screens) Open(ctx context.Context, desktop string) (host.Screen, error) {
	p, err := s.people.whom(ctx, desktop)
	if err != nil {
		return nil, err
	}
	if !p.front {
		return nil, refuse(http.StatusConflict, "Another's desktop is seen at this device: %s must return to theirs.", p.name)
	}
	one, err := s.helpers.Open(ctx, p.uid, "")
	if err != nil {
		if link.StatusOf(err, 0) == http.StatusPreconditionFailed {
			s.explain.once(p, panes["view"])
		}
		return nil, err
	}
	return permitted{one, link.Desktop{ID: p.session, Name: p.name, Title: "Desktop of " + p.name, Active: !p.locked, Locked: p.locked},
		s.explain, p}, nil
}

// permitted is a screen that explains itself to the person where it lacks their permission to type.
type permitted struct {
	host.Screen
	desktop link.Desktop
	explain *explainer
	person  person
}

// Desktop implements host.Screen.
func (s permitted) Desktop() link.Desktop { return s.desktop }

func (s permitted) lacks(err error) error {
	if link.StatusOf(err, 0) == http.StatusPreconditionFailed {
		s.explain.once(s.person, panes["type"])
	}
	return err
}

// Press, and the methods below, implement host.Screen.
func (s permitted) Press(k link.ScreenKey) error { return s.lacks(s.Screen.Press(k)) }
func (s permitted) Point(at image.Point, buttons int) error {
	return s.lacks(s.Screen.Point(at, buttons))
}
func (s permitted) Turn(right, down int) error { return s.lacks(s.Screen.Turn(right, down)) }
func (s permitted) Type(ctx context.Context, text string) error {
	return s.lacks(s.Screen.Type(ctx, text))
}

// pane is a page of the system's settings, and what the person is told about it.
type pane struct{ address, text string }

var panes = map[string]pane{
	"view": {"x-apple.systempreferences:com.apple.preference.security?Privacy_ScreenCapture",
		"Somebody who looks after this computer asks to see its screen. macOS wants you to allow that once: switch “moor-agent” on " +
			"under Privacy & Security, Screen Recording. Until you do, nobody sees anything."},
	"type": {"x-apple.systempreferences:com.apple.preference.security?Privacy_Accessibility",
		"Somebody who looks after this computer, and whom you let see your screen, asks to type and point too. macOS wants you to allow " +
			"that once: switch “moor-agent” on under Privacy & Security, Accessibility. Until you do, they can only look."},
}

// explainer tells people what they are asked to permit, and opens the page where they can.
type explainer struct {
	people persons
	busy   atomic.Bool
}

// The person's answers.
const (
	openSettings = "Open Settings"
	notNow       = "Not Now"
)

// explainWithin is how long a person has to answer.
const explainWithin = 5 * time.Minute

// once explains, unless somebody is being told already. It does not wait for the person.
func (e *explainer) once(p person, about pane) {
	if !e.busy.CompareAndSwap(false, true) {
		return
	}
	go func() {
		defer e.busy.Store(false)
		ctx, cancel := context.WithTimeout(context.Background(), explainWithin)
		defer cancel()
		a, err := e.people.Show(ctx, link.Message{Title: "Moorwatch", Text: about.text, Buttons: []string{notNow, openSettings},
			Session: p.session, Seconds: int(explainWithin.Seconds())})
		if err == nil && a.Answer == openSettings {
			e.people.tools.ask(ctx, append(as(p), "/usr/bin/open", about.address)...)
		}
	}()
}

// startHelper starts the agent's own program in a person's session, and as that person: macOS gives the screen
// to nobody else.
func startHelper(uid int) (*helper.Helper, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	argv := []string{program, helper.Argument, strconv.Itoa(os.Getpid())}
	if os.Getuid() != uid {
		argv = append(as(person{uid: uid}), argv...)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan struct{})
	go func() {
		cmd.Process.Wait() // not cmd.Wait, which would close the pipe that is read
		close(ended)
	}()
	return &helper.Helper{Client: helper.NewClient(helper.Pipe{ReadCloser: out, Out: in}), Ended: func() bool {
		select {
		case <-ended:
			return true
		default:
			return false
		}
	}, Gone: func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }}, nil
}

// Help serves a desktop to the agent that started this helper, over standard input and output, and ends
// with them.
func Help(desk helper.Desk) error {
	return helper.Serve(helper.Pipe{ReadCloser: io.NopCloser(os.Stdin), Out: os.Stdout}, desk)
}

// Sign implements host.Signs: macOS marks a screen that is seen in its menu bar itself, and the agent tells who
// sees it by notices.
func (s screens) Sign(ctx context.Context, desktop string, _ host.SignActs) (host.Sign, error) {
	p, err := s.people.whom(ctx, desktop)
	if err != nil {
		return nil, err
	}
	return &sign.Notices{Tell: func(title, text string) {
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), noticeWithin)
			defer cancel()
			s.people.tools(ctx, notice, append(as(p), "/usr/bin/osascript", "-", title, text)...)
		}()
	}}, nil
}

// Marks implements host.Signs.
func (screens) Marks() bool { return false }

// notice shows its arguments, a title and a text.
const notice = `on run argv
	display notification (item 2 of argv) with title (item 1 of argv)
end run
`

// noticeWithin is how long showing a notice may take.
const noticeWithin = 5 * time.Second
