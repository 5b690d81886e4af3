package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// A technician sees what is missing, approves it by a rule, is told what a rollout would do, begins it, and
// reads on its board what came of each ring; a device tells what was installed.
func TestConsoleRollouts(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	for i := range 3 {
		d := sim.Device{Name: fmt.Sprintf("sal-records-%d", i), Kind: sim.Server, Seed: uint64(9 + 2*i), Address: "192.0.2.14",
			Dir: t.TempDir()}
		w.agent(t, d.Name, d.Host(time.Now), nil)
	}
	w.await(t, "what is missing is told", func() bool {
		all := must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(), &api.ListUpdatesParams{Search: new("heathssl")})))(t).Items
		return len(all) == 1 && all[0].Devices == 3
	})
	must(w.importFeed(t, "heath", true, strings.NewReader(strings.ReplaceAll(heathAdvisory, "Debian:12", "Debian"))))(t)
	must(w.importFeed(t, "known", true, strings.NewReader("cve,since\nCVE-2026-70112,2026-11-15\n")))(t)
	w.advisoriesAre(t, "the advisory is about the servers", api.ListAdvisoriesParams{Exploited: new(true)}, "MOOR-1")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/advisories"))
	p.sees("main table", "heathssl reads <script>alert(1)</script> beyond a buffer")
	p.sees("main table", "exploited")
	p.sees("main table", "heathssl 3.0.15-1, missing at 3")
	p.accessible("the advisories")
	p.press("main table", "MOOR-1")
	p.sees("main h2", "heathssl reads <script>")
	p.sees("main table", "sal-records-2")
	p.accessible("an advisory")
	p.do(chromedp.Navigate(p.url + "/reports"))
	p.sees("main [aria-label=Totals]", "of 3 devices miss no security update")
	p.sees("main table", "Haywater branch")
	p.press("main", "New report by e-mail")
	p.fill("To, with commas between addresses", "nobody\r")
	p.accessible("a report by e-mail, refused")
	p.fill("Name", "Monthly")
	p.fill("To, with commas between addresses", "wren@larkmoor.example\r")
	p.sees("main", "all organisations, 30 days")
	p.accessible("the reports")
	p.do(chromedp.Navigate(p.url + "/updates"))
	p.sees("main table", "Encryption for programs")
	p.sees("main table", "3 undecided")
	p.accessible("what is missing")
	p.do(chromedp.Navigate(p.url + "/approvals"))
	p.sees("main", "There is no rule yet.")
	p.press("main", "New rule")
	p.fill("Name of the rule", "Security\r")
	p.sees("main table", "Security")
	p.sees("main table", "everywhere")
	p.accessible("the rules")
	p.do(chromedp.Navigate(p.url + "/exposure"))
	p.sees("main", "of 3 devices miss a critical or high one")
	p.accessible("the exposure")
	p.do(chromedp.Navigate(p.url + "/rollouts"))
	p.sees("main", "No rollout was begun yet.")
	p.press("main", "New rollout")
	p.until(`document.querySelector("[aria-label='Name of ring 1']") !== null`, "the form of a rollout")
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("label")].find(e => e.innerText.includes("In maintenance windows alone")).querySelector("input").click()`))
	p.do(chromedp.Evaluate[chromedp.Void](`(() => { for (const n of [1, 2]) { const e = document.querySelector("[aria-label='Minutes for which ring " + n + " is watched']"); Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, "0"); e.dispatchEvent(new Event("input", { bubbles: true })) } })()`))
	p.do(chromedp.Evaluate[chromedp.Void](`(e => { Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, "never"); e.dispatchEvent(new Event("change", { bubbles: true })) })([...document.querySelectorAll("select")].find(s => [...s.options].some(o => o.value === "never")))`))
	p.press("main form", "All 3")
	p.fill("Name of the rollout", "November\r")
	p.sees("main [role=status]", "It installs 2 updates on 3 devices")
	p.accessible("a rollout that is about to be begun")
	p.press("main", "Begin it")
	p.sees("main h1", "November")
	p.sees("[aria-label=Rings]", "0 of 1 installations failed")
	p.sees("main", "done")
	p.sees("[aria-label=Updates]", "3 installed")
	p.accessible("a rollout's board")
	p.do(chromedp.Navigate(p.url + "/rollouts"))
	p.sees("main table", "November")
	p.accessible("the rollouts")
	one := must(w.owner.Find(t.Context(), "sal-records-1"))(t)
	p.do(chromedp.Navigate(p.url + "/devices/" + one.ID.String()))
	p.press("main", "Updates")
	p.sees("main", "3.0.14-1 → 3.0.15-1")
	p.sees("main", "installed")
	p.accessible("the updates of a device")
}
