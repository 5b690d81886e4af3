package screen

import (
	"bytes"
	"encoding/json"
	"image"
	"image/jpeg"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
	"moorwatch.example/test/wait"
)

func TestDesktopIsShown(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 320, 200)
	_, url := serve(t, d)
	d.paint(image.Rect(10, 10, 100, 100), 0x204060)
	l := look(t, url, "desktop=one&name=Robin")
	l.sees(d, "the desktop at first")
	l.until("how it begins", func(e link.ScreenEvent) bool {
		return e.Begin != nil && e.Begin.Desktop.Name == "wren" && len(e.Begin.Monitors) == 1 && !e.Begin.Control && !e.Begin.Signed
	})
	for n := range 20 {
		d.paint(image.Rect(n*7, n*5, n*7+60, n*5+30), uint32(n)*0x0A0B0C)
	}
	l.sees(d, "what was painted")
	p, err := screen.NewPicture(200, 120) // a monitor is unplugged
	if err != nil {
		t.Fatal(err)
	}
	d.mu.Lock()
	d.picture = p
	d.mu.Unlock()
	d.change(host.ScreenChange{Layout: true, Damage: []image.Rectangle{p.Bounds()}})
	d.paint(image.Rect(0, 0, 50, 50), 0xFFFFFF)
	l.sees(d, "the desktop in its new size")
	l.send(link.ScreenInput{Again: true})
	d.paint(image.Rect(0, 0, 20, 20), 0x112233)
	l.sees(d, "the desktop begun anew")
}

// Who looks on touches nothing, whatever they send; who may work on it does.
func TestHandsOff(t *testing.T) {
	t.Parallel()
	inputs := []link.ScreenInput{{Key: &link.ScreenKey{Key: "a", Down: true}}, {Pointer: &link.ScreenPointer{X: 5, Y: 6, Buttons: 1}},
		{Wheel: &link.ScreenPoint{X: 0, Y: -1}}, {Text: "heather"}, {Attend: true}, {Clip: &link.ScreenClip{Text: "heather"}}}
	d := newDesk(t, 64, 64)
	_, url := serve(t, d)
	l := look(t, url, "desktop=one&name=Robin&mode=take")
	l.sees(d, "the desktop")
	for _, in := range inputs {
		l.send(in)
	}
	l.send(link.ScreenInput{Mode: link.ScreenShare})
	l.told("You may look on, and not work on this screen.")
	l.send(link.ScreenInput{Mode: "rule"})
	l.told("There is no such way to take part.")
	l.send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkPoint, Points: []link.ScreenPoint{{X: 1, Y: 1}}}})
	l.told("You may look on, and not show things on this screen.")
	d.mu.Lock()
	if len(d.did) != 0 {
		t.Errorf("one who looks on did %v", d.did)
	}
	d.mu.Unlock()

	w := look(t, url, "desktop=one&name=Ines&control=true")
	w.sees(d, "the desktop") // who does something before it is there does nothing
	for _, in := range inputs {
		w.send(in)
	}
	for _, what := range []string{"key a true", "point 5,6 1", "wheel 0,-1", "type heather", "attend"} {
		d.await(t, what, 1)
	}
	w.told("the system does not let it be pressed")
	w.told("The clipboard is not shared here")
	w.send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkPoint, Points: []link.ScreenPoint{{X: 1, Y: 1}}}})
	w.told("This desktop shows no marks.")
	if !d.done("clip heather", 0) {
		t.Error("the clipboard was set without the right to")
	}
	c := look(t, url, "desktop=one&name=Ida&control=true&clipboard=true")
	c.sees(d, "the desktop")
	c.send(link.ScreenInput{Clip: &link.ScreenClip{Text: "from there"}})
	d.await(t, "clip from there", 1)
	d.change(host.ScreenChange{Clip: &link.ScreenClip{Text: "copied at the desk"}})
	c.until("what was copied", func(e link.ScreenEvent) bool { return e.Clip != nil && e.Clip.Text == "copied at the desk" })
	w.mu.Lock()
	defer w.mu.Unlock()
	if slices.ContainsFunc(w.events, func(e link.ScreenEvent) bool { return e.Clip != nil }) {
		t.Error("who may not share the clipboard was told of it")
	}
}

