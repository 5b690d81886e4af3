// Command shots takes pictures of the console of a running demo, in headless Chromium. The
// pictures in docs/screenshots come from it.
//
//	go run ./demo/shots -demo demo-data -out docs/screenshots
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/demo"
)

func main() {
	dir := flag.String("demo", "demo-data", "the demo's `folder`")
	out := flag.String("out", "docs/screenshots", "`folder` of the pictures")
	only := flag.String("only", "", "take the pictures whose name contains this alone")
	pages := flag.String("pages", "", "in place of the docs' pictures, take these `paths` of the console, divided by commas; "+
		"a button to press first stands after a #")
	dark := flag.Bool("dark", false, "show the dark theme")
	width := flag.Int64("width", 1280, "pixels")
	height := flag.Int64("height", 800, "pixels")
	flag.Parse()
	if err := run(*dir, *out, *only, *pages, *dark, *width, *height); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

// shot is a picture: a page, and what to do on it before the picture is taken.
type shot struct {
	name, path string
	aside      bool // only where it is asked for by name: the docs have room for nineteen
	do         []chromedp.Action[chromedp.Void]
}

func run(dir, out, only, pages string, dark bool, width, height int64) error {
	var a demo.Access
	text, err := os.ReadFile(filepath.Join(dir, "demo.json"))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, &a); err != nil {
		return err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	theme := "light"
	if dark {
		theme = "dark"
	}
	script := page.AddScriptToEvaluateOnNewDocumentParams{Source: `localStorage.setItem("moorwatch theme", "` + theme + `")`}
	if _, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, script); err != nil {
		return err
	}
	size := chromedp.EmulateViewport(width, height)
	if width < 500 { // a telephone
		size = chromedp.EmulateViewport(width, height, chromedp.EmulateMobile, chromedp.EmulateTouch, chromedp.EmulateScale(2))
	}
	if err := chromedp.Do(ctx, size); err != nil {
		return err
	}
	shots, err := list(ctx, a)
	if err != nil {
		return err
	}
	if pages != "" {
		shots = slices.DeleteFunc(shots, func(s shot) bool { return s.name != "sign-in" })
		for path := range strings.SplitSeq(pages, ",") {
			name := strings.NewReplacer("/", "-", "?", "-", "=", "-", "&", "-", "#", "-", " ", "-").Replace(path)
			one := shot{name: strings.Trim(name, "-")}
			var button string
			if one.path, button, _ = strings.Cut(path, "#"); button != "" {
				one.do = []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press(button), chromedp.Sleep(time.Second)}
			}
			shots = append(shots, one)
		}
	}
	signedIn := false
	for _, s := range shots {
		if ((only == "" && s.aside) || !strings.Contains(s.name, only)) && (s.name != "sign-in" || signedIn) {
			continue
		}
		if err := take(ctx, a, s, out, only); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if s.name == "sign-in" {
			signedIn = true
			if err := signIn(ctx, a); err != nil {
				return fmt.Errorf("signing in: %w", err)
			}
		}
	}
	return nil
}

