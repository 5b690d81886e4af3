package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
)

// write puts a text into a field of the page's own.
func (p *page) write(selector, text string) {
	p.t.Helper()
	text = strings.NewReplacer("\\", "\\\\", "\n", "\\n", `"`, `\"`).Replace(text)
	p.do(chromedp.Evaluate[chromedp.Void](`(e => { Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, "` +
		text +
		`"); e.dispatchEvent(new Event("input", { bubbles: true })); e.dispatchEvent(new Event("change", { bubbles: true })) })(document.querySelector(` + "`" + selector + "`" + `))`))
}

// choose chooses an option of a field.
func (p *page) choose(selector, value string) {
	p.t.Helper()
	p.do(chromedp.Evaluate[chromedp.Void](`(e => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, "` +
		value + `"); e.dispatchEvent(new Event("change", { bubbles: true })) })(document.querySelector(` + "`" + selector + "`" + `))`))
}

// A technician writes a package, is told on how many devices it would be installed, installs it, changes
// it, sees what changed, and compares what came of it.
func TestConsolePackages(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.kiosk(t, "hay-kiosk")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/packages"))
	p.sees("main", "There is no package yet.")
	p.accessible("no packages")
	p.press("main", "New package")
	p.write("main textarea", "package: Screen\nversion: 1\n")
	p.press("main", "Save")
	p.sees("main [role=alert]", "The package cannot be taken.")
	file := "package: Screen\nversion: \"1\"\nsystems: [linux]\nthere: {kind: file, of: /etc/catalogue/screen.conf}\ninstall:\n- {do: " +
		"edit, path: /etc/catalogue/screen.conf, find: \"^size=\", line: \"size=22\", on_error: undo}\n- {do: wait, seconds: " +
		"1}\nremove:\n- {do: delete, path: /etc/catalogue/screen.conf}\n"
	p.write("main textarea", file)
	p.press("main", "Save")
	p.sees("main h2", "Screen 1")
	p.sees("main ol", "In /etc/catalogue/screen.conf write size=22 for ^size=")
	p.press("main", "Install…")
	p.press("main", "All 1")
	p.press("main", "On how many?")
	p.sees("main [role=status]", "It is done on 1 device, of which 1 are online now: hay-kiosk.")
	p.accessible("a package that is about to be installed")
	p.press("main", "Install it on 1 device")
	p.sees("main h1", "Install Screen")
	p.sees("main", "1 succeeded")
	p.sees("[aria-label=Outputs]", "Screen is there")
	p.do(chromedp.Navigate(p.url + "/packages"))
	p.sees("nav[aria-label=Library]", "on 1 device")
	p.press("main", "Change")
	p.write("main textarea", strings.Replace(strings.Replace(file, "size=22", "size=24", 1), `version: "1"`, `version: "2"`, 1))
	p.press("main", "Save")
	p.sees("main h2", "Screen 2")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("main details summary").click()`))
	p.press("main details", "2, ")
	p.sees("main details pre", "size=24")
	p.sees("main details pre", "− version")
	p.accessible("what a version changed")
	p.press("main", "Install…")
	p.press("main", "All 1")
	p.press("main", "On how many?")
	p.press("main", "Install it on 1 device")
	p.sees("main", "1 succeeded")
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("main a")].find(a => a.innerText === "Compare").click()`))
	p.sees("main", "beside")
	p.until(`document.querySelector("main select").options.length > 1`, "another job to compare with")
	p.accessible("two jobs compared")
}

// A technician sets a policy that brings a service back; the first page shows that it did, and the policy
// how often it helped.
func TestConsoleResponses(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d, _ := w.kiosk(t, "hay-kiosk")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/policies"))
	p.press("main", "New policy")
	p.fill("Name of the policy", "Kiosks")
	p.until(`document.querySelectorAll("[aria-label='Add a check'] option").length > 20`, "the checks")
	p.choose("[aria-label='Add a check']", "service")
	p.write("main fieldset input[placeholder=which]", screenService)
	p.write("main input[aria-label='Expected service, looked at every so many seconds']", "10")
	p.press("main", "Add a response")
	p.write("main fieldset input[maxlength='80']", "Bring it back")
	p.write("main ol input[type=number]", "20")
	p.press("main", "Say how agents behave")
	p.accessible("a policy with a response")
	p.press("main", "Save")
	p.sees("main table", "Bring it back")
	p.sees("main table", "restart the service; not tried in the last 90 days")
	must(client.Result(w.owner.ChangeServiceWithResponse(t.Context(), d.id,
		link.ServiceAction{Action: link.ServiceStop, Name: screenService})))(t)
	p.do(chromedp.Navigate(p.url + "/"))
	w.awaitFor(t, 90*time.Second, "it is answered", func() bool { return len(w.responses(t)) == 1 })
	p.sees("[aria-label='Done by policies']", "restart the service")
	w.awaitFor(t, 2*time.Minute, "it is healed", func() bool { all := w.responses(t); return len(all) == 1 && all[0].State == "healed" })
	p.sees("[aria-label='Done by policies']", "healed")
	p.accessible("what policies did")
	alert := must(client.Result(w.owner.ListAlertsWithResponse(t.Context(), &api.ListAlertsParams{Device: &d.id})))(t).Items[0]
	p.do(chromedp.Navigate(p.url + "/alerts/" + alert.ID.String()))
	p.sees("[aria-label=Response]", "Step 1, restart the service: done.")
	p.do(chromedp.Navigate(p.url + "/policies"))
	p.sees("main table", "healed 1 of 1 times (100 %)")
	p.do(chromedp.Navigate(p.url + "/jobs?origin=response"))
	p.sees("main table", "Bring it back")
	p.accessible("jobs of policies")
}