// What is down is let go of when its viewer is gone, or is not heard of; that it is down is noted for an agent that
// follows one that was killed.
func TestKeysAreLetGo(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 64, 64)
	s, url := serve(t, d)
	noted := func() bool { _, err := os.Stat(filepath.Join(s.Dir, heldMark)); return err == nil }
	l := look(t, url, "desktop=one&control=true")
	l.sees(d, "the desktop")
	l.send(link.ScreenInput{Key: &link.ScreenKey{Key: "Shift", Down: true}})
	d.await(t, "key Shift true", 1)
	wait.Until(t, time.Minute, "it is noted that a key is down", noted)
	d.await(t, "release", 1) // after two seconds without a word
	s.Begin()                // as after the agent was killed
	if !d.done("let go of all", 1) || noted() {
		t.Error("what an agent that was killed left pressed stays pressed")
	}
	s.Begin()
	if !d.done("let go of all", 1) {
		t.Error("it lets go though nothing was down")
	}
	l.send(link.ScreenInput{Pointer: &link.ScreenPointer{X: 1, Y: 1, Buttons: 1}})
	d.await(t, "point 1,1 1", 1)
	l.conn.CloseNow()
	d.await(t, "closed", 1) // which lets go of what this viewer holds
	wait.Until(t, time.Minute, "it is noted no more", func() bool { return !noted() })
}

// One hand is on the mouse at a time; the person at the device has one too.
func TestOneHandAtATime(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 64, 64)
	_, url := serve(t, d)
	robin, ines := look(t, url, "desktop=one&name=Robin&control=true"), look(t, url, "desktop=one&name=Ines&control=true")
	robin.sees(d, "the desktop")
	ines.sees(d, "the desktop")
	robin.until("both", func(e link.ScreenEvent) bool { return e.Stage != nil && len(e.Stage.Viewers) == 2 })
	robin.send(link.ScreenInput{Pointer: &link.ScreenPointer{X: 1, Y: 1}})
	d.await(t, "point 1,1 0", 1)
	ines.send(link.ScreenInput{Pointer: &link.ScreenPointer{X: 2, Y: 2}})
	ines.send(link.ScreenInput{Key: &link.ScreenKey{Key: "x", Down: true}}) // keys are no matter of hands
	d.await(t, "key x true", 1)
	if !d.done("point 2,2 0", 0) {
		t.Error("two hands move the mouse at once")
	}
	ines.until("whose hand it is", func(e link.ScreenEvent) bool {
		return e.Stage != nil && slices.ContainsFunc(e.Stage.Viewers, func(v link.ScreenViewer) bool {
			return v.ID == e.Stage.Hand &&
				v.Name == "Robin"
		})
	})
	ines.until("nobody's hand", func(e link.ScreenEvent) bool {
		return e.Stage != nil && e.Stage.Hand == "" && len(e.Stage.Viewers) == 2
	})
	wait.Until(t, time.Minute, "the other's turn", func() bool {
		ines.send(link.ScreenInput{Pointer: &link.ScreenPointer{X: 3, Y: 3}})
		d.mu.Lock()
		defer d.mu.Unlock()
		return slices.Contains(d.did, "point 3,3 0")
	})
	at := image.Pt(9, 9)
	wait.Until(t, time.Minute, "the person's hand", func() bool {
		d.change(host.ScreenChange{Pointer: &at})
		robin.mu.Lock()
		defer robin.mu.Unlock()
		return slices.ContainsFunc(robin.events, func(e link.ScreenEvent) bool { return e.Stage != nil && e.Stage.Hand == person })
	})
	robin.until("where they point", func(e link.ScreenEvent) bool { return e.Pointer != nil && e.Pointer.X == 9 && e.Pointer.Y == 9 })
}

// Who takes the desktop over has the person's keyboard and mouse rest, until the person takes them back.
func TestTakenOverAndBack(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 64, 64)
	_, url := serve(t, signed{d})
	l := look(t, url, "desktop=one&name=Robin&control=true&sign=true&mode=take")
	d.await(t, "hold true", 1)
	d.await(t, "sign Robin has taken over your screen. true", 1)
	d.mu.Lock()
	back := d.back
	d.mu.Unlock()
	back()
	l.told("took their keyboard and mouse back")
	d.await(t, "sign Robin sees your screen and works on it with you. false", 2) // at first, and now
	l.send(link.ScreenInput{Mode: link.ScreenTake})
	d.await(t, "hold true", 2)
	l.send(link.ScreenInput{Mode: link.ScreenView})
	d.await(t, "hold false", 1)
	d.await(t, "release", 1)
	l.send(link.ScreenInput{Text: "after that"})
	l.send(link.ScreenInput{Note: "hello\x1b there"})
	d.await(t, "said Robin: hello there", 1)
	if !d.done("type after that", 0) {
		t.Error("who looks on again still types")
	}
	l.send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkNote, Points: []link.ScreenPoint{{X: 3, Y: -4}}, Text: "press here"}})
	d.await(t, "mark Robin note [(3,0)] press here", 1)
	l.send(link.ScreenInput{Mark: &link.ScreenMark{Kind: link.MarkLine}})
	l.told("That mark cannot be shown.")

	// The person answers, and ends it.
	d.mu.Lock()
	acts := d.sign.acts
	d.mu.Unlock()
	acts.Say("thank you")
	l.until("the answer", func(e link.ScreenEvent) bool {
		return e.Note != nil && e.Note.From == person && e.Note.Name == "wren" && e.Note.Text == "thank you"
	})
	acts.End()
	l.until("its end", func(e link.ScreenEvent) bool { return e.Ended })
	l.conn.CloseNow()
	d.await(t, "no sign", 1)
}

