package test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// deviceNames are the devices that the list shows, in its order.
const deviceNames = `[...document.querySelectorAll("[role=grid] [role=row] a")].map(a => a.innerText).join()`

// Devices are picked by what they have, chosen by mouse and keys, and then worked on: nobody writes an expression.
func TestConsoleDevices(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	one, two := w.simulated(t, "hay-desk-01"), w.simulated(t, "hay-desk-02")
	w.simulated(t, "sal-records")
	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: "Upper Fell"})))(t)
	must(client.Result(w.owner.SetTagsWithResponse(t.Context(), two.id, api.TagList{Tags: []string{"loan"}})))(t)
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices"))
	p.sees("main [role=status]", "3 devices, 3 online")

	// What is typed is sought in everything at once, and taken as a chip; the address holds it.
	p.focus("input[type=search]")
	p.typed("loa")
	p.sees("[role=option]", "“loa”")
	p.until(`[...document.querySelectorAll("[role=option]")].some(o => o.innerText.startsWith("tag") && o.innerText.includes("loan"))`,
		"the tag is offered")
	p.key("ArrowDown")
	p.typed("\r")
	p.sees("[aria-label=Picked]", "tag loan")
	p.until(deviceNames+` === "hay-desk-02"`, "the one with the tag")
	p.until(`location.search === "?tag=loan"`, "the address of the choice")
	p.accessible("the list with a chip")
	p.press("[aria-label=Picked]", "tag loan") // a click turns it
	p.sees("[aria-label=Picked]", "not tag loan")
	p.until(deviceNames+` === "hay-desk-01,sal-records"`, "those without it")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Remove not tag loan']").click()`))
	p.sees("main [role=status]", "3 devices")

	// By keys alone: down, a closer look, a row more, and what can be done with both.
	p.focus("[role=grid]")
	p.key("ArrowDown")
	p.key(" ")
	p.sees("aside", "hay-desk-01")
	p.sees("aside", "Who works here")
	p.accessible("a closer look beside the list")
	p.key("Escape")
	p.until(`document.querySelector("main aside") === null`, "the list alone")
	p.key(" ", withCtrl)
	p.key("ArrowDown", withShift)
	p.sees("[aria-label='Chosen devices']", "2 chosen")
	p.accessible("two devices are chosen")
	p.press("[aria-label='Chosen devices']", "Move")
	p.until(`document.querySelector("[id^=headlessui-popover-panel] select")?.options.length === 3`, "the sites to move to")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, s.options[s.options.length - 1].value); s.dispatchEvent(new Event("change", {bubbles: true})); })(document.querySelector("[id^=headlessui-popover-panel] select"))`))
	p.accessible("devices that are about to be moved")
	p.press("[id^=headlessui-popover-panel]", "Move")
	p.sees("[id^=headlessui-popover-panel] [role=status]", "2 are moved.")
	p.press("[aria-label='Chosen devices']", "Command")
	p.sees("h1", "Do now")
	p.sees("[aria-label=Picked]", "hay-desk-01")
	p.sees("main", "2 devices, 2 online")
	p.focus("input[aria-label=What]")
	p.typed("hostname")
	p.press("main", "Do it")
	p.press("[role=dialog]", "Do it on 2")
	p.sees("main", "2 of 2 devices answered.")

	// The address of a choice can be sent to a colleague; a device's name opens its page.
	p.do(chromedp.Navigate(p.url + "/devices?" + url.Values{"text": {"desk"}, "not-device": {one.id.String()}}.Encode()))
	p.until(deviceNames+` === "hay-desk-02"`, "what the address picks")
	p.sees("[aria-label=Picked]", "not device hay-desk-01")
	p.do(chromedp.Navigate(p.url + "/devices?where=" + url.QueryEscape(`name.endsWith("02") || nothing`)))
	p.sees("main [role=alert]", "cannot be read")
	p.do(chromedp.Navigate(p.url + "/devices?where=" + url.QueryEscape(`name.endsWith("02")`)))
	p.until(deviceNames+` === "hay-desk-02"`, "what an expression picks")

	// The tree shows places with how they fare, and picks them.
	p.do(chromedp.Navigate(p.url + "/devices"))
	p.sees("nav[aria-label=Places]", "Upper Fell")
	p.accessible("the list beside the tree of places")
	p.press("nav[aria-label=Places]", "Upper Fell")
	p.sees("[aria-label=Picked]", "site Upper Fell")
	p.until(deviceNames+` === "hay-desk-01,hay-desk-02"`, "those that were moved there")

	// On a telephone they are cards, and nothing is off its side.
	p.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(p.url+"/devices"))
	p.sees("[role=grid]", "sal-records")
	p.until(`document.documentElement.scrollWidth <= 390 && document.querySelector("[role=grid]").scrollWidth <= 390`,
		"a list within the screen")
	p.accessible("the list on a telephone")
}

// A device is called and noted what people say, and a site is renamed; both are found by it at once.
func TestConsoleNamesAndNotes(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices/" + d.id.String()))
	p.sees("[aria-label='What is wrong']", "Nothing that a check sees.")
	p.press("aside", "Add a name or note")
	p.fill("Called", "Front desk")
	p.fill("Note", "Its screen flickers.")
	p.accessible("a note being written")
	p.press("aside", "Save")
	p.sees("aside", "Its screen flickers.")
	p.sees("header", "Front desk")
	p.do(chromedp.Navigate(p.url + "/sites"))
	p.sees("table", site)
	p.press("main", "Rename the organisation")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[role=dialog] input").select()`))
	p.typed("Larkmoor and Fell\r")
	p.sees("table", "Larkmoor and Fell")
	p.do(chromedp.Navigate(p.url + "/devices?organisation=" + url.QueryEscape("Larkmoor and Fell")))
	p.until(deviceNames+` === "hay-desk-01"`, "the device by its organisation's new name")
	p.focus("input[type=search]")
	p.typed("flickers")
	p.until(deviceNames+` === "hay-desk-01"`, "the device by its note")
}

