package test

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// press clicks the first button, link or row within a part of the page that shows a text.
func (p *page) press(within, text string) {
	p.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll(%q)].flatMap(e => [...e.querySelectorAll("button, a, [role=row]")]).find(e => e.innerText.trim().startsWith(%q) && !e.disabled)`, within, text)
	p.until(find+" !== undefined", fmt.Sprintf("%q to press in %s", text, within))
	p.do(chromedp.Evaluate[chromedp.Void](find + ".click()"))
}

// open opens a row of a grid, as two clicks do.
func (p *page) openRow(text string) {
	p.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll("[role=row]")].find(e => e.innerText.trim().startsWith(%q))`, text)
	p.until(find+" !== undefined", fmt.Sprintf("a row %q", text))
	p.do(chromedp.Evaluate[chromedp.Void](find + `.dispatchEvent(new MouseEvent("dblclick", {bubbles: true}))`))
}

// A technician finds a service that hangs, restarts it, sees in its log that it works again, and
// edits and sends files, all on the bench.
func TestConsoleQuietTools(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.records(t)
	p := w.open(t)
	p.signIn()
	bench := p.url + "/devices/" + d.id.String()
	p.do(chromedp.Navigate(bench + "?pane=services,events"))
	p.sees("[role=log]", "no record copied for")
	p.press("[aria-label=Services]", "records-sync.service")
	p.sees("[aria-label=Services]", "no sign of life for 20 min")
	p.accessible("services and event logs")
	p.press("[aria-label=Services]", "Restart")
	p.sees("[role=dialog]", "nothing else stops with it")
	p.press("[role=dialog]", "Restart 1")
	p.sees("[role=status]", "records-sync.service runs, after")
	p.sees("[role=log]", "copying to three surgeries") // told as it happens

	p.press("[aria-label=Services]", "postgresql.service")
	p.sees("[aria-label=Services]", "2 depend on it")

	p.do(chromedp.Navigate(bench + "?pane=processes"))
	p.press("[aria-label=Processes]", "recordsd")
	p.sees("[aria-label=Processes]", "/usr/sbin/recordsd --config")
	p.accessible("processes")
	p.press("[aria-label=Processes]", "End by force")
	p.press("[role=dialog]", "End it by force")
	p.sees("[role=status]", "recordsd has ended.")

	p.do(chromedp.Navigate(bench + "?pane=files"))
	p.openRow("etc")
	p.openRow("records")
	p.accessible("files")
	p.openRow("sync.conf")
	p.sees(".cm-content", "wait = forever")
	p.focus(".cm-content")
	p.typed("# by Robin ")
	p.press("[aria-label=Files]", "Save")
	p.until(`[...document.querySelectorAll("[aria-label=Files] [role=status]")].some(e => e.innerText.trim() === "saved")`,
		"that it is saved")
	text := must(client.Result(w.owner.ReadTextWithResponse(t.Context(), d.id, &api.ReadTextParams{Path: "/etc/records/sync.conf"})))(t)
	if want := "# by Robin # copies records"; len(text.Text) < len(want) || text.Text[:len(want)] != want {
		t.Errorf("the file holds %q", text.Text)
	}
	p.press("[aria-label=Files]", "Close")
	p.until(`document.querySelector("input[type=file]") !== null`, "the button that sends files")
	p.do(chromedp.Evaluate[chromedp.Void](`(() => { const d = new DataTransfer(); d.items.add(new File(["x".repeat(700000)], "sent.txt"));
		const i = document.querySelector("input[type=file]"); i.files = d.files; i.dispatchEvent(new Event("change", {bubbles: true})); })()`))
	p.sees("[aria-label=Transfers]", "700 kB, compared")
	p.sees("[role=row]", "sent.txt")
	digest := api.GetFileParamsDigest("sha256")
	if e := must(client.Result(w.owner.GetFileWithResponse(t.Context(), d.id,
		&api.GetFileParams{Path: "/etc/records/sent.txt", Digest: &digest})))(t); e.Size != 700000 {
		t.Errorf("it stands there as %+v", e)
	}
	p.press("[aria-label=Files]", "sent.txt")
	p.press("[aria-label=Files]", "Remove")
	p.sees("[role=dialog]", "can be restored")
	p.press("[role=dialog]", "Remove 1")
	p.until(`![...document.querySelectorAll("[role=row]")].some(e => e.innerText.includes("sent.txt"))`, "it is gone")
	p.press("[aria-label=Files]", "Removed")
	p.press("[aria-label=Files]", "Restore")
	p.sees("[aria-label=Files]", "Nothing was removed from here.")

	p.do(chromedp.Navigate(bench + "?pane=network,people"))
	p.press("[aria-label=Network]", "Neighbours")
	p.press("[aria-label=Network]", "Scan 198.51.100.17/24")
	p.sees("[aria-label=Network]", "9100 printer")
	p.accessible("network, people and power")

	p.do(chromedp.Navigate(bench))
	p.press("main", "Sessions")
	p.sees("main table", "services")
	p.accessible("sessions")
}