// Another desktop follows one that ended: a log-in screen, or that of who signs in.
func TestAnotherDesktopFollows(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 64, 64)
	_, url := serve(t, d)
	l := look(t, url, "desktop=one&control=true")
	d.paint(image.Rect(0, 0, 9, 9), 0xABCDEF)
	l.sees(d, "the desktop")
	d.end(false)
	l.told("The desktop has ended.")
	wait.Until(t, time.Minute, "it is opened again", func() bool { d.mu.Lock(); defer d.mu.Unlock(); return len(d.opened) == 1 })
	d.paint(image.Rect(20, 20, 40, 40), 0x123456)
	l.sees(d, "the desktop that follows")
}

// What cannot be looked at is refused before anything is sent, and so is one viewer too many.
func TestRefused(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 64, 64)
	_, url := serve(t, d)
	dial := func(query string) int {
		t.Helper()
		conn, answer, err := websocket.Dial(t.Context(), "ws"+strings.TrimPrefix(url, "http")+"/screen?"+query, nil)
		if err == nil {
			conn.CloseNow()
		}
		return answer.StatusCode
	}
	if got := dial("desktop=nosuch"); got != http.StatusNotFound {
		t.Errorf("a desktop that is not there: %d", got)
	}
	for range mostViewers {
		look(t, url, "desktop=one").sees(d, "the desktop")
	}
	if got := dial("desktop=one"); got != http.StatusConflict {
		t.Errorf("the viewer too many: %d", got)
	}
	// Who sends what is no input is cut off.
	_, other := serve(t, d)
	l := look(t, other, "desktop=one")
	l.sees(d, "the desktop")
	l.conn.Write(t.Context(), websocket.MessageText, []byte("[]"))
	<-l.over
}

// A small picture has a tag by which one that is known is not sent again, and can be blurred until nothing is read.
func TestSmallPicture(t *testing.T) {
	t.Parallel()
	d := newDesk(t, 640, 400)
	_, url := serve(t, d)
	for x := 0; x < 640; x += 2 { // stripes, as fine as writing
		d.paint(image.Rect(x, 0, x+1, 400), 0xFFFFFF)
	}
	ask := func(in link.ScreenPictureOrder) (int, string, image.Image) {
		t.Helper()
		body, err := json.Marshal(in)
		if err != nil {
			t.Fatal(err)
		}
		r, err := http.Post(url+"/screen/picture", "application/json", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		if r.StatusCode != http.StatusOK {
			return r.StatusCode, r.Header.Get("ETag"), nil
		}
		p, err := jpeg.Decode(r.Body)
		if err != nil {
			t.Fatal(err)
		}
		return r.StatusCode, r.Header.Get("ETag"), p
	}
	_, tag, p := ask(link.ScreenPictureOrder{Desktop: "one", Width: 640})
	if p.Bounds() != image.Rect(0, 0, 640, 400) || tag == "" {
		t.Errorf("it is %v, tagged %q", p.Bounds(), tag)
	}
	if status, again, _ := ask(link.ScreenPictureOrder{Desktop: "one", Width: 640, Known: tag}); status != http.StatusNoContent ||
		again != tag {
		t.Errorf("one that is known: %d, %q", status, again)
	}
	d.paint(image.Rect(0, 0, 64, 64), 0x204060)
	if status, again, _ := ask(link.ScreenPictureOrder{Desktop: "one", Width: 640, Known: tag}); status != http.StatusOK || again == tag {
		t.Errorf("one that has changed: %d", status)
	}
	for width, want := range map[int]int{1: 64, 200: 160, 5000: 640} {
		if _, _, p = ask(link.ScreenPictureOrder{Desktop: "one", Width: width}); p.Bounds().Dx() != want {
			t.Errorf("%d wide it is %d", width, p.Bounds().Dx())
		}
	}
	_, _, p = ask(link.ScreenPictureOrder{Desktop: "one", Width: 640, Blur: true})
	for x := 300; x < 340; x++ {
		left, _, _, _ := p.At(x, 200).RGBA()
		if left>>8 < 96 || left>>8 > 160 {
			t.Fatalf("blurred, a stripe can be told at %d: %d", x, left>>8)
		}
	}
	if status, _, _ := ask(link.ScreenPictureOrder{Desktop: "nosuch"}); status != http.StatusNotFound {
		t.Errorf("of a desktop that is not there: %d", status)
	}
}
