package test

import (
	"bytes"
	"image/jpeg"
	"io"
	"net/http"
	"slices"
	"testing"

	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
)

// The wall shows screens small: blurred where no policy says otherwise, only when they have changed,
// and not where it is forbidden; that somebody looked is on record once.
func TestWall(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	take := func(known string) (status int, tag string, body []byte) {
		t.Helper()
		in := api.GetScreenPictureParams{Width: new(320)}
		if known != "" {
			in.IfNoneMatch = &known
		}
		answer := must(w.owner.GetScreenPicture(t.Context(), d.id, &in))(t)
		defer answer.Body.Close()
		return answer.StatusCode, answer.Header.Get("ETag"), must(io.ReadAll(answer.Body))(t)
	}
	// colours counts how many differ clearly: writing has many edges, what is blurred has few.
	edges := func(b []byte) (n int) {
		m := must(jpeg.Decode(bytes.NewReader(b)))(t)
		if m.Bounds().Dx() != 320 {
			t.Fatalf("the picture measures %s", m.Bounds())
		}
		for y := range m.Bounds().Dy() {
			for x := 1; x < 320; x++ {
				a, _, _, _ := m.At(x-1, y).RGBA()
				b, _, _, _ := m.At(x, y).RGBA()
				if max(a, b)-min(a, b) > 0x1800 {
					n++
				}
			}
		}
		return n
	}
	status, _, blurred := take("")
	if status != http.StatusOK {
		t.Fatalf("%d: %s", status, blurred)
	}
	rule := api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("wall"), Mode: "silent"}
	made := must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(), rule)))(t)
	_, _, sharp := take("")
	if a, b := edges(blurred), edges(sharp); a*3 > b {
		t.Errorf("the blurred picture has %d edges, the sharp one %d", a, b)
	}
	w.await(t, "a picture that has not changed is not sent again", func() bool {
		_, tag, _ := take("")
		status, _, body := take(tag)
		return status == http.StatusNotModified && len(body) == 0
	})
	for _, mode := range []string{"ask", "tell"} {
		rule.Mode = mode
		_, err := client.Result(w.owner.SetConsentRuleWithResponse(t.Context(), made.ID, rule))
		refused(t, err, http.StatusBadRequest, "nobody is asked about the wall")
	}
	rule.Mode = "forbid"
	must(client.Result(w.owner.SetConsentRuleWithResponse(t.Context(), made.ID, rule)))(t)
	if status, _, body := take(""); status != http.StatusForbidden {
		t.Errorf("it is forbidden, and answered with %d %s", status, body)
	}
	audit := must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{})))(t).Items
	audit = slices.DeleteFunc(audit, func(e api.AuditEntry) bool { return e.Action != "wall.view" })
	if len(audit) != 1 || audit[0].Detail == nil || *audit[0].Detail != "blurred" {
		t.Errorf("%+v", audit)
	}
}

// A technician sees many screens, opens one of a simulated desktop, works on it, talks, and replays
// what was recorded.
func TestConsoleWall(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.unasked(t)
	must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(),
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("wall"), Mode: "silent"})))(t)
	d := w.simulated(t, "hay-desk-01")
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/wall"))
	p.until(`document.querySelector("li canvas")?.width > 100`, "a picture")
	p.accessible("the wall")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("li a").click()`))
	p.until(`document.querySelector("[role=application] canvas")?.width === 1280`, "the desktop")
	p.press("[aria-label=Screen]", "Talk")
	p.focus("[aria-label=Say]")
	p.typed("Shall I close the letter?\r")
	p.sees("[aria-label=Talk]", "Shall I close the letter?")
	p.focus("[role=application]")
	p.typed("with love")
	p.press("[aria-label=Screen]", "Look on")
	w.await(t, "it is looked on alone", func() bool {
		v := w.view(t, w.owner, d, client.ScreenOptions{})
		defer v.Close()
		v.until(t, "who is there is told", func() bool {
			return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return e.Stage != nil })
		})
		i := slices.IndexFunc(v.events, func(e link.ScreenEvent) bool { return e.Stage != nil })
		return v.events[i].Stage.Viewers[0].Mode == link.ScreenView
	})
	p.do(chromedp.Navigate(p.url + "/recordings"))
	p.until(`[...document.querySelectorAll("tr")].some(r => r.innerText.startsWith("screen") && !r.innerText.includes("open"))`,
		"the recording")
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("tr")].findLast(r => r.innerText.startsWith("screen")).querySelector("td:last-child a").click()`))
	p.until(`document.querySelector("canvas[role=img]")?.width === 1280`, "the replay")
	p.sees("[aria-label='What was said']", "Shall I close the letter?")
	p.accessible("the replay of a screen")
}
