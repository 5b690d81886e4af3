package test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// A technician writes a script, is told on how many devices it would run, runs it, and reads on the
// board what came of it; where it failed it is tried again.
func TestConsoleJobs(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.simulated(t, "hay-desk-01")
	w.simulated(t, "hay-desk-02")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/scripts"))
	p.press("main", "New script")
	p.do(chromedp.Evaluate[chromedp.Void](`(e => { Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, "# --- moorwatch\n# name: [\n# ---\nls\n"); e.dispatchEvent(new Event("input", { bubbles: true })) })(document.querySelector("main textarea"))`))
	p.press("main", "Save")
	p.sees("main [role=alert]", "The script cannot be taken.")
	p.accessible("a script that cannot be taken")
	file := strings.ReplaceAll("# --- moorwatch\n# name: Who is it?\n# interpreter: powershell\n# parameters:\n# - {name: WORD, title: "+
		"Word, kind: text, required: true}\n# ---\nhostname\necho $WORD\nexit 3\n", "\n", `\n`)
	p.do(chromedp.Evaluate[chromedp.Void](`(e => { Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, "` +
		file + `"); e.dispatchEvent(new Event("input", { bubbles: true })) })(document.querySelector("main textarea"))`))
	p.press("main", "Save")
	p.sees("main h2", "Who is it?")
	p.press("main", "All 2")
	p.sees("main", "2 devices, 2 online")
	p.fill("Word", "heather\r")
	p.sees("main [role=status]", "It is done on 2 devices, of which 2 are online now: hay-desk-01, hay-desk-02.")
	p.accessible("a script that is about to be run")
	p.press("main", "Run it on 2 devices")
	p.sees("main h1", "Who is it?")
	p.sees("main", "2 failed")
	p.sees("[aria-label=Outputs]", "heather")
	p.sees("[aria-label=Runs]", "failed, exit 3")
	p.accessible("a job's board")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='What hay-desk-02 printed']").click()`))
	p.sees("[aria-label=Runs] pre", "hay-desk-02\nheather")
	before := ask[string](p, "location.pathname")
	p.press("main", "Try again on 2")
	p.until(`location.pathname.startsWith("/jobs/") && location.pathname !== "`+before+`"`, "another job")
	p.sees("main", "2 failed")
	p.do(chromedp.Navigate(p.url + "/jobs"))
	p.sees("main table", "Who is it?")
	p.accessible("the jobs")
}
