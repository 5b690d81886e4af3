package test

import (
	"context"
	"fmt"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/test/wait"
)

// page drives the console as a person does, in headless Chromium.
type page struct {
	t   *testing.T
	ctx context.Context
	url string
}

func (w *world) open(t *testing.T) *page {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.IgnoreCertErrors)
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	p := &page{t, ctx, w.Service.URL}
	if err := chromedp.Do(ctx); err != nil { // the browser begins, and lives as long as the test
		t.Fatal(err)
	}
	p.do(chromedp.EmulateViewport(1280, 800))
	return p
}

// step bounds one step of a test at the page: how many there are is no matter of time.
func (p *page) step() (context.Context, context.CancelFunc) {
	return context.WithTimeout(p.ctx, seenWithin)
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := p.step()
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		p.fail(err)
	}
}

// fail keeps a picture of what a person would have seen.
func (p *page) fail(err error) {
	p.t.Helper()
	ctx, cancel := p.step()
	defer cancel()
	if png, shot := chromedp.Run(ctx, chromedp.CaptureScreenshot()); shot == nil {
		name := fmt.Sprintf("%s/moorwatch-%s.png", os.TempDir(), strings.ReplaceAll(p.t.Name(), "/", "-"))
		os.WriteFile(name, png, 0o600)
		p.t.Logf("what was seen is in %s", name)
	}
	p.t.Fatal(err)
}

// ask evaluates JavaScript.
func ask[T any](p *page, script string) T {
	p.t.Helper()
	ctx, cancel := p.step()
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	if err != nil {
		p.fail(fmt.Errorf("%s: %w", script, err))
	}
	return v
}

// sees waits until the page, or the part of it that a selector names, shows a text.
func (p *page) sees(selector, text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("[...document.querySelectorAll(%q)].some(e => e.innerText.includes(%q))", selector, text),
		fmt.Sprintf("%q in %s", text, selector))
}

// seenWithin is how long a page has to show something: on a host that is busy elsewhere, that is not little.
const seenWithin = time.Minute

func (p *page) until(script, what string) {
	p.t.Helper()
	for began := time.Now(); ; wait.Pause(p.t, 50*time.Millisecond) {
		ctx, cancel := p.step()
		there, err := chromedp.Run(ctx, chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise))
		cancel()
		if err != nil && !strings.Contains(err.Error(), "navigated or closed") { // a page that goes is looked at again
			p.fail(fmt.Errorf("%s: %w", script, err))
		}
		if there {
			return
		}
		if time.Since(began) > seenWithin {
			p.fail(fmt.Errorf("not seen within %s: %s; the page shows %.800q", seenWithin, what, ask[string](p, "document.body.innerText")))
		}
	}
}

func (p *page) focus(selector string) {
	p.t.Helper()
	p.until(fmt.Sprintf("document.querySelector(%q) !== null", selector), selector)
	p.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).focus()", selector)))
}

// typed types as a keyboard does: a key goes down, gives a character, and comes up.
func (p *page) typed(text string) {
	p.t.Helper()
	for _, r := range text {
		key := input.DispatchKeyEventParams{Key: string(r)}
		if r == '\r' {
			key.Key, key.WindowsVirtualKeyCode = "Enter", 13
		}
		for _, kind := range []input.DispatchKeyEventType{"rawKeyDown", "char", "keyUp"} {
			key.Type, key.Text = kind, ""
			if kind == "char" {
				key.Text = string(r)
			}
			if _, err := chromedp.Call(p.ctx, input.DispatchKeyEvent, key); err != nil {
				p.fail(err)
			}
		}
	}
}

// Modifiers of keys.
const (
	withCtrl  = 2
	withShift = 8
)

// key presses a key as a command, with modifiers where there are some; it types nothing.
func (p *page) key(name string, modifiers ...int64) {
	p.t.Helper()
	for _, kind := range []input.DispatchKeyEventType{"rawKeyDown", "keyUp"} {
		event := input.DispatchKeyEventParams{Type: kind, Key: name}
		for _, m := range modifiers {
			event.Modifiers |= m
		}
		if _, err := chromedp.Call(p.ctx, input.DispatchKeyEvent, event); err != nil {
			p.fail(err)
		}
	}
}

func (p *page) signIn() {
	p.t.Helper()
	p.signInAs("robin@curlew-sedge.example")
}

func (p *page) signInAs(email string) {
	p.t.Helper()
	p.do(chromedp.Navigate(p.url))
	p.focus("input[type=email]")
	p.typed(email)
	p.focus("input[type=password]")
	p.typed(password + "\r")
	p.sees("h1", "What needs a person now")
}

