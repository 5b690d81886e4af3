package page

import (
	"fmt"
	"net/http"
	"sync/atomic"
	"testing"
	"time"

	"moorwatch.example/test/wait"
)

// events is a stream of events of the service: it counts who listens, and sends what a test says.
type events struct {
	listeners, opened atomic.Int64
	send              chan string
	cut               chan bool
}

func (e *events) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	e.opened.Add(1)
	e.listeners.Add(1)
	defer e.listeners.Add(-1)
	w.Header().Set("Content-Type", "text/event-stream")
	fmt.Fprint(w, "retry: 100\n:\n\n")
	for {
		w.(http.Flusher).Flush()
		select {
		case <-r.Context().Done():
			return
		case <-e.cut:
			return
		case text := <-e.send:
			fmt.Fprint(w, text)
		}
	}
}

// listened opens a tab that listens to a stream: what it heard is in "heard", and "sight" hides and shows the page.
func listened(t *testing.T) (*tab, *events) {
	t.Helper()
	p, e := open(t), &events{send: make(chan string), cut: make(chan bool)}
	p.api.Handle("GET /stream", e)
	call[any](p, `() => {
		globalThis.heard = []; let visible = "visible";
		Object.defineProperty(document, "visibilityState", {get: () => visible});
		globalThis.sight = (v) => { visible = v ? "visible" : "hidden"; document.dispatchEvent(new Event("visibilitychange")); };
		globalThis.leave = part.stream.listen("/stream",
			{devices: (d) => heard.push("devices " + d), alerts: (d) => heard.push("alerts " + d)}, (live) => heard.push(live));
	}`)
	wait.Until(t, within, "the page listens", func() bool { return e.listeners.Load() == 1 })
	return p, e
}

// until waits until the page has heard something.
func (p *tab) until(what string) {
	p.Helper()
	wait.Until(p.T, within, "the page heard "+what, func() bool {
		return call[bool](p, `(what) => heard.map(String).includes(what)`, what)
	})
}

// Events reach what they are for; a page whose stream was cut knows it, and hears of what follows.
func TestEventsReachThePage(t *testing.T) {
	t.Parallel()
	p, e := listened(t)
	e.send <- "event: devices\ndata: {\"a\":1}\n\nevent: unknown\ndata: x\n\nevent: alerts\ndata: one\n\n"
	p.until("alerts one")
	if got := call[[]any](p, `() => heard`); fmt.Sprint(got) != `[true devices {"a":1} alerts one]` {
		t.Errorf("heard %v", got)
	}
	e.cut <- true
	p.until("false")
	wait.Until(t, within, "the page listens again", func() bool { return e.opened.Load() == 2 })
	e.send <- "event: alerts\ndata: two\n\n"
	p.until("alerts two")
	call[any](p, `() => leave()`)
	wait.Until(t, within, "nobody listens", func() bool { return e.listeners.Load() == 0 })
	call[any](p, `() => { sight(false); sight(true); }`)
	wait.Pause(t, 300*time.Millisecond)
	if n := e.opened.Load(); n != 2 {
		t.Errorf("after it left the page listened %d times", n-2)
	}
}

// A page that nobody sees holds no connection for long, of which a browser has few; a short look elsewhere costs nothing.
func TestAPageOutOfSightListensNotForLong(t *testing.T) {
	t.Parallel()
	p, e := listened(t)
	call[any](p, `() => { sight(false); sight(true); }`)
	call[any](p, `() => sight(false)`)
	e.send <- "event: alerts\ndata: still here\n\n"
	p.until("alerts still here")
	wait.Until(t, within, "it stops to listen", func() bool { return e.listeners.Load() == 0 })
	if n := e.opened.Load(); n != 1 {
		t.Errorf("it listened %d times", n)
	}
	call[any](p, `() => sight(true)`)
	wait.Until(t, within, "it listens again", func() bool { return e.listeners.Load() == 1 })
	e.send <- "event: alerts\ndata: back\n\n"
	p.until("alerts back")
}
