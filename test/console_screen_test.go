package test

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/test/wait"
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
		if _, err := chromedp.Call(p.ctx, browser.SetPermission,
			browser.SetPermissionParams{Permission: &browser.PermissionDescriptor{Name: name}, Setting: "granted"}); err != nil {
			t.Fatal(err)
		}
	}
	p.signIn()
	p.do(chromedp.Navigate(fmt.Sprintf("%s/devices/%s?pane=screen&desktop=%s", p.url, d.id, display)))
	p.sees("[aria-label=Screen]", "Asking whether the screen")
	answer := func(do func(id string) error) {
		t.Helper()
		var last error
		for began := time.Now(); ; wait.Pause(t, 50*time.Millisecond) {
			if id := window(display, "May somebody help"); id != "" {
				if last = do(id); last == nil {
					return
				}
			}
			if time.Since(began) > soon {
				all, _ := exec.Command("ps", "-eo", "pid,ppid,etime,args").Output()
				there := lines(string(all), "xmessage|moor-agent|Xvfb|DISPLAY="+display)
				p.fail(fmt.Errorf("no question is on %s, or none can be answered (%v); the page shows %.400q; there run\n%s", display, last,
					ask[string](p, "document.body.innerText"), there))
			}
		}
	}
	answer(func(id string) error { // its second button, where xmessage and zenity each draw it
		if _, err := exec.LookPath("zenity"); err == nil {
			return on(display, "xdotool", "windowfocus", id, "key", "Escape")
		}
		return on(display, "sh", "-c",
			`eval $(xdotool getwindowgeometry --shell "$0"); xdotool mousemove $((X+73)) $((Y+HEIGHT-14)) click 1`, id)
	})
	p.sees("[aria-label=Screen]", "The session may not begin")
	p.accessible("a screen that was refused")
	p.press("[aria-label=Screen]", "Open it again")
	answer(func(id string) error { return on(display, "xdotool", "windowfocus", id, "key", "Return") })
	p.until(`document.querySelector("[role=application] canvas")?.width === 800`, "the desktop")
	w.await(t, "the sign is on the screen", func() bool { return window(display, "Moorwatch") != "" })
	p.accessible("a screen")

	if err := on(display, "xdotool", "mousemove", "200", "100"); err != nil {
		t.Fatal(err)
	}
	p.focus("[role=application]")
	p.typed("ls -l & Tea?\r")
	w.await(t, "what was typed is written", func() bool {
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
	w.await(t, "every pixel is as it is there", func() bool {
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
		for (const kind of ["keydown", "keyup"]) place.dispatchEvent(new KeyboardEvent(kind, { key: "v", code: "KeyV", ctrlKey: true,
			bubbles: true }));
		return true;
	})()`)
	w.await(t, "it is on the desktop's clipboard", func() bool {
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

	p.press("[aria-label=Screen]", "Show")
	w.await(t, "what is pointed at is on the person's screen", func() bool {
		// What is pointed at fades soon: it is pointed at before each look.
		ask[bool](p, `(() => {
			const canvas = document.querySelector("[role=application] canvas");
			const r = canvas.getBoundingClientRect();
			const at = (x, y) => ({ clientX: r.left + (x / canvas.width) * r.width, clientY: r.top + (y / canvas.height) * r.height,
				bubbles: true, pointerId: 1 });
			canvas.dispatchEvent(new PointerEvent("pointermove", at(200, 450)));
			return true;
		})()`)
		r, g, b, _ := xPicture(t, display).At(200, 434).RGBA()
		return r>>8 == 0xc2 && g>>8 == 0x33 && b>>8 == 0xa6
	})
	w.await(t, "the person ends it", func() bool {
		id := window(display, "Moorwatch")
		return id != "" &&
			on(display, "sh", "-c",
				`eval $(xdotool getwindowgeometry --shell "$0"); xdotool mousemove $((X+WIDTH-40)) $((Y+HEIGHT-27)) click 1`, id) == nil
	})
	p.sees("[aria-label=Screen]", "ended the session")
	p.sees("[aria-label=Screen]", "What was done?")
	p.fill("What was done?", "Mended the printer.")
	p.press("[aria-label=Screen]", "Keep the note")
	w.await(t, "the note is on record", func() bool {
		all := must(client.Result(w.owner.ListDeviceSessionsWithResponse(t.Context(), d.id, &api.ListDeviceSessionsParams{})))(t).Items
		return slices.ContainsFunc(all, func(s api.ToolSession) bool { return s.Note != nil && *s.Note == "Mended the printer." })
	})
	all := must(client.Result(w.owner.ListDeviceSessionsWithResponse(t.Context(), d.id, &api.ListDeviceSessionsParams{})))(t).Items
	if len(all) != 3 || !strings.HasPrefix(all[1].Consent, "given by ") || !strings.HasPrefix(all[2].Consent, "refused by ") {
		t.Errorf("%+v", all)
	}
}

// Several screens stand side by side, or as tabs, under names of one's own; a colleague is asked to
// one, and it becomes theirs as soon as they are there.
func TestConsoleScreens(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.unasked(t)
	first, second := w.simulated(t, "hay-desk-01"), w.simulated(t, "hay-desk-02")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(fmt.Sprintf("%s/screens?of=%s", p.url, first.id)))
	p.until(`document.querySelectorAll("[role=application] canvas").length === 1 && document.querySelector("[role=application] canvas").width > 300`, "one screen")
	ask[bool](p, fmt.Sprintf(`(() => {
		const list = document.querySelector("[aria-label='Open another screen']");
		list.value = %q;
		return list.dispatchEvent(new Event("change", { bubbles: true }));
	})()`, second.id))
	p.until(`[...document.querySelectorAll("[role=application] canvas")].filter(c => c.width > 300).length === 2`, "two screens")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Rename hay-desk-02']").click()`))
	p.until(`document.activeElement.name === "name"`, "the field of its name")
	p.do(chromedp.Evaluate[chromedp.Void](`document.activeElement.select()`))
	p.typed("The printer's")
	p.press("main", "Name it")
	p.sees("main", "The printer's")
	p.accessible("two screens")
	p.press("[aria-label='Arranged as']", "Tabs")
	p.press("[aria-label=Tabs]", "hay-desk-01")
	p.until(`[...document.querySelectorAll("[role=application]")].filter(c => c.checkVisibility()).length === 1 && location.search.includes("as=tabs")`, "one tab in front")

	w.joins(t, "ines@curlew-sedge.example", wholly(access.Technician))
	theirs := w.open(t)
	theirs.signInAs("ines@curlew-sedge.example")
	p.press("main", "Colleagues")
	p.sees("body", "Ines")
	p.press("body", "Hand over")
	theirs.sees("body", "hands you the screen of hay-desk-01")
	theirs.press("body", "Open it")
	theirs.until(`document.querySelector("[role=application] canvas")?.width > 300`, "the screen that was handed over")
	p.sees("main", "Ines has it now")
	p.until(`document.querySelector("section[aria-label=Screen]:not([hidden]) [aria-label=Part] [aria-pressed=true]")?.textContent === "Look on"`, "it is looked on")
	theirs.sees("[aria-label=Screen]", "with Robin Sedge")
}

// lines are those of a text in which an expression is found.
func lines(text, expression string) string {
	found := regexp.MustCompile(expression)
	return strings.Join(slices.DeleteFunc(strings.Split(text, "\n"), func(line string) bool { return !found.MatchString(line) }), "\n")
}
