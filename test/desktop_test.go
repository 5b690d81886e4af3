package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
)

// desktop starts an X server without a screen, and a program on it by which the agent finds it.
func desktop(t *testing.T) (display string) {
	t.Helper()
	display, _ = startDesktop(t)
	return display
}

// startDesktop is desktop, with what kills its server.
func startDesktop(t *testing.T) (display string, kill func()) {
	t.Helper()
	for _, program := range []string{"Xvfb", "xmessage", "xdotool", "xclip"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is missing")
		}
	}
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer read.Close()
	// A server that begins anew whenever its last program has left would end those that come just then.
	x := exec.Command("Xvfb", "-displayfd", "3", "-screen", "0", "800x600x24", "-nolisten", "tcp", "-noreset")
	x.ExtraFiles = []*os.File{write}
	err = x.Start()
	write.Close()
	if err != nil {
		t.Fatal(err)
	}
	end := sync.OnceFunc(func() { x.Wait() })
	t.Cleanup(func() { x.Process.Signal(syscall.SIGTERM); end() }) // so that it takes its socket with it
	n := 0
	if _, err := fmt.Fscan(read, &n); err != nil { // it tells its number once it is there
		t.Fatal("Xvfb did not start: ", err)
	}
	display = fmt.Sprintf(":%d", n)
	program(t, display, "sleep", "300")
	return display, func() { x.Process.Kill(); end() }
}

func on(display, program string, args ...string) error {
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "DISPLAY="+display)
	return cmd.Run()
}

// A message appears on the desktop of who is signed in, and their answer comes back; so does a text
// on their clipboard.
func TestMessageOnADesktop(t *testing.T) {
	t.Parallel()
	display := desktop(t)
	w := begin(t, false)
	d := w.machine(t, "hay-desk-01")
	list := must(client.Result(w.owner.ListPresenceWithResponse(t.Context(), d.id)))(t)
	session := ""
	for _, p := range list.Items {
		if p.Where == display && p.Graphic {
			session = p.Session
		}
	}
	if session == "" || list.Means != "dialog" {
		t.Fatalf("%s is not among %+v", display, list)
	}
	answer := make(chan *link.MessageAnswer, 1)
	go func() {
		a, err := client.Result(w.owner.ShowMessageWithResponse(t.Context(), d.id,
			link.Message{Title: "From Robin", Text: "Tea?\n-title x $(id)", Buttons: []string{"Yes", "No"}, Session: session,
				Seconds: 120}))
		if err != nil {
			t.Error(err)
		}
		answer <- a
	}()
	w.await(t, "the message is on the screen", func() bool {
		cmd := exec.Command("xdotool", "search", "--name", "From Robin")
		cmd.Env = append(os.Environ(), "DISPLAY="+display)
		out, err := cmd.Output()
		id := strings.Fields(string(out))
		return err == nil && len(id) > 0 && on(display, "xdotool", "windowfocus", id[0], "key", "Return") == nil
	})
	if a := <-answer; a == nil || a.Answer != "Yes" || !a.Shown {
		t.Errorf("%+v", a)
	}
	must(client.Result(w.owner.SetClipboardWithResponse(t.Context(), d.id, link.Clip{Text: "naïve €", Session: session})))(t)
	// xclip(1) goes into the background before the X server knows that it owns the clipboard
	w.await(t, "the text is on the clipboard", func() bool {
		cmd := exec.Command("xclip", "-selection", "clipboard", "-o")
		cmd.Env = append(os.Environ(), "DISPLAY="+display)
		out, err := cmd.Output()
		return err == nil && string(out) == "naïve €"
	})
	t.Run("sign", func(t *testing.T) { signOnADesktop(t, w, d, display) })
}

// window finds a window that is seen by its title; "" for none.
func window(display, title string) string {
	cmd := exec.Command("xdotool", "search", "--onlyvisible", "--name", title)
	cmd.Env = append(os.Environ(), "DISPLAY="+display)
	out, err := cmd.Output()
	id := strings.Fields(string(out))
	if err != nil || len(id) == 0 {
		return ""
	}
	return id[0]
}

// The person at a desktop is asked, and the question goes when the technician gives up; once they
// allow it they see the sign as long as the session lasts, and end the session by it.
func signOnADesktop(t *testing.T, w *world, d *running, display string) {
	absent := true
	rule := api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("processes"), Mode: "ask", Seconds: new(60),
		Absent: &absent}
	must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(), rule)))(t)
	// Others may have desktops open on this machine: the question must go to this one.
	list := must(client.Result(w.owner.ListPresenceWithResponse(t.Context(), d.id)))(t)
	if n := len(slices.DeleteFunc(list.Items, func(p link.Presence) bool { return !p.Graphic })); n != 1 {
		t.Skipf("%d desktops are open on this machine", n)
	}
	ctx, give := context.WithCancel(t.Context())
	asked := make(chan error, 1)
	go func() {
		_, err := client.Result(w.owner.ListProcessesWithResponse(ctx, d.id))
		asked <- err
	}()
	w.await(t, "the question is on the screen", func() bool { return window(display, "May somebody help") != "" })
	give()
	<-asked
	w.await(t, "the question is gone", func() bool { return window(display, "May somebody help") == "" })

	go func() {
		_, err := client.Result(w.owner.ListProcessesWithResponse(t.Context(), d.id))
		asked <- err
	}()
	press := func(title string) {
		t.Helper()
		w.await(t, title+" is on the screen", func() bool {
			id := window(display, title)
			return id != "" && on(display, "xdotool", "windowfocus", id, "key", "Return") == nil
		})
	}
	press("May somebody help")
	if err := <-asked; err != nil {
		t.Fatal(err)
	}
	press("Somebody helps")
	w.await(t, "the session has ended", func() bool {
		all := must(client.Result(w.owner.ListDeviceSessionsWithResponse(t.Context(), d.id, &api.ListDeviceSessionsParams{})))(t).Items
		return len(all) > 0 && all[0].End != nil && strings.HasPrefix(*all[0].End, "ended by ")
	})
	if window(display, "Somebody helps") != "" {
		t.Error("the sign stays after the session")
	}
}
