package page

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
)

// read calls lines and gives what came, in order.
const readLines = `async (path, body) => {
	const came = [];
	await part.lines.lines(path, new AbortController().signal, e => came.push(e), body ?? undefined);
	return came;
}`

// A stream arrives whole however the network cuts it, also within a letter of several bytes.
func TestLinesArriveHoweverTheyAreCut(t *testing.T) {
	t.Parallel()
	p := open(t)
	type line struct {
		N    int    `json:"n"`
		Text string `json:"text"`
	}
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	var want []line
	var whole []byte
	for n := range 200 {
		l := line{n, strings.Repeat(string([]rune("aß€🜂\n\"")[r.IntN(6)]), r.IntN(40))}
		want = append(want, l)
		text, err := json.Marshal(l)
		if err != nil {
			t.Fatal(err)
		}
		whole = append(append(whole, text...), '\n')
	}
	p.api.HandleFunc("GET /api/v1/cut", func(w http.ResponseWriter, _ *http.Request) {
		for rest := whole; len(rest) > 0; {
			n := min(1+r.IntN(300), len(rest))
			w.Write(rest[:n])
			w.(http.Flusher).Flush()
			rest = rest[n:]
		}
	})
	if got := call[[]line](p, readLines, "/cut"); !slices.Equal(got, want) {
		t.Errorf("%d of %d lines came as they were sent", len(got), len(want))
	}
}

// What goes wrong is told as a problem: a refusal, a stream that breaks off, a service that is away.
func TestLinesTellWhatWentWrong(t *testing.T) {
	t.Parallel()
	p := open(t)
	p.api.HandleFunc("GET /api/v1/refused", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(w, `{"title":"You may not.","status":403}`)
	})
	p.api.HandleFunc("GET /api/v1/gone", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusBadGateway)
		fmt.Fprint(w, `<html>a proxy's page</html>`)
	})
	p.api.HandleFunc("GET /api/v1/broken", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"n":1}`, "\n", `{"error":"the device went away"}`, "\n", `{"n":2}`, "\n")
	})
	p.api.HandleFunc("GET /api/v1/said", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"n":1,"error":"it is no end where more stands beside it"}`, "\n\n")
	})
	p.api.HandleFunc("GET /api/v1/cutoff", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"n":1}`, "\n")
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	})
	for path, want := range map[string]string{
		"/refused": "You may not.", "/gone": "The service failed.", "/broken": "It ended early.",
	} {
		if _, err := try[[]any](p, readLines, path); err == nil || err.Error() != "threw "+want {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
	if got, err := try[[]any](p, readLines, "/said"); err != nil || len(got) != 1 {
		t.Errorf("an event that has an error in it: %v, %v", got, err)
	}
	if _, err := try[[]any](p, readLines, "/cutoff"); err == nil {
		t.Error("a stream that was cut off ended as if it were whole")
	}
	if _, err := try[[]any](p, `path => { const own = fetch; fetch = () => Promise.reject(new TypeError("no network"));
		return (`+readLines+`)(path).finally(() => { fetch = own; }); }`, "/said"); err == nil ||
		err.Error() != "threw The service cannot be reached." {
		t.Errorf("without a network: %v", err)
	}
}

// A body makes it a change, which carries the token against forgery; who gives it up is not told of an error of ours.
func TestLinesChangeAndGiveUp(t *testing.T) {
	t.Parallel()
	p := open(t)
	ended := make(chan struct{})
	p.api.HandleFunc("POST /api/v1/run", func(w http.ResponseWriter, r *http.Request) {
		var body map[string]string
		json.NewDecoder(r.Body).Decode(&body)
		fmt.Fprintf(w, `{"token":%q,"line":%q}`+"\n", r.Header.Get("X-Moorwatch-Csrf"), body["line"])
	})
	p.api.HandleFunc("GET /api/v1/endless", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `{"n":1}`, "\n")
		w.(http.Flusher).Flush()
		<-r.Context().Done()
		close(ended)
	})
	call[any](p, `() => part.client.rememberCsrf("tk")`)
	got := call[[]map[string]string](p, readLines, "/run", map[string]string{"line": "uptime"})
	if len(got) != 1 || got[0]["token"] != "tk" || got[0]["line"] != "uptime" {
		t.Errorf("the change came as %v", got)
	}
	name := call[string](p, `path => new Promise(done => { const stop = new AbortController();
		part.lines.lines(path, stop.signal, () => stop.abort()).catch(e => done(e.name)); })`, "/endless")
	if name != "AbortError" {
		t.Errorf("who gave up was told %s", name)
	}
	<-ended
}

// A request that asks for a proof is sent again once it is given, however many wait for it, and not where it is not.
func TestProofIsAskedForOnce(t *testing.T) {
	t.Parallel()
	p := open(t)
	var asked = make(chan string, 20)
	proven := false
	p.api.HandleFunc("/api/v1/me/password", func(w http.ResponseWriter, r *http.Request) {
		asked <- r.Method
		if !proven {
			w.WriteHeader(http.StatusForbidden)
			fmt.Fprint(w, `{"type":"urn:moorwatch:proof-needed","title":"Prove who you are.","status":403}`)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	p.api.HandleFunc("POST /prove", func(http.ResponseWriter, *http.Request) { proven = true })
	change := `() => part.client.answer(part.client.api.PUT("/me/password", {body: {current: "a", new: "b"}}))`
	if _, err := try[any](p, `() => { part.client.setProver(async () => false); return (`+change+`)(); }`); err == nil ||
		err.Error() != "threw Prove who you are." {
		t.Errorf("without a proof: %v", err)
	}
	times := call[int](p, `async () => { let times = 0;
		part.client.setProver(async () => { times++; await fetch("/prove", {method: "POST"}); return true; });
		const change = `+change+`; await Promise.all([change(), change(), change()]); return times; }`)
	if times != 1 {
		t.Errorf("the person was asked %d times", times)
	}
	if n := len(asked); n > 7 || n < 5 {
		t.Errorf("%d requests were sent, want one refused, and three once or twice", n)
	}
}

// servePages answers a list of seven policies in pages.
func servePages(p *tab) {
	p.api.HandleFunc("GET /api/v1/policies", func(w http.ResponseWriter, r *http.Request) {
		var limit, from int
		fmt.Sscan(r.FormValue("limit"), &limit)
		fmt.Sscan(r.FormValue("cursor"), &from)
		w.Header().Set("Content-Type", "application/json")
		if limit > 500 {
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprint(w, `{"title":"At most 500.","status":400}`)
			return
		}
		to := min(from+limit, 7)
		page := map[string]any{"items": []any{}}
		for n := from; n < to; n++ {
			page["items"] = append(page["items"].([]any), map[string]any{"name": fmt.Sprintf("policy %d", n)})
		}
		if to < 7 {
			page["next"] = fmt.Sprint(to)
		}
		json.NewEncoder(w).Encode(page)
	})
}
