package test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"moorwatch.example/agent/reporting"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
)

// A policy protects agents from being taken off: only the code that the console tells opens that, at one device
// alone. A device is moved to another organisation with its history.
func TestProtectedAndMoved(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	one := w.simulated(t, "hay-desk-01")
	dir := one.dir
	other := w.simulated(t, "hay-desk-02")
	if err := reporting.MayLeave(dir, ""); err != nil {
		t.Errorf("an agent that nobody protects: %v", err)
	}
	must(client.Made(w.owner.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "Kept", Scope: health.Scope{Kind: health.Everywhere}, Settings: []health.Setting{},
			Agent: &health.Agent{Protect: true}})))(t)
	_, err := client.Made(w.owner.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "Sly", Scope: health.Scope{Kind: health.Everywhere}, Settings: []health.Setting{},
			Agent: &health.Agent{RemovalDigest: "ab"}}))
	refused(t, err, http.StatusBadRequest, "by which code")
	w.await(t, "the agent knows that it is protected", func() bool { return reporting.MayLeave(dir, "") != nil })
	code := must(client.Result(w.owner.GetRemovalCodeWithResponse(t.Context(), one.id)))(t).Code
	theirs := must(client.Result(w.owner.GetRemovalCodeWithResponse(t.Context(), other.id)))(t).Code
	if err := reporting.MayLeave(dir, theirs); err == nil || theirs == code {
		t.Errorf("the code of another device %s, of this one %s: %v", theirs, code, err)
	}
	if err := reporting.MayLeave(dir, " "+strings.ToUpper(code)+"\n"); err != nil {
		t.Errorf("its own code: %v", err)
	}
	technician := w.person(t, "technician")
	_, err = client.Result(technician.GetRemovalCodeWithResponse(t.Context(), one.id))
	refused(t, err, http.StatusForbidden, "It needs the permission")

	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: otherOrganisation, Site: otherSite})))(t)
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices/" + one.id.String()))
	p.until(`(d => d ? (d.open = true) : false)(document.querySelector("aside details"))`, "what becomes of the device")
	p.until(`[...document.querySelector("[aria-label='Site to move it to']").options].some(o => o.text === "`+otherSite+`")`,
		"the other site")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { s.value = [...s.options].find(o => o.text === "` + otherSite +
		`").value; s.dispatchEvent(new Event("change", { bubbles: true })); })(document.querySelector("[aria-label='Site to move it to']"))`))
	p.accessible("moving a device")
	p.press("aside details", "Move")
	p.sees("main header", otherOrganisation+", "+otherSite)
	p.press("aside details", "Show its removal code")
	p.sees("aside details", code)
	w.await(t, "it is where it was moved to, still connected", func() bool {
		d := w.device(t, one.id)
		return d.Device.Site == otherSite && d.Device.Online
	})
	moved := 0
	for _, e := range must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{})))(t).Items {
		if e.Action == "device.move" || e.Action == "device.removal-code" {
			moved++
		}
	}
	if moved != 4 {
		t.Errorf("%d actions are on record", moved)
	}
	err = client.Done(w.owner.MoveDeviceWithResponse(t.Context(), one.id, api.NewSite{Organisation: otherOrganisation, Site: "Nowhere"}))
	refused(t, err, http.StatusUnprocessableEntity, "There is no site")
}
