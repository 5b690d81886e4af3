package page

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
)

// desk is what stands in for the worker that decodes a screen: it keeps what it is told, and reports what a test says.
// The connection that is tried is "c", and what it told of its state "states".
const desk = `(device, desktop) => {
	globalThis.told = []; globalThis.states = []; globalThis.waiting = [];
	globalThis.Worker = class {
		constructor() { globalThis.worker = this; }
		postMessage(m) {
			if (!m.canvas) { told.push(m); for (const look of [...waiting]) look(); }
		}
		terminate() { told.push({terminated: true}); for (const look of [...waiting]) look(); }
	};
	// until waits until holds gives something else than undefined.
	globalThis.until = (holds) => new Promise((done, fail) => {
		const late = setTimeout(() => fail(new Error("nothing of the kind after 20 s: " + JSON.stringify({told, states}))), 20000);
		const look = () => {
			const v = holds();
			if (v === undefined) return;
			clearTimeout(late); waiting.splice(waiting.indexOf(look), 1); done(v);
		};
		waiting.push(look); look();
	});
	globalThis.report = (r) => worker.onmessage({data: r});
	globalThis.c = new part.screen.Connection(device, desktop ?? undefined);
	c.onState = (s) => { states.push(s); for (const look of [...waiting]) look(); };
}`

// sessions answers those who ask for a session with what stands first, or the last of it.
type sessions struct {
	mu      sync.Mutex
	answers []int // statuses
	asked   []map[string]any
}

func (s *sessions) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var body map[string]any
	json.NewDecoder(r.Body).Decode(&body)
	s.asked = append(s.asked, body)
	status := s.answers[0]
	if len(s.answers) > 1 {
		s.answers = s.answers[1:]
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if status != http.StatusCreated {
		fmt.Fprintf(w, `{"title": "Status %d.", "status": %d}`, status, status)
		return
	}
	fmt.Fprint(w, `{"id": "11111111-1111-1111-1111-111111111111"}`)
}

// watched opens a tab with a connection to a screen.
func watched(t *testing.T, desktop any, answers ...int) (*tab, *sessions) {
	t.Helper()
	p := open(t)
	s := &sessions{answers: answers}
	p.api.Handle("POST /api/v1/devices/one/sessions", s)
	call[any](p, desk, "one", desktop)
	return p, s
}

const (
	connected = `() => until(() => told.find(m => m.connect)?.connect)`
	lastState = `() => states.at(-1)?.is`
)