// The handbook's page about a page is one key away, and found by the search box.
func TestConsoleHandbook(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	p := w.open(t)
	p.signIn()
	for path, title := range map[string]string{"/": "See what is wrong, and why", "/rollouts": "Roll out updates",
		"/sites": "Add a device", "/account": "Colleagues, roles and consent"} {
		p.do(chromedp.Navigate(p.url + path))
		p.sees("h1", "")
		p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Help with this page']").click()`))
		p.sees("article h1", title)
	}
	p.key("k", withCtrl)
	p.typed("show what was")
	p.sees("[role=option]", "Show what was done")
	p.typed("\r")
	p.sees("article h1", "Show what was done")
	p.do(chromedp.Navigate(p.url + "/handbook/nosuch"))
	p.sees("main", "The handbook has no such page.")
}

// The rail shows the groups of pages in which somebody may do something, and keys go there.
func TestConsoleNavigation(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	p := w.open(t)
	p.signIn()
	for _, c := range []struct{ key, path, group string }{{"d", "/devices", "Devices"}, {"w", "/jobs", "Work"},
		{"r", "/reports", "Reports"}, {"s", "/policies", "Set up"}, {"n", "/", "Now"}} {
		p.do(chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`))
		p.key("g")
		p.key(c.key)
		p.until(fmt.Sprintf(`location.pathname === %q`, c.path), c.path)
		p.sees("[aria-current=true]", c.group)
	}
}

// pages are those of the console that are about no one thing.
const pages = "/ /alerts /devices /wall /groups /software /changes /sweep /jobs /many /scripts /packages /updates /rollouts /approvals " +
	"/advisories /exposure /reports /recordings /audit /policies /consent /notices /sites /enrol /people /account /handbook " +
	"/handbook/updates"

// Every page fits small screens: nothing is off their side, and what is there can be read and used by all.
func TestConsoleOnSmallScreens(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.unasked(t)
	d := w.simulated(t, "hay-desk-01")
	w.simulated(t, "hay-desk-02").stop()
	p := w.open(t)
	p.signIn()
	for _, width := range []int64{390, 820} {
		p.do(chromedp.EmulateViewport(width, map[int64]int64{390: 844, 820: 1180}[width]))
		for path := range strings.FieldsSeq(pages + " /devices/" + d.id.String() + " /devices/" + d.id.String() + "?pane=services") {
			p.do(chromedp.Navigate(p.url + path))
			p.until(`document.querySelector("h1") !== null && ![...document.querySelectorAll("[role=status]")].some(s => s.innerText.startsWith("Reading "))`, path)
			if wide := ask[string](p, `(() => {
				const over = e => e.getBoundingClientRect().right > innerWidth + 1;
				const held = e => { for (let p = e; p && p.tagName !== "MAIN"; p = p.parentElement) if (/auto|scroll|hidden|clip/.test(getComputedStyle(p).overflowX)) return true; return false; };
				const all = [...document.querySelectorAll("main *")].filter(e => over(e) && !held(e));
				return (document.documentElement.scrollWidth > innerWidth || document.querySelector("main").scrollWidth > innerWidth || all.length > 0)
					? (all[0]?.outerHTML.slice(0, 200) ?? "the page") : "";
			})()`); wide != "" {
				t.Errorf("%s is wider than %d pixels: %s", path, width, wide)
			}
			p.accessible(fmt.Sprintf("%s at %d pixels", path, width))
		}
	}
}

// What a browser has to read before the first page stands is small, as it is compressed and split by pages.
func TestConsoleIsSmall(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	p := w.open(t)
	p.signIn()
	p.sees("main", "There is no device yet.")
	p.do(chromedp.Navigate(p.url + "/"))
	p.sees("main", "There is no device yet.")
	bytes := ask[int](p, `fetch("/").then(async r => { const page = await r.text(); let sum = page.length;
		for (const e of performance.getEntriesByType("resource")) if (!e.name.includes("/api/")) sum += e.encodedBodySize;
		return sum; })`)
	t.Logf("the first load has %d kB", bytes/1000)
	if bytes > 250_000 || bytes < 50_000 {
		t.Errorf("the first load has %d bytes", bytes)
	}
}