// accessible holds the page against axe-core's WCAG 2.2 AA rules.
func (p *page) accessible(name string) {
	p.t.Helper()
	source, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		p.t.Fatal(err)
	}
	p.do(chromedp.Evaluate[chromedp.Void](string(source)))
	found := ask[string](p, `axe.run({exclude: [["[id^=headlessui-focus-sentinel]"]]},
		{runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]})
		.then(r => r.violations.map(v => v.id + ": " + v.help + " at " + v.nodes.map(n => n.target.join(" ") + " (" + n.any.map(a => a.message).join("; ") + ")").slice(0, 3).join(", ")).join("\n"))`)
	if found != "" {
		p.t.Errorf("%s is not accessible to all:\n%s", name, found)
	}
}

func (p *page) dark() {
	p.do(chromedp.Evaluate[chromedp.Void](`document.documentElement.classList.contains("dark") || document.querySelector("[aria-label='Dark theme']").click()`))
	p.until(`document.documentElement.classList.contains("dark")`, "the dark theme")
}

func TestConsole(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.quick(t)
	p := w.open(t)
	p.do(chromedp.Navigate(p.url))
	p.focus("input[type=email]")
	p.accessible("sign-in")
	p.typed("robin@curlew-sedge.example")
	p.focus("input[type=password]")
	p.typed("not the password\r")
	p.sees("[role=alert]", "E-mail or password is wrong.")
	p.signIn()
	p.sees("main", "There is no device yet.")
	w.simulated(t, "hay-desk-01")
	lost := w.simulated(t, "hay-desk-02")
	p.sees("main", "Nothing needs a person now.") // told by an event, without a reload
	lost.stop()
	p.sees("main tr", "Not heard from: its agent is not connected.")
	p.accessible("the first page")

	p.key("k", withCtrl)
	p.typed("desk-01")
	p.sees("[role=option]", "hay-desk-01")
	p.typed("\r")
	p.sees("h1", "hay-desk-01")
	p.sees("aside", "192.0.2.10")
	p.until(`document.querySelectorAll("figure canvas").length === 4`, "four charts")
	p.sees("section[aria-label=Vitals]", "read every 2 s while you look")
	p.do(chromedp.Evaluate[chromedp.Void](`window.was = document.querySelector("figure canvas").toDataURL()`))
	p.until(`document.querySelector("figure canvas").toDataURL() !== window.was`, "charts that move while the page is open")
	p.accessible("the bench")
	p.dark()
	p.accessible("the bench in the dark")

	p.do(chromedp.Navigate(p.url + "/devices"))
	p.sees("[role=grid]", "hay-desk-02")
	p.accessible("the device list in the dark")
	if got := ask[string](p,
		`[...document.querySelectorAll("[role=row] a")].map(a => a.innerText).join()`); got != "hay-desk-01,hay-desk-02" {
		t.Errorf("those online stand first: %s", got)
	}
	for _, c := range []struct{ typed, want string }{{"192.0.2.10 02", "hay-desk-02"}, {"CS-", "hay-desk-01,hay-desk-02"}, {"nosuch", ""}} {
		p.do(chromedp.Navigate(p.url + "/devices"))
		p.focus("input[type=search]")
		p.typed(c.typed)
		p.until(fmt.Sprintf(`[...document.querySelectorAll("[role=row] a")].map(a => a.innerText).join() === %q`, c.want), c.typed+
			" gives "+c.want)
	}
	p.sees("main", "No device matches.")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("main button.link").click(); [...document.querySelectorAll("main button")].find(b => b.innerText.includes("Columns")).click()`))
	p.until(`[...document.querySelectorAll("label")].some(l => l.innerText.includes("Serial"))`, "the choice of columns")
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("label")].find(l => l.innerText.includes("Serial")).click()`))
	p.sees("[role=columnheader]", "Serial")
	p.do(chromedp.Navigate(p.url + "/devices"))
	p.sees("[role=columnheader]", "Serial") // the choice is kept
	for _, path := range []string{"/enrol", "/audit", "/account", "/people", "/recordings", "/many", "/consent", "/alerts", "/groups",
		"/policies", "/sweep", "/software", "/notices", "/changes", "/devices", "/wall", "/jobs", "/scripts", "/packages", "/updates",
		"/rollouts", "/reports"} {
		p.do(chromedp.Navigate(p.url + path))
		p.until(`document.querySelector("h1") !== null && ![...document.querySelectorAll("[role=status]")].some(s => s.innerText.startsWith("Reading "))`, path)
		p.accessible(path)
	}
}

