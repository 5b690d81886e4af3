//go:build linux

package wayland

import (
	"context"
	"errors"
	"image"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
	"moorwatch.example/test/sway"
	"moorwatch.example/test/wait"
)

// A real compositor's desktop is seen, changes on it come as they happen, and text of any script is typed into a
// program there, which is pointed at and scrolled.
func TestCompositor(t *testing.T) {
	socket, dir := sway.Start(t, "cat > typed")
	typed := filepath.Join(dir, "typed")
	wait.Until(t, 30*time.Second, "the compositor answers", func() bool { return Offers(socket) })
	s, err := Open(link.Desktop{ID: "wayland-1"}, socket, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	size, monitors := s.Layout()
	if size != image.Pt(640, 480) || len(monitors) != 1 || !monitors[0].Primary {
		t.Fatalf("the desktop is %v, %+v", size, monitors)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c, err := s.Wait(ctx)
	if err != nil || !c.Layout || len(c.Damage) == 0 {
		t.Fatalf("at first: %+v, %v", c, err)
	}
	picture, err := screen.NewPicture(size.X, size.Y)
	if err != nil {
		t.Fatal(err)
	}
	colours := func() int {
		if err := s.Grab(picture, picture.Bounds()); err != nil {
			t.Fatal(err)
		}
		seen := map[uint32]bool{}
		for _, p := range picture.Pix {
			seen[p] = true
		}
		return len(seen)
	}
	for colours() < 2 { // the terminal comes after the background
		if c, err := s.Wait(ctx); err != nil {
			t.Fatalf("%+v, %v", c, err)
		}
	}
	if err := errors.Join(s.Point(image.Pt(300, 200), 1), s.Point(image.Pt(300, 200), 0), s.Turn(0, 1)); err != nil {
		t.Fatal(err)
	}
	const text = "grüß дом 🙂 \"$HOME\" <a>"
	wait.Until(t, 30*time.Second, "the terminal takes what is typed", func() bool { // it has the keyboard once it is shown
		if err := s.Type(ctx, "x\n"); err != nil {
			t.Fatal(err)
		}
		got, _ := os.ReadFile(typed)
		return strings.Contains(string(got), "x\n")
	})
	changes := make(chan error, 1)
	go func() {
		_, err := s.Wait(ctx)
		changes <- err
	}()
	if err := s.Type(ctx, text+"\n"); err != nil {
		t.Fatal(err)
	}
	if err := <-changes; err != nil {
		t.Error(err)
	}
	for _, k := range []link.ScreenKey{{Key: "A", Code: "KeyA", Down: true}, {Key: "A", Code: "KeyA"},
		{Key: "Enter", Code: "Enter", Down: true}, {Key: "Enter", Code: "Enter"},
		// the end of the file
		{Key: "Control", Code: "ControlLeft", Down: true}, {Key: "d", Code: "KeyD", Down: true}, {Key: "d", Code: "KeyD"},
		{Key: "Control", Code: "ControlLeft"}} {
		if err := s.Press(k); err != nil {
			t.Fatal(err)
		}
	}
	wait.Until(t, 30*time.Second, "all of it is in the file", func() bool {
		got, _ := os.ReadFile(typed)
		return strings.Contains(string(got), text+"\nA\n")
	})
	if _, err := s.Wait(ctx); err != nil { // the terminal ended with its program
		t.Error(err)
	}
	if s.Press(link.ScreenKey{Key: "Unheard", Down: true}) == nil || s.Attend() == nil || s.Hold(true, nil) == nil ||
		s.SetClip(link.ScreenClip{Text: "x"}) == nil {
		t.Error("it does what it cannot do")
	}
}

func TestKeymap(t *testing.T) {
	text := keymap([]uint32{0xffe1, 'a', 0x1000416})
	for _, part := range []string{"<K0> = 9;", "key <K2> { type = \"ONE_LEVEL\", [ 0x1000416 ] };"} {
		if !strings.Contains(text, part) {
			t.Errorf("it lacks %s: %s", part, text)
		}
	}
}

func FuzzWords(f *testing.F) {
	f.Add([]byte{5, 0, 0, 0, 'w', 'a', 'y', 'l', 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		w := &words{b}
		w.string()
		w.uint()
		new(output).told(4, w)
		new(output).placed(1, &words{b})
	})
}
