//go:build unix

package darwin

import (
	"context"
	"image"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/helper"
	"moorwatch.example/contract/link"
	"moorwatch.example/test/wait"
)

// guarded is a desk whose person has permitted nothing, or to look alone.
type guarded struct {
	host.Screens
	allowed bool
}

func (g guarded) Open(context.Context, string) (host.Screen, error) {
	if !g.allowed {
		return nil, refuse(http.StatusPreconditionFailed, "Screen Recording is needed.")
	}
	return guardedScreen{}, nil
}

type guardedScreen struct{ host.Screen }

func (guardedScreen) Desktop() link.Desktop { return link.Desktop{} }
func (guardedScreen) Close() error          { return nil }
func (guardedScreen) Point(image.Point, int) error {
	return refuse(http.StatusPreconditionFailed, "Accessibility is needed.")
}

// Whoever lacks a permission is told which, the person why, and the page is opened that gives it.
func TestScreenPermissions(t *testing.T) {
	done := make(chan string, 8)
	m := newMac(t, nil, map[string][]string{ioregUsers: {list(consoleUsers)}})
	system := func(ctx context.Context, input string, argv ...string) (string, error) {
		line := strings.Join(argv, " ")
		switch {
		case strings.Contains(line, "osascript") && input == dialog:
			done <- "told " + line
			return "pressed " + openSettings, nil
		case strings.Contains(line, "osascript"):
			done <- "notice " + argv[len(argv)-1]
			return "", nil
		case strings.Contains(line, "/usr/bin/open "):
			done <- "opened " + argv[len(argv)-1]
			return "", nil
		}
		return m.tools(ctx, input, argv...)
	}
	s := newScreens(persons{tools: system})
	desk := guarded{}
	s.helpers.Start = func(uid int) (*helper.Helper, error) {
		near, far := net.Pipe()
		go helper.Serve(far, desk)
		if uid != 501 {
			t.Errorf("a helper of %d", uid)
		}
		return &helper.Helper{Client: helper.NewClient(near), Ended: func() bool { return desk.allowed }, Gone: func() {}}, nil
	}
	all, err := s.Desktops(t.Context())
	if err != nil || len(all.Items) != 2 || all.Items[0].Name != "anna" || !all.Items[0].Active || all.Items[1].Missing == "" {
		t.Errorf("%+v, %v", all, err)
	}
	expect := func(parts ...string) {
		t.Helper()
		for _, part := range parts {
			select {
			case got := <-done:
				if !strings.Contains(got, part) {
					t.Errorf("%q, not %q", got, part)
				}
			case <-time.After(10 * time.Second):
				t.Fatalf("nobody says %q", part)
			}
		}
	}
	if _, err := s.Open(t.Context(), "desktop 257"); link.StatusOf(err, 0) != http.StatusPreconditionFailed {
		t.Fatalf("it opens without permission: %v", err)
	}
	expect("told "+asAnna, "opened "+panes["view"].address)
	if _, err := s.Open(t.Context(), "desktop 258"); link.StatusOf(err, 0) != http.StatusConflict {
		t.Errorf("a desktop in the background: %v", err)
	}
	desk.allowed = true // the helper is another one then
	wait.Until(t, time.Minute, "the question is over", func() bool { return !s.explain.busy.Load() })
	one, err := s.Open(t.Context(), "")
	if err != nil || one.Desktop().Name != "anna" {
		t.Fatalf("%+v, %v", one, err)
	}
	defer one.Close()
	if err := one.Point(image.Pt(1, 1), 0); link.StatusOf(err, 0) != http.StatusPreconditionFailed {
		t.Errorf("it points without permission: %v", err)
	}
	expect("told", "opened "+panes["type"].address)
	sign, err := s.Sign(t.Context(), "desktop 257", host.SignActs{})
	if err != nil {
		t.Fatal(err)
	}
	sign.Show([]string{"mara sees this screen"}, false)
	expect("notice mara sees this screen")
	sign.Show([]string{"mara sees this screen"}, false) // told once
	sign.Say(link.ScreenNote{Name: "mara", Text: "hello"})
	expect("notice hello")
	sign.Close()
	expect("notice Nobody")
}