// Over TLS, as in production: browsers then speak HTTP/2, but for the shell's WebSocket.
func TestConsoleCommandAndShell(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	d := w.machine(t, "van-board")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices/" + d.id.String() + "?pane=command,shell"))
	p.until(`document.querySelector("[data-shell=open]") !== null`, "an open shell")
	if protocol := ask[string](p,
		`performance.getEntriesByType("resource").find(r => r.name.includes("/api/v1/me")).nextHopProtocol`); protocol != "h2" {
		t.Errorf("the console speaks %s", protocol)
	}
	p.focus("input[aria-label=Command]")
	p.typed("echo $((6*7)); echo oops >&2; exit 3\r")
	p.sees("[role=log]", "42")
	p.sees("[role=log] .text-rowan", "oops")
	p.sees("[role=log]", "exit status 3")
	p.typed("sleep 300\r")
	p.sees("button", "End")
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("button")].find(b => b.innerText.includes("End")).click()`))
	p.sees("[role=log]", "ended by you")
	p.accessible("the command and the shell")

	terminal := `[...document.querySelectorAll(".xterm-rows > div")].map(r => r.innerText).join("\n")`
	p.focus(".xterm-helper-textarea")
	p.typed("stty size; printf 'h\\303\\251 %s\\n' $((40+2))\r")
	p.until(terminal+`.includes("hé 42")`, "UTF-8 and the sum in the terminal")
	size := ask[string](p, terminal+`.match(/^(\d+ \d+)/m)[1]`)
	p.do(chromedp.EmulateViewport(1000, 600))
	wait.Pause(t, 300*time.Millisecond) // the size that follows is asked of the shell until it differs
	for began := time.Now(); ; {
		p.typed("clear; stty size\r")
		wait.Pause(t, 200*time.Millisecond)
		now := ask[string](p, `(`+terminal+`.match(/^(\d+ \d+)/m) ?? ["",""])[1]`)
		if now != "" && now != size {
			break
		}
		if time.Since(began) > soon {
			p.fail(fmt.Errorf("the shell's size stays %s in a smaller window", size))
		}
	}
	// What is pasted is bracketed where the shell asks for that.
	p.typed("clear; printf 'rea%s\\n' dy; cat -v\r")
	p.until(terminal+`.includes("ready")`, "a program that shows what it is given")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector(".xterm-helper-textarea").dispatchEvent(Object.assign(new ClipboardEvent("paste", {clipboardData: (() => { const d = new DataTransfer(); d.setData("text/plain", "pasted moor"); return d; })(), bubbles: true})))`))
	p.until(terminal+`.includes("pasted moor")`, "what was pasted")
	shells := func() (begun, ended int) {
		for _, e := range must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{})))(t).Items {
			switch e.Action {
			case "shell.start":
				begun++
			case "shell.end":
				ended++
			}
		}
		return begun, ended
	}
	p.do(chromedp.Navigate(p.url + "/devices"))
	w.await(t, "a shell ends when its page is left",
		func() bool { begun, ended := shells(); return begun == 1 && ended == 1 })
	p.do(chromedp.Navigate(p.url + "/devices/" + d.id.String() + "?pane=shell"))
	p.until(`document.querySelector("[data-shell=open]") !== null`, "an open shell")
	d.stop()
	p.until(terminal+`.replaceAll("\n", "").includes("joined again")`, "the notice that the connection was lost")
	p.sees("main header", "Silent for")
}

// Ten thousand rows stay fluid: the list is there soon, and scrolls and searches without a long
// pause.
func TestConsoleWithManyDevices(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.manyDevices(t, 10_000)
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices"))
	p.sees("main", "10000 devices")
	if rows := ask[int](p, `document.querySelectorAll("[role=row]").length`); rows > 80 {
		t.Errorf("%d rows are drawn", rows)
	}
	// Other tests share the processors: the best of three is what the page itself takes.
	worst := math.Inf(1)
	for range 3 {
		worst = min(worst, ask[float64](p, `new Promise(done => {
		const scroll = document.querySelector("main .overflow-auto"); let n = 0, last = performance.now(), worst = 0;
		const step = now => { worst = Math.max(worst, now - last); last = now; scroll.scrollTop += 2400; if (++n < 90) requestAnimationFrame(step); else done(worst); };
		requestAnimationFrame(t => { last = t; requestAnimationFrame(step); }); })`))
	}
	t.Logf("the longest frame while scrolling took %.0f ms", worst)
	if worst > 250 {
		t.Errorf("scrolling stands still for %.0f ms", worst)
	}
	p.focus("input[type=search]")
	began := time.Now()
	p.typed("many-09999")
	p.sees("main", "1 of 10000 devices")
	t.Logf("searched in %s", time.Since(began).Round(time.Millisecond))
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("the search took %s", took)
	}
}

