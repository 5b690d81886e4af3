package test

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
)

// desktop starts an X server without a screen, and a program on it by which the agent finds it.
func desktop(t *testing.T) (display string) {
	t.Helper()
	for _, program := range []string{"Xvfb", "xmessage", "xdotool", "xclip"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is missing")
		}
	}
	for n := 120; n < 160; n++ {
		display = fmt.Sprintf(":%d", n)
		if _, err := os.Stat(fmt.Sprintf("/tmp/.X11-unix/X%d", n)); err == nil {
			continue
		}
		x := exec.Command("Xvfb", display, "-screen", "0", "800x600x24", "-nolisten", "tcp")
		if err := x.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { x.Process.Kill(); x.Wait() })
		for range 100 {
			if exec.Command("xdotool", "--version").Run() == nil && on(display, "xdotool", "getmouselocation") == nil {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		program := exec.Command("sleep", "300")
		program.Env = append(os.Environ(), "DISPLAY="+display)
		if err := program.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { program.Process.Kill(); program.Wait() })
		return display
	}
	t.Fatal("no display is free")
	return ""
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
		a, err := client.Result(w.owner.ShowMessageWithResponse(t.Context(), d.id, link.Message{Title: "From Robin", Text: "Tea?\n-title x $(id)", Buttons: []string{"Yes", "No"}, Session: session, Seconds: 20}))
		if err != nil {
			t.Error(err)
		}
		answer <- a
	}()
	w.await(t, 10*time.Second, "the message is on the screen", func() bool {
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
	cmd := exec.Command("xclip", "-selection", "clipboard", "-o")
	cmd.Env = append(os.Environ(), "DISPLAY="+display)
	if out, err := cmd.Output(); err != nil || string(out) != "naïve €" {
		t.Errorf("the clipboard holds %q, %v", out, err)
	}
}