// One thing is done on many devices after it was said on how many, and rules of consent are made.
func TestConsoleOnMany(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.simulated(t, "hay-desk-01")
	w.simulated(t, "hay-desk-02")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/many"))
	p.focus("input[aria-label=What]")
	p.typed("hostname")
	p.accessible("on many")
	p.press("main", "All 2")
	p.press("main", "Do it")
	p.sees("[role=dialog]", "Run a command on 2 devices?")
	p.press("[role=dialog]", "Do it on 2")
	p.sees("main table", "hay-desk-02")
	p.sees("main", "2 of 2 devices answered.")
	p.do(chromedp.Navigate(p.url + "/consent"))
	p.press("main", "New rule")
	p.accessible("consent")
	p.press("main", "Save")
	p.sees("main table", "are asked first, for 30 s")
	rules := must(client.Result(w.owner.ListConsentRulesWithResponse(t.Context(), &api.ListConsentRulesParams{})))(t).Items
	if len(rules) != 1 || rules[0].Mode != "ask" || !rules[0].Absent {
		t.Errorf("%+v", rules)
	}
}

// A technician looks at settings and changes one, asks a query, keeps it, moves the border between the
// two, and takes a shell to a window of its own, whose recording they find and play.
func TestConsoleSettingsQueriesRecordings(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.records(t)
	p := w.open(t)
	p.signIn()
	bench := p.url + "/devices/" + d.id.String()
	p.do(chromedp.Navigate(bench + "?pane=settings,queries"))
	for _, folder := range []string{"configuration", "records", "sync.conf"} {
		p.openRow(folder)
	}
	p.press("[aria-label=Settings]", "wait")
	p.sees("[aria-label='Value of wait']", "wait")
	p.accessible("settings and queries")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Value of wait'] [aria-label=Value]").select()`))
	p.typed("30 s\r")
	p.sees("[role=status]", "wait in /etc/records/sync.conf is 30 s, and was forever.")
	p.sees("[aria-label=Settings]", "30 s")

	p.until(`document.querySelector("select[aria-label=Class]")?.options.length > 5`, "the classes")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { s.value = "process"; s.dispatchEvent(new Event("change", {bubbles: true})) })(document.querySelector("select[aria-label=Class]"))`))
	p.press("[aria-label=Queries]", "+ condition")
	p.focus("[aria-label='Compared with']")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { s.value = "name"; s.dispatchEvent(new Event("change", {bubbles: true})) })(document.querySelector("select[aria-label=Field]"))`))
	p.typed("records")
	p.until(`document.querySelector("[aria-label=Query]").value === 'process where name contains "records"'`, "the query as text")
	p.press("[aria-label=Queries]", "Ask")
	p.sees("[aria-label=Rows]", "recordsd")
	p.press("[aria-label=Queries]", "Save")
	p.typed("Records\r")
	p.until(`document.querySelector("select[aria-label='Saved queries']").selectedOptions[0].text === "Records"`, "the query saved")

	border := `document.querySelector("[role=separator]")`
	p.do(chromedp.Evaluate[chromedp.Void](border + ".focus()"))
	for range 5 {
		p.key("ArrowRight")
	}
	p.until(border+`.ariaValueNow === "60"`, "the border moved")
	p.do(chromedp.Navigate(bench))
	p.press("[aria-label=Tools]", "As last: Settings, Queries")
	p.until(border+`?.ariaValueNow === "60"`, "the border as it was left")

	p.do(chromedp.Navigate(bench + "/window/shell?shell=00000000-0000-4000-8000-00000000beef&title=Sync"))
	p.focus(".xterm-helper-textarea")
	p.until(`document.querySelector("[data-shell=open]") !== null`, "a shell")
	p.typed("ps\r")
	p.sees(".xterm-accessibility, .xterm-rows, [aria-label=Shells]", "Sync")
	w.await(t, "it is recorded", func() bool {
		return len(must(client.Result(w.owner.ListRecordingsWithResponse(t.Context(),
			&api.ListRecordingsParams{Text: new("systemd-journald")})))(t).Items) == 1
	})
	p.do(chromedp.Navigate(p.url + "/recordings"))
	p.focus("[aria-label='Search what was printed']")
	p.typed("journald")
	p.sees("table", "systemd-journald")
	p.accessible("recordings")
	p.press("table", "Play")
	p.sees("h1", "Shell at "+"sal-records")
	p.until(`[...document.querySelectorAll("main span")].some(e => / of /.test(e.innerText))`, "the time axis")
	p.accessible("a recording")
}