// What a device calls itself is shown, and never run.
func TestHostileNamesAreShown(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	dir, id := w.enrol(t, `<img src=x onerror="document.title='owned'">`)
	r := &reporter{id, connect(t, dir)}
	facts := device.Facts{HostName: `<img src=x onerror="document.title='owned'">`, OS: "linux",
		Model: "</script><script>document.title='owned'</script>", Serial: "\u202eabc\x1b]0;x\x07"}
	answer := must(r.client.Post("http://service/facts", "application/json", jsonBody(t, facts)))(t)
	answer.Body.Close()
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices/" + id.String()))
	p.sees("h1", "<img src=x")
	p.sees("aside", "</script><script>")
	if title := ask[string](p, "document.title"); strings.Contains(title, "owned") && !strings.Contains(title, "<img") {
		t.Errorf("the page's title is %q", title)
	}
	if n := ask[int](p, `document.querySelectorAll("main img, main script").length`); n != 0 {
		t.Errorf("%d elements of the device's making", n)
	}
}

// click presses the button or link that shows a text.
func (p *page) click(text string) {
	p.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll("main button, main a, main [role=tab]")].find(e => e.innerText.trim() === %q)`, text)
	p.until(find+` !== undefined`, "a button "+text)
	p.do(chromedp.Evaluate[chromedp.Void](find + `.click()`))
}

// From an alert to its end, and the groups, policies, sweeps and notices around it.
func TestConsoleHealth(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	told(t, w, health.Warning, nil)
	r := w.reporter(t, "sal-records")
	r.vitals(t, diskAt(50))
	r.vitals(t, diskAt(96))
	d := w.simulated(t, "hay-desk-01")
	p := w.open(t)
	p.signIn()
	p.sees("main tr", "Disk /srv is 96 % full: 4.0 GB of 100 GB left.")
	p.sees("main tr", "See what fills it")
	p.click("Disk /srv is 96 % full: 4.0 GB of 100 GB left.")
	p.sees("main", "No change is suspect.")
	p.accessible("an alert")
	p.focus("textarea")
	p.typed("The log is not rotated.")
	p.click("Acknowledge")
	p.sees("main table", "The log is not rotated.")
	p.sees("main", "acknowledged")
	r.vitals(t, diskAt(50))
	p.sees("main", "resolved") // told by an event
	mailed(t, sink, 2)

	p.do(chromedp.Navigate(p.url + "/groups"))
	p.click("New group")
	p.focus("form input")
	p.typed("Desks")
	p.focus("form textarea")
	p.typed(`os == "windo`)
	p.sees("[aria-label=Completions]", "windows")
	p.typed("\t")
	p.sees("form [role=status]", "1 of 2 devices: hay-desk-01")
	p.accessible("the editor of a group")
	p.click("Save")
	p.sees("main table", `os == "windows"`)
	p.sees("main table", "rests on what devices say of themselves: os")

	p.do(chromedp.Navigate(p.url + "/policies"))
	p.click("New policy")
	p.focus("form input")
	p.typed("Low disks")
	p.until(`document.querySelector("[aria-label='Add a check'] option[value=disk]") !== null`, "the checks to choose from")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "disk"); s.dispatchEvent(new Event("change", {bubbles: true})); })(document.querySelector("[aria-label='Add a check']"))`))
	p.click("Try on last week")
	p.sees("form [role=status]", "It would have alerted 1 times last week, on 1 of 2 devices")
	p.accessible("the editor of a policy")
	p.click("Save")
	p.sees("main table", "Low disks")

	p.do(chromedp.Navigate(p.url + "/sweep"))
	p.focus("input[aria-label=Name]")
	p.typed("Fennick Print Driver")
	w.await(t, "the agent's first inventory", func() bool {
		return must(client.Result(w.owner.GetInventoryWithResponse(t.Context(), d.id, nil)))(t).TakenAt != nil
	})
	p.press("main", "All 2")
	p.click("Ask")
	p.sees("main table", "4.1.7")
	p.sees("main", "1 of 1 devices answered.")
	p.accessible("a sweep")

	p.do(chromedp.Navigate(p.url + "/notices"))
	p.click("Test")
	p.sees("main [role=status]", "It was taken")
	mailed(t, sink, 3)
	p.accessible("the notices")

	p.do(chromedp.Navigate(p.url + "/devices/" + d.id.String()))
	p.click("Inventory")
	p.sees("main", "Fennick Print Driver")
	p.accessible("the inventory")
	p.click("Checks")
	p.sees("main table", "Low disks")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='CPU among other devices']").click()`))
	p.sees("[id^=headlessui-popover-panel]", "devices read less")
	p.accessible("a standing")
}
