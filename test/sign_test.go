package test

import (
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
	"moorwatch.example/core/session"
)

// The person at a desktop sees who looks at it, on a sign of the desktop's own; what a technician
// points at, draws and writes is on their screen, and what they write back is heard; by the sign they
// end the session. Where the policy has them told nothing, there is no sign.
func TestSignOnADesktop(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("import"); err != nil {
		t.Skip("import is missing")
	}
	display := desktop(t)
	w := begin(t, false)
	d := w.machine(t, "hay-desk-02")
	must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(),
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("screen"), Mode: string(session.Tell)})))(t)
	v := w.view(t, w.owner, d, client.ScreenOptions{Desktop: display, Mode: link.ScreenShare})
	v.until(t, "the desktop tells of its sign", func() bool {
		return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return e.Begin != nil && e.Begin.Signed && e.Begin.Marks })
	})
	w.await(t, "the sign is on the screen", func() bool { return window(display, "Moorwatch") != "" })
	if window(display, "Somebody helps") != "" {
		t.Error("the person is told twice")
	}
	at := func(x, y int) uint32 {
		r, g, b, _ := xPicture(t, display).At(x, y).RGBA()
		return r>>8<<16 | g>>8<<8 | b>>8
	}
	const bright = 0xc233a6
	send := func(in link.ScreenInput) {
		t.Helper()
		if err := v.Send(t.Context(), in); err != nil {
			t.Fatal(err)
		}
	}
	send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkLine, Points: []link.ScreenPoint{{X: 100, Y: 300}, {X: 300, Y: 300}}}})
	send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkPoint, Points: []link.ScreenPoint{{X: 100, Y: 400}}}})
	send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkNote, Points: []link.ScreenPoint{{X: 400, Y: 500}},
		Text: "Press this one"}})
	w.await(t, "the marks are on the person's screen", func() bool {
		return at(200, 300) == bright && at(100, 384) == bright && at(100, 400) != bright && at(402, 502) == bright
	})
	if on(display, "xdotool", "mousemove", "200", "300", "click", "1") != nil {
		t.Error("the pointer does not pass through a mark")
	}
	send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkClear}})
	w.await(t, "the marks are gone", func() bool { return at(200, 300) != bright && at(402, 502) != bright })

	send(link.ScreenInput{Note: "Shall I look at the printer?"})
	// The sign is 320 wide, 16 from the edge; its field stands above the button at its lower end.
	high := func() int {
		out, err := exec.Command("sh", "-c", "DISPLAY="+display+" xdotool getwindowgeometry --shell "+window(display, "Moorwatch")+
			" | sed -n 's/HEIGHT=//p'").Output()
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, c := range strings.TrimSpace(string(out)) {
			n = 10*n + int(c-'0')
		}
		return n
	}
	w.await(t, "what was said is on the sign", func() bool { return high() > 160 })
	bottom := 16 + high()
	if err := on(display, "xdotool", "mousemove", "500", strconv.Itoa(bottom-12-30-6-14), "click", "1", "type", "--delay", "5",
		"Yes, please"); err != nil {
		t.Fatal(err)
	}
	if err := on(display, "xdotool", "key", "Return"); err != nil {
		t.Fatal(err)
	}
	v.until(t, "the person's answer is heard", func() bool {
		return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool {
			return e.Note != nil && e.Note.From == "person" && e.Note.Text == "Yes, please"
		})
	})
	w.await(t, "it is on the sign too", func() bool { return 16+high() > bottom })
	bottom = 16 + high()
	if err := on(display, "xdotool", "mousemove", "700", strconv.Itoa(bottom-12-15), "click", "1"); err != nil {
		t.Fatal(err)
	}
	v.until(t, "the person ends the session", func() bool {
		return slices.ContainsFunc(v.events, func(e link.ScreenEvent) bool { return strings.Contains(e.End, "ended the session") })
	})
	w.await(t, "the sign is gone", func() bool { return window(display, "Moorwatch") == "" })

	all := must(client.Result(w.owner.ListConsentRulesWithResponse(t.Context(), &api.ListConsentRulesParams{})))(t).Items
	must(client.Result(w.owner.SetConsentRuleWithResponse(t.Context(), all[0].ID,
		api.NewConsentRule{Scope: all[0].Scope, Tool: new("screen"), Mode: string(session.Silent), KeepDays: new(30)})))(t)
	if now := must(client.Result(w.owner.ListConsentRulesWithResponse(t.Context(),
		&api.ListConsentRulesParams{})))(t).Items; now[0].KeepDays != 30 || now[0].Unrecorded {
		t.Errorf("%+v", now[0])
	}
	quiet := w.view(t, w.owner, d, client.ScreenOptions{Desktop: display})
	quiet.until(t, "it begins without a sign", func() bool {
		return slices.ContainsFunc(quiet.events, func(e link.ScreenEvent) bool { return e.Begin != nil && !e.Begin.Signed })
	})
	if window(display, "Moorwatch") != "" {
		t.Error("there is a sign where nobody is to be told")
	}
}