func take(ctx context.Context, a demo.Access, s shot, out, only string) error {
	steps := append([]chromedp.Action[chromedp.Void]{chromedp.Navigate(a.URL + s.path),
		chromedp.WaitVisible(chromedp.CSS("h1, form, [role=alert]"))}, s.do...)
	if err := chromedp.Do(ctx, append(steps, chromedp.Sleep(700*time.Millisecond))...); err != nil {
		return err
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	if (only == "" && s.aside) || !strings.Contains(s.name, only) {
		return nil
	}
	return os.WriteFile(filepath.Join(out, s.name+".png"), png, 0o644)
}

func signIn(ctx context.Context, a demo.Access) error {
	return chromedp.Do(ctx, chromedp.SendKeys(chromedp.CSS("input[type=email]"), a.User),
		chromedp.SendKeys(chromedp.CSS("input[type=password]"), a.Password+"\n"), chromedp.WaitVisible(chromedp.CSS("nav")))
}

// row finds the row of a grid that holds a text.
func row(text string) string {
	return fmt.Sprintf(`//*[@role="row"][.//*[contains(normalize-space(.), %q)]]`, text)
}

func chooseRow(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(chromedp.Search(row(text)))
}

func openRow(text string) chromedp.Action[chromedp.Void] {
	return chromedp.DoubleClick(chromedp.Search(row(text)))
}

// showHow chooses a site on the page that adds devices, and has it tell how.
var showHow = []chromedp.Action[chromedp.Void]{
	chromedp.Evaluate[chromedp.Void](`new Promise(done => { const look = () => { const s = document.querySelector("select"); if (!s ||
		s.options.length < 3) return setTimeout(look, 50);
		const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set; set.call(s, [...s.options].find(o => o.text.includes("Haywater")).value); s.dispatchEvent(new Event("change", { bubbles: true }));
		setTimeout(() => { [...document.querySelectorAll("button")].find(b => b.innerText.includes("Show how")).click(); done(); }, 200); }; look(); })`),
	chromedp.WaitVisible(chromedp.CSS("[aria-label='Install the agent']")),
}

// list names the pictures in the order in which they are taken; the first is of the sign-in page.
func list(ctx context.Context, a demo.Access) ([]shot, error) {
	c, err := client.New(client.Options{URL: a.URL, Token: a.Token})
	if err != nil {
		return nil, err
	}
	records, err := c.Find(ctx, "sal-records")
	if err != nil {
		return nil, err
	}
	xray, err := c.Find(ctx, "sal-xray")
	if err != nil {
		return nil, err
	}
	slow, err := slowLogOn(ctx, c)
	if err != nil {
		return nil, err
	}
	bench := "/devices/" + records.ID.String()
	return []shot{
		{name: "sign-in", aside: true, path: "/"},
		{name: "now", path: "/"},
		{name: "devices", path: "/devices?site=Central+Library", do: []chromedp.Action[chromedp.Void]{
			chromedp.Evaluate[chromedp.Void](`(() => { const r = [...document.querySelectorAll("[role=grid] [role=row]")]; r[1].click(); for (const i of [1, 2, 4]) r[i].querySelector("input").click() })()`),
			chromedp.Sleep(2 * time.Second)}},
		{name: "search", aside: true, path: "/", do: []chromedp.Action[chromedp.Void]{
			chromedp.SendKeys(chromedp.CSS("input[aria-label='Find a device or do something']"), "restart cen-ki"),
			chromedp.Sleep(time.Second)}},
		{name: "bench", aside: true, path: bench + "?pane=command,shell", do: []chromedp.Action[chromedp.Void]{
			chromedp.Sleep(2 * time.Second), focus("input[aria-label=Command]"), chromedp.KeyEvent("df\r"), chromedp.Sleep(time.Second),
			focus(".xterm-helper-textarea"), typed("ps\r"), chromedp.Sleep(5 * time.Second)}},
		{name: "files", path: bench + "?pane=files", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), openRow("etc"),
			chromedp.Sleep(time.Second), openRow("records"), chromedp.Sleep(time.Second), chooseRow("sync.conf"),
			chromedp.Sleep(time.Second)}},
		{name: "file-access", aside: true, path: "/devices/" + slow.DeviceID.String() + "?pane=files",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(2 * time.Second), chooseRow("Temp"), press("Access"),
				chromedp.Sleep(time.Second),
				setText("[role=dialog] input", "Guests"), press("Set it"), chromedp.Sleep(time.Second)}},
		{name: "fix", path: bench + "?pane=services,events,processes",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(2 * time.Second), chooseRow("records-sync.service"),
				chromedp.Sleep(2 * time.Second)}},
		{name: "screen", path: "/devices/" + xray.ID.String() + "?pane=screen",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(8 * time.Second)}},
		{name: "tokens", aside: true, path: "/account",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second),
				chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='API tokens'] details").open = true; document.querySelector("[aria-label='API tokens']").scrollIntoView()`), chromedp.Sleep(time.Second)}},
		{name: "jobs", path: "/jobs", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "updates", aside: true, path: "/updates", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "advisories", path: "/advisories", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "advisory", path: "/advisories/MOOR-2026-0121", aside: true,
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "reports", path: "/reports", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "exposure", aside: true, path: "/exposure", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "approvals", aside: true, path: "/approvals?update=heathssl",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "rollouts", aside: true, path: "/rollouts", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "rollout", path: "/rollouts", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second),
			pressLink("Security for the kiosks"), chromedp.Sleep(2 * time.Second)}},
		{name: "rollout-new", aside: true, path: "/rollouts?new",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), setText("form input.field", "November"),
				press("What would it do?"), chromedp.Sleep(2 * time.Second)}},
		{name: "device-updates", aside: true, path: bench,
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(2 * time.Second), press("Updates"), chromedp.Sleep(time.Second)}},
		{name: "job-board", aside: true, path: "/jobs",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second),
				chromedp.Evaluate[chromedp.Void]("document.querySelector('main td a').click()"), chromedp.Sleep(2 * time.Second)}},
		{name: "packages", path: "/packages", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("Catalogue Screen"),
			chromedp.Sleep(500 * time.Millisecond), press("Install…"), chromedp.Sleep(time.Second), press("On how many?"),
			chromedp.Sleep(time.Second)}},
		{name: "package-new", aside: true, path: "/packages",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("New package"), chromedp.Sleep(time.Second),
				press("Save"), chromedp.Sleep(time.Second)}},
		{name: "job-origins", aside: true, path: "/jobs?origin=all", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "job-van", aside: true, path: "/jobs",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), pressLink("The van"), chromedp.Sleep(2 * time.Second)}},
		{name: "job-compare", aside: true, path: "/jobs?origin=all",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), pressLink("Install"), chromedp.Sleep(time.Second),
				pressLink("Compare"), chromedp.Sleep(2 * time.Second)}},
		{name: "policy-edit", aside: true, path: "/policies",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), pressLabel("Change Kiosks"), chromedp.Sleep(time.Second)}},
		{name: "scripts", aside: true, path: "/scripts",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("Largest folders"), chromedp.Sleep(time.Second),
				press("On how many?"), chromedp.Sleep(time.Second)}},
		{name: "script-new", aside: true, path: "/scripts",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("New script"), chromedp.Sleep(time.Second),
				press("Save"), chromedp.Sleep(time.Second)}},
		{name: "screens", aside: true, path: "/screens?of=" + xray.ID.String() + "&of=" + records.ID.String() + ":Records",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(8 * time.Second)}},
		{name: "screen-look", aside: true, path: "/devices/" + xray.ID.String() + "?pane=screen",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(8 * time.Second), press("Picture quality"), chromedp.Sleep(time.Second)}},
		{name: "screen-consoles", aside: true, path: "/devices/" + xray.ID.String() + "?pane=screen",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(8 * time.Second), press("Desktop"), chromedp.Sleep(time.Second),
				press("Consoles over"), chromedp.Sleep(time.Second)}},
		{name: "screen-leaving", aside: true, path: "/devices/" + xray.ID.String() + "?pane=screen",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(8 * time.Second), pressLabel("Close Screen"), chromedp.Sleep(time.Second)}},
		{name: "screen-phone", aside: true, path: "/devices/" + xray.ID.String() + "/window/screen",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(8 * time.Second)}},
		{name: "screen-silent", aside: true, path: "/devices/" + slow.DeviceID.String() + "?pane=screen",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(3 * time.Second)}},
		{name: "wall", path: "/wall?site=" + url.QueryEscape("Central Library@Larkmoor Libraries"),
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(5 * time.Second)}},
		{name: "replay-screen", aside: true, path: "/recordings",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), pressLink("Play"), chromedp.Sleep(7 * time.Second)}},
		{name: "network", aside: true, path: bench + "?pane=network,people",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("Neighbours"), chromedp.Sleep(time.Second)}},
		{name: "settings", path: bench + "?pane=settings,queries",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(2 * time.Second), openRow("configuration"), chromedp.Sleep(time.Second),
				openRow("records"), chromedp.Sleep(time.Second), openRow("sync.conf"), chromedp.Sleep(time.Second),
				chooseRow("wait"), setText("[aria-label=Query]", "process where memory > 100000000 show name, memory, person"),
				press("Ask"),
				chromedp.Sleep(2 * time.Second)}},
		{name: "recordings", aside: true, path: "/recordings", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "replay", aside: true, path: "/recordings",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), pressLink("Play"), chromedp.Sleep(9 * time.Second)}},
		{name: "bench-week", path: "/devices/" + slow.DeviceID.String(),
			do: []chromedp.Action[chromedp.Void]{chromedp.Click(chromedp.Search("//button[.='Week']")), chromedp.Sleep(2 * time.Second)}},
		{name: "alert", path: "/alerts/" + slow.ID.String(), do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "standing", aside: true, path: "/devices/" + slow.DeviceID.String(),
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("All "),
				chromedp.Sleep(time.Second), chromedp.Click(chromedp.CSS("[aria-label='Log-on among other devices']")),
				chromedp.Sleep(time.Second)}},
		{name: "inventory", aside: true, path: "/devices/" + slow.DeviceID.String(),
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second), press("Inventory"), chromedp.Sleep(time.Second)}},
		{name: "policies", path: "/policies", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "sweep", path: "/sweep", do: []chromedp.Action[chromedp.Void]{
			chromedp.SendKeys(chromedp.CSS("input[aria-label=Name]"), "Fennick Print Driver"), press("All "), press("Ask"),
			chromedp.Sleep(2 * time.Second)}},
		{name: "many", aside: true, path: "/many", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second),
			chromedp.SendKeys(chromedp.CSS("input[aria-label=What]"), "uptime"), press("All "), press("Do it"),
			chromedp.Sleep(time.Second)}},
		{name: "groups", aside: true, path: "/groups", do: []chromedp.Action[chromedp.Void]{press("New group"), chromedp.Sleep(time.Second),
			chromedp.SendKeys(chromedp.CSS("textarea"), `os == "windows" && cpu > 20 && si`), chromedp.Sleep(time.Second)}},
		{name: "software", aside: true, path: "/software"},
		{name: "notices", aside: true, path: "/notices", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "audit", aside: true, path: "/audit"},
		{name: "people", path: "/people", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
		{name: "roles", aside: true, path: "/people",
			do: []chromedp.Action[chromedp.Void]{press("Roles"), chromedp.Sleep(time.Second), press("New role"),
				chromedp.Sleep(time.Second)}},
		{name: "add-devices", path: "/enrol", do: showHow},
		{name: "add-devices-wrong", aside: true, path: "/enrol",
			do: append(slices.Clone(showHow), setText("[aria-label='Install the agent'] input.field", "proxy 3128"))},
		{name: "proof", aside: true, path: "/people",
			do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second),
				chromedp.Evaluate[chromedp.Void](`(() => { const s = document.querySelectorAll("select")[1]; Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "120"); s.dispatchEvent(new Event("change", { bubbles: true })) })()`), chromedp.Sleep(time.Second)}},
		{name: "account", aside: true, path: "/account", do: []chromedp.Action[chromedp.Void]{chromedp.Sleep(time.Second)}},
	}, nil
}

