package test

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// A technician asks at a real desktop, is refused, and is allowed; types into a real program and sees
// it in the pixels; copies both ways, and sends a file; and the person ends it.
func TestConsoleScreen(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"xterm", "import"} {
		if _, err := exec.LookPath(name); err != nil {
			t.Skip(name + " is missing")
		}
	}
	display := desktop(t)
	w := begin(t, false)
	d := w.machine(t, "hay-desk-01")
	written := t.TempDir() + "/written"
	program(t, display, "xterm", "-u8", "-T", "notes", "-geometry", "80x20+0+0", "-e", "sh", "-c", "cat > "+written)
	p := w.open(t)
	for _, name := range []string{"clipboard-read", "clipboard-write"} {
		if _, err := chromedp.Call(p.ctx, browser.SetPermission, browser.SetPermissionParams{Permission: &browser.PermissionDescriptor{Name: name}, Setting: "granted"}); err != nil {
			t.Fatal(err)
		}
	}
	p.signIn()
	p.do(chromedp.Navigate(fmt.Sprintf("%s/devices/%s?pane=screen&desktop=%s", p.url, d.id, display)))
	p.sees("[aria-label=Screen]", "Asking whether the screen")
	answer := func(do func(id string) error) {
		t.Helper()
		w.await(t, 10*time.Second, "the question is on the screen", func() bool {
			id := window(display, "May somebody help")
			return id != "" && do(id) == nil
		})
	}
	answer(func(id string) error { // its second button, where xmessage and zenity each draw it
		if _, err := exec.LookPath("zenity"); err == nil {
			return on(display, "xdotool", "windowfocus", id, "key", "Escape")
		}
		return on(display, "sh", "-c", `eval $(xdotool getwindowgeometry --shell "$0"); xdotool mousemove $((X+73)) $((Y+HEIGHT-14)) click 1`, id)
	})
	p.sees("[aria-label=Screen]", "The session may not begin")
	p.accessible("a screen that was refused")
	p.press("[aria-label=Screen]", "Open it again")
	answer(func(id string) error { return on(display, "xdotool", "windowfocus", id, "key", "Return") })
	p.until(`document.querySelector("[role=application] canvas")?.width === 800`, "the desktop")
	w.await(t, 10*time.Second, "the sign is on the screen", func() bool { return window(display, "Somebody helps") != "" })
	p.accessible("a screen")

	if err := on(display, "xdotool", "mousemove", "200", "100"); err != nil {
		t.Fatal(err)
	}
	p.focus("[role=application]")
	p.typed("ls -l & Tea?\r")
	w.await(t, 10*time.Second, "what was typed is written", func() bool {
		b, _ := os.ReadFile(written)
		return string(b) == "ls -l & Tea?\n"
	})
	// Two canvases are compared by a number that each pixel has a part in.
	const sum = `(() => {
		const from = document.querySelector("[role=application] canvas");
		const to = Object.assign(document.createElement("canvas"), { width: from.width, height: from.height }).getContext("2d");
		to.drawImage(from, 0, 0);
		let h = 0;
		for (const v of new Uint32Array(to.getImageData(0, 0, from.width, from.height).data.buffer)) h = (Math.imul(h, 31) + v) | 0;
		return h;
	})()`
	w.await(t, 10*time.Second, "every pixel is as it is there", func() bool {
		m := xPicture(t, display)
		h := int32(0)
		for y := range m.Bounds().Dy() {
			for x := range m.Bounds().Dx() {
				r, g, b, _ := m.At(x, y).RGBA()
				h = h*31 + int32(0xFF000000|b>>8<<16|g>>8<<8|r>>8)
			}
		}
		return ask[float64](p, sum) == float64(h)
	})

	ask[bool](p, `navigator.clipboard.writeText("from here €").then(() => true)`)
	ask[bool](p, `(() => {
		const place = document.querySelector("[role=application]");
		for (const kind of ["keydown", "keyup"]) place.dispatchEvent(new KeyboardEvent(kind, { key: "v", code: "KeyV", ctrlKey: true, bubbles: true }));
		return true;
	})()`)
	w.await(t, 10*time.Second, "it is on the desktop's clipboard", func() bool {
		cmd := exec.Command("xclip", "-selection", "clipboard", "-o")
		cmd.Env = append(os.Environ(), "DISPLAY="+display)
		out, err := cmd.Output()
		return err == nil && string(out) == "from here €"
	})
	cmd := exec.Command("xclip", "-selection", "clipboard", "-i")
	cmd.Env, cmd.Stdin = append(os.Environ(), "DISPLAY="+display), strings.NewReader("from there ü")
	if err := cmd.Run(); err != nil {
		t.Fatal(err)
	}
	p.until(`navigator.clipboard.readText().then(t => t === "from there ü")`, "what was copied there")

	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("moorwatch-test-%d.txt", os.Getpid())
	for _, folder := range []string{me.HomeDir, filepath.Join(me.HomeDir, "Downloads")} {
		defer os.Remove(filepath.Join(folder, name))
	}
	ask[bool](p, fmt.Sprintf(`(() => {
		const what = new DataTransfer();
		what.items.add(new File(["what was sent"], %q));
		document.querySelector("[role=application]").dispatchEvent(new DragEvent("drop", { dataTransfer: what, bubbles: true }));
		return true;
	})()`, name))
	p.sees("[aria-label=Screen]", name+" is in "+me.HomeDir)

	w.await(t, 10*time.Second, "the person ends it", func() bool {
		id := window(display, "Somebody helps")
		return id != "" && on(display, "xdotool", "windowfocus", id, "key", "Return") == nil
	})
	p.sees("[aria-label=Screen]", "ended the session")
	all := must(client.Result(w.owner.ListDeviceSessionsWithResponse(t.Context(), d.id, &api.ListDeviceSessionsParams{})))(t).Items
	if len(all) != 3 || !strings.HasPrefix(all[1].Consent, "given by ") || !strings.HasPrefix(all[2].Consent, "refused by ") {
		t.Errorf("%+v", all)
	}
}
