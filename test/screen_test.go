package test

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/recording"
	"moorwatch.example/core/screen"
	"moorwatch.example/test/sway"
)

// program starts a program on a desktop, and ends it with the test.
func program(t *testing.T, display, name string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "DISPLAY="+display, "LC_ALL=C.UTF-8")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	return cmd
}

// unasked lets screens be seen without anybody being asked.
func (w *world) unasked(t *testing.T) {
	t.Helper()
	must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(),
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("screen"), Mode: "silent"})))(t)
}

// viewer is a screen that a test looks at.
type viewer struct {
	*client.Screen
	events []link.ScreenEvent
}

func (w *world) view(t *testing.T, c *client.Client, d *running, o client.ScreenOptions) *viewer {
	t.Helper()
	v := &viewer{Screen: must(c.Screen(t.Context(), d.id, o))(t)}
	t.Cleanup(func() { v.Close() })
	return v
}

// until looks on until something holds.
func (v *viewer) until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), soon)
	defer cancel()
	for !holds() {
		e, err := v.Next(ctx)
		if err != nil {
			t.Fatalf("waiting until %s: %v", what, err)
		}
		if e != nil {
			v.events = append(v.events, *e)
		}
	}
}

func (v *viewer) press(t *testing.T, keys ...string) {
	t.Helper()
	for _, key := range keys {
		for _, down := range []bool{true, false} {
			if err := v.Send(t.Context(), link.ScreenInput{Key: &link.ScreenKey{Key: key, Code: "Test" + key, Down: down}}); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// xPicture is what a desktop really shows, as another program reads it.
func xPicture(t *testing.T, display string) image.Image {
	t.Helper()
	cmd := exec.Command("import", "-window", "root", "png:-")
	cmd.Env = append(os.Environ(), "DISPLAY="+display)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%v: %s", err, err.(*exec.ExitError).Stderr)
	}
	return must(png.Decode(bytes.NewReader(out)))(t)
}

func shows(p *screen.Picture, m image.Image) bool {
	if p == nil || m.Bounds().Dx() != p.W || m.Bounds().Dy() != p.H {
		return false
	}
	for i, v := range p.Pix {
		r, g, b, _ := m.At(m.Bounds().Min.X+i%p.W, m.Bounds().Min.Y+i/p.W).RGBA()
		if v != r>>8<<16|g>>8<<8|b>>8 {
			return false
		}
	}
	return true
}

// A real desktop is seen exactly as it is and typed into; the clipboard goes both ways; a second
// technician joins, and who may only look moves nothing; a change of size is followed.
func TestScreenOfADesktop(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"xterm", "import"} {
		if _, err := exec.LookPath(name); err != nil {
			t.Skip(name + " is missing")
		}
	}
	display := desktop(t)
	w := begin(t, false)
	w.unasked(t)
	d := w.machine(t, "hay-desk-01")
	list := must(client.Result(w.owner.ListDesktopsWithResponse(t.Context(), d.id)))(t)
	if !slices.ContainsFunc(list.Items, func(i link.Desktop) bool { return i.ID == display && i.Missing == "" }) {
		t.Fatalf("%s is not among %+v", display, list.Items)
	}
	written := t.TempDir() + "/written"
	program(t, display, "xterm", "-u8", "-T", "notes", "-geometry", "80x20+0+0", "-e", "sh", "-c", "cat > "+written)
	v := w.view(t, w.owner, d, client.ScreenOptions{Desktop: display})
	v.until(t, "it begins", func() bool {
		return len(v.events) > 0 && v.events[0].Begin != nil && v.events[0].Begin.Control && v.Picture() != nil
	})
	w.await(t, "xterm is there, and what runs in it", func() bool {
		_, err := os.Stat(written)
		return err == nil && window(display, "notes") != ""
	})
	if err := v.Send(t.Context(), link.ScreenInput{Pointer: &link.ScreenPointer{X: 200, Y: 100}}); err != nil {
		t.Fatal(err)
	}
	v.press(t, "T", "e", "a", "?", "é", "€", "ж", "Enter")
	if err := v.Send(t.Context(), link.ScreenInput{Text: "typed: Ünï\n"}); err != nil {
		t.Fatal(err)
	}
	w.await(t, "what was typed is written", func() bool {
		b, _ := os.ReadFile(written)
		return strings.Contains(string(b), "Tea?é€ж\ntyped: Ünï\n")
	})
	v.until(t, "it is shown exactly", func() bool { return shows(v.Picture(), xPicture(t, display)) })

	t.Run("clipboard", func(t *testing.T) {
		if err := v.Send(t.Context(), link.ScreenInput{Clip: &link.ScreenClip{Text: "from here €"}}); err != nil {
			t.Fatal(err)
		}
		w.await(t, "it is on the desktop's clipboard", func() bool {
			cmd := exec.Command("xclip", "-selection", "clipboard", "-o")
			cmd.Env = append(os.Environ(), "DISPLAY="+display)
			out, err := cmd.Output()
			return err == nil && string(out) == "from here €"
		})
		long := strings.Repeat("from there ü ", 60_000) // comes in pieces
		cmd := exec.Command("xclip", "-selection", "clipboard", "-i")
		cmd.Env, cmd.Stdin = append(os.Environ(), "DISPLAY="+display), strings.NewReader(long)
		if err := cmd.Run(); err != nil {
			t.Fatal(err)
		}
		v.until(t, "what was copied there is here", func() bool {
			return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return e.Clip != nil && e.Clip.Text == long })
		})
	})
	t.Run("several", func(t *testing.T) {
		looks := w.client(t, w.personWith(t, api.Grants{{Role: access.Helper, Scope: everywhere}}))
		second := w.view(t, looks, d, client.ScreenOptions{Desktop: display})
		second.until(t, "both see each other", func() bool {
			return slices.ContainsFunc(second.events, func(e link.ScreenEvent) bool { return e.Stage != nil && len(e.Stage.Viewers) == 2 })
		})
		if err := second.Send(t.Context(), link.ScreenInput{Pointer: &link.ScreenPointer{X: 700, Y: 500, Buttons: 1}}); err != nil {
			t.Fatal(err)
		}
		if err := second.Send(t.Context(), link.ScreenInput{Mode: link.ScreenShare}); err != nil {
			t.Fatal(err)
		}
		second.until(t, "it is refused", func() bool {
			return slices.ContainsFunc(second.events, func(e link.ScreenEvent) bool { return strings.Contains(e.Problem, "may look on") })
		})
		if err := second.Send(t.Context(), link.ScreenInput{Note: "Shall I?"}); err != nil {
			t.Fatal(err)
		}
		v.until(t, "what they say is heard", func() bool {
			return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return e.Note != nil && e.Note.Text == "Shall I?" })
		})
		if out, err := exec.Command("sh", "-c", "DISPLAY="+display+" xdotool getmouselocation").Output(); err != nil ||
			!strings.Contains(string(out), "x:200 y:100") {
			t.Errorf("who may only look moved the pointer: %s, %v", out, err)
		}
	})
	// Who leaves, or is cut off, leaves no key behind.
	if err := v.Send(t.Context(), link.ScreenInput{Key: &link.ScreenKey{Key: "Control", Code: "ControlLeft", Down: true}}); err != nil {
		t.Fatal(err)
	}
	v.Close()
	t.Run("recording", func(t *testing.T) { w.screenRecorded(t, v) })
	again := w.view(t, w.owner, d, client.ScreenOptions{Desktop: display})
	w.await(t, "no key is down", func() bool {
		again.press(t, "o", "k", "Enter")
		b, _ := os.ReadFile(written)
		return strings.Contains(string(b), "ok\n")
	})
	gone := w.client(t, w.personWith(t, api.Grants{{Role: access.Viewer, Scope: everywhere}}))
	_, err := gone.Screen(t.Context(), d.id, client.ScreenOptions{Desktop: display})
	if p := (*client.Problem)(nil); !errors.As(err, &p) || p.Status != http.StatusForbidden {
		t.Errorf("who may not look was let: %v", err)
	}
}