// slowLogOn is the alert that the demo's story of the printer driver is told by.
func slowLogOn(ctx context.Context, c *client.Client) (api.Alert, error) {
	check := "log-on"
	page, err := client.Result(c.ListAlertsWithResponse(ctx, &api.ListAlertsParams{Check: &check}))
	if err != nil {
		return api.Alert{}, err
	}
	for _, a := range page.Items {
		if a.Suspect != nil {
			return a, nil
		}
	}
	return api.Alert{}, errors.New("no slow log-on has a suspect yet: wait a minute")
}

// press presses the button whose words begin so.
func press(words string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("[...document.querySelectorAll('button')].find(b => "+
		"b.innerText.trim().startsWith(%q)).click()", words))
}

// pressLabel presses the button of a label that is not seen.
func pressLabel(label string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).click()", "[aria-label='"+label+"']"))
}

// pressLink presses the first link whose words begin so.
func pressLink(words string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("[...document.querySelectorAll('a')].find(b => "+
		"b.innerText.trim().startsWith(%q)).click()", words))
}

// setText puts a text into a field of the page's own making.
func setText(selector, text string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(
		`(e => { Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, %q); e.dispatchEvent(new Event("input", {bubbles: true})) })(document.querySelector(%q))`, text, selector))
}

func focus(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).focus()", selector))
}

// typed types as a keyboard does: a key goes down, gives a character, and comes up.
func typed(text string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (none chromedp.Void, err error) {
		for _, r := range text {
			for _, kind := range []input.DispatchKeyEventType{"rawKeyDown", "char", "keyUp"} {
				key := input.DispatchKeyEventParams{Type: kind, Key: string(r)}
				if r == '\r' {
					key.Key, key.WindowsVirtualKeyCode = "Enter", 13
				}
				if kind == "char" {
					key.Text = string(r)
				}
				if _, err := cdp.Call(ctx, t, input.DispatchKeyEvent, key); err != nil {
					return none, err
				}
			}
		}
		return none, nil
	}
}
