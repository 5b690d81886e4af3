package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
)

// fill types into the field of a label.
func (p *page) fill(label, text string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("label")].find(e => e.innerText.trim().startsWith(` + quoted(label) + `))?.control`
	p.until(find+` != null`, "a field "+label)
	p.do(chromedp.Evaluate[chromedp.Void](find + ".focus()"))
	p.typed(text)
}

func quoted(s string) string { return `"` + s + `"` }

// Somebody adds an authenticator and a passkey to their account, and signs in with each.
func TestConsoleSecondFactors(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	p := w.open(t)
	p.url = strings.Replace(p.url, "127.0.0.1", "localhost", 1) // passkeys are bound to a name
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/account"))
	p.press("[aria-label='Second factors']", "Add an authenticator")
	p.fill("Your password", "wrong password\r")
	p.sees("[role=alert]", "The password is wrong.")
	p.until(`document.querySelector("input[type=password]") !== null`, "the password asked for again")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("input[type=password]").select()`))
	p.typed(password + "\r")
	p.until(`document.querySelector("img[alt*=QR]")?.naturalWidth > 100`, "a QR code")
	p.accessible("an authenticator being added")
	secret := ask[string](p, `document.querySelector("form code").innerText`)
	p.fill("The code that it shows now", must(totp.GenerateCode(secret, time.Now()))(t)+"\r")
	p.sees("[role=status]", "Recovery codes.")
	p.accessible("recovery codes")
	p.press("main", "I have kept them")

	if _, err := chromedp.Call(p.ctx, webauthn.Enable, webauthn.EnableParams{}); err != nil {
		p.fail(err)
	}
	if _, err := chromedp.Call(p.ctx, webauthn.AddVirtualAuthenticator,
		webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: "ctap2", Transport: "internal", HasUserVerification: true, IsUserVerified: true, HasResidentKey: true,
			AutomaticPresenceSimulation: true}}); err != nil {
		p.fail(err)
	}
	p.press("[aria-label='Second factors']", "Add a passkey")
	p.fill("Your password", password+"\r")
	p.sees("[aria-label='Second factors']", "Passkey this computer")
	p.sees("[aria-label='Where you are signed in']", "here")

	again := func() {
		t.Helper()
		p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label^='Account of']").click()`))
		p.press("[role=menu]", "Sign out")
		p.focus("input[type=email]")
		p.typed("robin@curlew-sedge.example")
		p.focus("input[type=password]")
		p.typed(password + "\r")
	}
	again()
	p.press("main", "Use the passkey")
	p.sees("h1", "What needs a person now")
	again()
	p.press("main", "Use the authenticator")
	p.accessible("the second step")
	p.fill("The code", "000000\r")
	p.sees("[role=alert]", "This does not fit.")
	p.fill("The code", must(totp.GenerateCode(secret, time.Now().Add(30*time.Second)))(t)+"\r")
	p.sees("h1", "What needs a person now")
}

// An owner makes a role, adds somebody who holds it, and sees what they may; who holds it sees their
// part of the console alone.
func TestConsolePeople(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	mine := w.simulated(t, "hay-desk-01")
	w.elsewhere(t, "bog-desk-01")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/people"))
	p.press("main", "Roles")
	p.press("main", "New role")
	p.fill("Name", "night-desk")
	p.do(chromedp.Click(chromedp.CSS("[aria-label='act with services']")))
	p.accessible("a new role")
	p.press("main", "Save")
	p.sees("table", "night-desk")
	p.press("main", "People")
	p.press("main", "Add a person")
	p.fill("Name", "Maren Tussok")
	p.fill("E-mail", "maren@curlew-sedge.example")
	choose := func(label, option string) {
		t.Helper()
		p.until(`[...(document.querySelector("select[aria-label='`+label+`']")?.options ?? [])].some(o => o.text.startsWith("`+option+`"))`,
			option)
		p.do(chromedp.Evaluate[chromedp.Void](`(s => { s.value = [...s.options].find(o => o.text.startsWith("` + option +
			`")).value; s.dispatchEvent(new Event("change", {bubbles: true})) })(document.querySelector("select[aria-label='` + label +
			`']"))`))
	}
	choose("Role", "night-desk")
	choose("Set for", "site")
	choose("Which site", site)
	p.accessible("a person being added")
	p.press("main", "Save")
	p.sees("[role=status]", "Hand this to Maren Tussok")
	p.sees("table", "night-desk site "+site)
	link := ask[string](p, `document.querySelector("[role=status] code").innerText`)

	p.do(chromedp.Navigate(link))
	p.focus("input[type=password]")
	p.typed(password + "\r")
	p.sees("h1", "What needs a person now")
	p.do(chromedp.Navigate(p.url + "/devices"))
	p.sees("main", "hay-desk-01")
	if shown := ask[string](p, `document.body.innerText`); strings.Contains(shown, "bog-desk-01") || strings.Contains(shown, "Audit") {
		t.Errorf("who holds a role at one site sees %q", shown)
	}
	p.do(chromedp.Navigate(p.url + "/devices/" + mine.id.String()))
	p.sees("[aria-label=Tools]", "Services")
	if tools := ask[string](p, `document.querySelector("[aria-label=Tools]").innerText`); strings.TrimSpace(tools) != "Services" {
		t.Errorf("the tools are %q", tools)
	}
}