// What was shown is recorded, update for update; who played it is on record, and a change of a byte
// shows.
func (w *world) screenRecorded(t *testing.T, v *viewer) {
	var r api.Recording
	w.await(t, "the recording has ended", func() bool {
		all := must(client.Result(w.owner.ListRecordingsWithResponse(t.Context(), &api.ListRecordingsParams{})))(t).Items
		i := slices.IndexFunc(all, func(r api.Recording) bool {
			return r.Kind == "screen" && r.EndedAt != nil && r.Actor == "robin@curlew-sedge.example"
		})
		if i >= 0 {
			r = all[i]
		}
		return i >= 0
	})
	var shown screen.Decoder
	updates, keys := 0, 0
	err := w.owner.Entries(t.Context(), r.ID, func(e recording.Entry) error {
		if strings.Contains(string(e.Data), "Tea") || strings.Contains(string(e.Data), "typed") ||
			strings.Contains(string(e.Data), "from here") {
			t.Errorf("what was typed or copied is recorded: %q", e.Data)
		}
		switch e.Kind {
		case recording.EntryUpdate:
			updates++
			return shown.Update(e.Data)
		case recording.EntryMark:
			if strings.Contains(string(e.Data), `"key"`) {
				keys++
			}
		}
		return nil
	})
	if err != nil || !r.Complete || updates < v.Updates || keys < 10 || !slices.Equal(shown.Shown().Pix, v.Picture().Pix) &&
		updates == v.Updates {
		t.Errorf("%d updates of %d and %d keys are recorded: %v, %+v", updates, v.Updates, keys, err, r)
	}
	verified := must(w.owner.Verify(t.Context(), r.ID, nil))(t)
	if !verified.Ended || verified.Pieces != r.Pieces {
		t.Errorf("%+v", verified)
	}
	audit := must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{})))(t).Items
	if !slices.ContainsFunc(audit, func(e api.AuditEntry) bool { return e.Action == "recording.play" }) {
		t.Error("that it was played is not on record")
	}
	db, err := pgx.Connect(t.Context(), w.config.Owner)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if _, err := db.Exec(t.Context(), "UPDATE recording_pieces SET events = set_byte(events, 40, get_byte(events, 40) # 1) WHERE "+
		"recording_id = $1 AND n = 0", r.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := w.owner.Verify(t.Context(), r.ID, nil); !errors.Is(err, recording.ErrChanged) {
		t.Errorf("a byte was changed, and it does not show: %v", err)
	}
	if _, err := db.Exec(t.Context(), `UPDATE recording_pieces SET events = set_byte(events, 40, get_byte(events, 40) # 1),
		signature = set_byte(signature, 4, get_byte(signature, 4) # 1)
		WHERE recording_id = $1 AND n = 0`, r.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := w.owner.Verify(t.Context(), r.ID, nil); !errors.Is(err, recording.ErrChanged) {
		t.Errorf("a signature was changed, and it does not show: %v", err)
	}
}

// The desktop of a Wayland compositor that allows it is among the device's desktops, seen and typed into.
func TestScreenOfAWaylandDesktop(t *testing.T) {
	t.Parallel()
	_, dir := sway.Start(t, "cat > typed")
	w := begin(t, false)
	w.unasked(t)
	d := w.machine(t, "hay-desk-01")
	id := ""
	w.await(t, "it is among the desktops", func() bool {
		for _, i := range must(client.Result(w.owner.ListDesktopsWithResponse(t.Context(), d.id)))(t).Items {
			if i.Missing == "" && strings.HasPrefix(i.Title, "Wayland desktop of") {
				id = i.ID
			}
		}
		return id != ""
	})
	v := w.view(t, w.owner, d, client.ScreenOptions{Desktop: id})
	v.until(t, "the terminal is on its background", func() bool {
		if v.Picture() == nil {
			return false
		}
		seen := map[uint32]bool{}
		for _, p := range v.Picture().Pix {
			seen[p] = true
		}
		return v.Picture().W == 640 && seen[v.Picture().Pix[0]] && len(seen) > 1
	})
	if b := v.events[0].Begin; b == nil || !b.Control {
		t.Errorf("it begins with %+v", v.events[0])
	}
	w.await(t, "what is typed comes to the terminal", func() bool {
		v.press(t, "ж", "Enter")
		b, _ := os.ReadFile(dir + "/typed")
		return strings.Contains(string(b), "ж\n")
	})
	if err := v.Send(t.Context(), link.ScreenInput{Text: "typed: Ünï\n"}); err != nil {
		t.Fatal(err)
	}
	w.await(t, "a text is typed", func() bool {
		b, _ := os.ReadFile(dir + "/typed")
		return strings.Contains(string(b), "typed: Ünï\n")
	})
}