// A screen is asked for, connected to, and connected to again when the connection is lost: the same desktop, or whatever
// there is where that one has ended meanwhile.
func TestScreenIsConnectedAgain(t *testing.T) {
	t.Parallel()
	p, s := watched(t, nil, http.StatusCreated, http.StatusServiceUnavailable, http.StatusCreated, http.StatusGone, http.StatusCreated)
	at := call[string](p, connected)
	if !strings.HasPrefix(at, "ws:") || !strings.HasSuffix(at, "/api/v1/devices/one/screen?") {
		t.Errorf("it connects to %s", at)
	}
	call[any](p, `() => { report({open: true}); report({event: {begin: {desktop: {id: "seat0"}}}}); }`)
	if is := call[string](p, lastState); is != "open" {
		t.Errorf("it is %s", is)
	}
	lost := `() => { told.length = 0; report({closed: true}); return (` + connected + `)(); }`
	if again := call[string](p, lost); !strings.HasSuffix(again, "/screen?desktop=seat0") {
		t.Errorf("it comes back to %s", again)
	}
	call[any](p, `() => report({open: true})`)
	if again := call[string](p, lost); strings.Contains(again, "desktop=") {
		t.Errorf("when the desktop has ended it wants the same: %s", again)
	}
	if got := call[[]string](p, `() => states.map(s => s.is)`); !slices.Equal(got, []string{"connecting", "open", "away", "open", "away"}) {
		t.Errorf("it was %q", got)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var asked []any
	for _, a := range s.asked {
		asked = append(asked, a["desktop"])
	}
	if !slices.Equal(asked, []any{nil, "seat0", "seat0", "seat0", nil}) || s.asked[0]["tool"] != "screen" {
		t.Errorf("asked for %v", s.asked)
	}
}

// Who was refused at a desktop and asks again asks there, and not whoever sits at the first.
func TestScreenIsAskedForAgainAtTheSameDesktop(t *testing.T) {
	t.Parallel()
	p, s := watched(t, ":1", http.StatusForbidden, http.StatusCreated)
	call[any](p, `() => until(() => states.find(s => s.is === "ended"))`)
	if at := call[string](p, `() => { c.restart(); return (`+connected+`)(); }`); !strings.HasSuffix(at, "/screen?desktop=%3A1") {
		t.Errorf("it connects to %s", at)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.asked) != 2 || s.asked[1]["desktop"] != ":1" {
		t.Errorf("asked for %v", s.asked)
	}
}

// What is refused is not asked for again, and says why.
func TestScreenThatIsRefused(t *testing.T) {
	t.Parallel()
	for _, status := range []int{http.StatusForbidden, http.StatusConflict} {
		p, s := watched(t, nil, status)
		why := call[string](p, `() => until(() => states.find(s => s.is === "ended")?.why)`)
		if why != fmt.Sprintf("Status %d.", status) || len(s.asked) != 1 {
			t.Errorf("ended as %q after %d tries", why, len(s.asked))
		}
	}
	// While it is away, a device that is not there yet is tried again, and one that may not be seen any more is not.
	p, s := watched(t, nil, http.StatusCreated, http.StatusConflict, http.StatusForbidden)
	call[any](p, connected)
	call[any](p, `() => { report({open: true}); report({closed: true}); }`)
	if why := call[string](p, `() => until(() => states.find(s => s.is === "ended")?.why)`); why != "Status 403." || len(s.asked) != 3 {
		t.Errorf("ended as %q after %d tries", why, len(s.asked))
	}
	if n := call[int](p, `() => { report({closed: true}); return states.filter(s => s.is === "ended").length; }`); n != 1 {
		t.Errorf("it ended %d times", n)
	}
}

// The end that the device tells is the end: nothing is tried again, and what is typed goes nowhere.
func TestScreenThatEnds(t *testing.T) {
	t.Parallel()
	p, _ := watched(t, nil, http.StatusCreated)
	call[any](p, connected)
	got := call[[]any](p, `() => {
		const events = []; c.onEvent = (e) => events.push(e);
		report({open: true}); told.length = 0;
		report({event: {end: "The person there ended it."}}); report({closed: true});
		c.key({key: "a", code: "KeyA", down: true});
		return [states.at(-1), events.length, told]; }`)
	state := got[0].(map[string]any)
	if state["is"] != "ended" || state["why"] != "The person there ended it." || got[1] != 1.0 || len(got[2].([]any)) != 0 {
		t.Errorf("%v", got)
	}
}

// While a key or a button is down the device hears of it twice a second, so that nothing stays pressed at a screen whose
// technician is gone; letting go of all of it is said once.
func TestHeldKeys(t *testing.T) {
	t.Parallel()
	p, _ := watched(t, nil, http.StatusCreated)
	call[any](p, connected)
	beats := call[int](p, `async () => {
		report({open: true}); told.length = 0;
		c.key({key: "Shift", code: "ShiftLeft", down: true});
		c.point({x: 1, y: 2, buttons: 1});
		c.point({x: 1, y: 2, buttons: 0}); // the key is still down
		await until(() => told.filter(m => m.input && !Object.keys(m.input).length).length >= 2 || undefined);
		c.key({key: "Shift", code: "ShiftLeft", down: false});
		told.length = 0;
		await new Promise(done => setTimeout(done, 1200));
		return told.length; }`)
	if beats != 0 {
		t.Errorf("with nothing down it was said %d times that something is", beats)
	}
	released := call[[]any](p, `() => {
		c.key({key: "a", code: "KeyA", down: true}); told.length = 0;
		c.release(); c.release();
		return told; }`)
	if fmt.Sprint(released) != "[map[input:map[release:true]]]" {
		t.Errorf("letting go sent %v", released)
	}
	// A connection that is lost has let go of everything: nothing is said of it on the next one.
	after := call[int](p, `async () => {
		c.key({key: "a", code: "KeyA", down: true}); told.length = 0;
		report({closed: true}); await (`+connected+`)(); report({open: true}); told.length = 0;
		c.release();
		return told.length; }`)
	if after != 0 {
		t.Errorf("keys of a connection that was lost are let go of %d times", after)
	}
}

// Nothing is sent to a page on which nobody sees it, and as wide a picture as it is shown.
func TestScreenOutOfSight(t *testing.T) {
	t.Parallel()
	p, _ := watched(t, nil, http.StatusCreated)
	call[any](p, connected)
	got := call[[]any](p, `() => {
		report({open: true}); told.length = 0;
		c.stands(true, 640); c.stands(true, 640); c.stands(false, 640); c.want({colours: 256}); c.stands(true, 320);
		return told.map(m => m.input.options); }`)
	var want []any
	for _, o := range []map[string]any{{"width": 640, "pause": false}, {"width": 640, "pause": true},
		{"width": 640, "colours": 256, "pause": true}, {"width": 320, "colours": 256, "pause": false}} {
		want = append(want, o)
	}
	if a, b := text(got), text(want); a != b {
		t.Errorf("asked for %s, want %s", a, b)
	}
}

func text(v any) string {
	b, _ := json.Marshal(v)
	return string(b)
}

// Who closes it says goodbye, lets go of all, and is not connected later; a question that is open is taken back.
func TestScreenIsClosed(t *testing.T) {
	t.Parallel()
	p, s := watched(t, nil, http.StatusCreated)
	call[any](p, connected)
	told := text(call[[]any](p, `async () => {
		report({open: true}); c.key({key: "a", code: "KeyA", down: true}); told.length = 0;
		c.close(); report({closed: true});
		await until(() => told.find(m => m.terminated));
		return told; }`))
	if told != `[{"input":{"release":true}},{"leave":true},{"terminated":true}]` {
		t.Errorf("closing told %s", told)
	}
	if len(s.asked) != 1 {
		t.Errorf("it was asked for again after it was closed: %v", s.asked)
	}
	asked, gone := make(chan bool, 1), make(chan bool, 1)
	p.api.HandleFunc("POST /api/v1/devices/slow/sessions", func(_ http.ResponseWriter, r *http.Request) {
		r.Body.Read(make([]byte, 1000)) // so that the end of the connection is noticed
		asked <- true
		<-r.Context().Done()
		gone <- true
	})
	call[any](p, desk, "slow", nil)
	<-asked
	if n := call[int](p, `() => { c.close(); return told.filter(m => m.connect).length; }`); n != 0 {
		t.Errorf("it connects after it was closed")
	}
	<-gone
}

// A picture that was asked for reaches who asked for it, in whatever order they are made.
func TestPicturesOfAScreen(t *testing.T) {
	t.Parallel()
	p, _ := watched(t, nil, http.StatusCreated)
	got := call[[]string](p, `async () => {
		const one = c.picture(), two = c.picture();
		const [a, b] = told.filter(m => m.picture !== undefined).map(m => m.picture);
		report({picture: {number: b, png: new Blob(["two"])}});
		report({picture: {number: a, png: new Blob(["one"])}});
		report({picture: {number: a, png: new Blob(["again"])}});
		return [await (await one).text(), await (await two).text()]; }`)
	if !slices.Equal(got, []string{"one", "two"}) {
		t.Errorf("pictures are %q", got)
	}
}

// After a gap all is read anew that any event would have made old.
func TestNothingStaysOldAfterAGap(t *testing.T) {
	t.Parallel()
	p := open(t)
	keys := [][]any{{"/attention", map[string]any{}}, {"/alerts", map[string]any{}, "pages"}, {"/responses", map[string]any{}},
		{"/policies", map[string]any{}, "all"}, {"/jobs", map[string]any{}, "pages"}, {"/rollouts", map[string]any{}, "pages"}}
	for _, path := range []string{"/alerts/{id}", "/jobs/{id}", "/jobs/{id}/runs", "/rollouts/{id}", "/rollouts/{id}/devices",
		"/devices/{id}/runs"} {
		keys = append(keys, []any{path, map[string]any{"path": map[string]any{"id": "a"}}})
	}
	missing := call[[]string](p, `(keys) => {
		const old = (change) => {
			const client = new part.cache.QueryClient();
			for (const k of keys) client.setQueryData(k, 1);
			change(client);
			return keys.filter(k => client.getQueryState(k).isInvalidated).map(k => k[0]);
		};
		const after = old(part.events.afterGap), missing = [];
		for (const name of ["alerts", "responses", "jobs", "rollouts"]) {
			const by = old((client) => part.events.events[name](client, '{"ids": ["a"]}'));
			if (!by.length) missing.push(name + " makes nothing old");
			for (const path of by) if (!after.includes(path)) missing.push(path + ", which " + name + " makes old");
		}
		return missing;
	}`, keys)
	if len(missing) != 0 {
		t.Errorf("not read anew after a gap: %q", missing)
	}
}
