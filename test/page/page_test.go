package page

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// parts are the modules that tests call, by the names they have in the page.
var parts = map[string]string{
	"choice":    "fleet/choice",
	"client":    "api/client",
	"columns":   "parts/columns",
	"decode":    "screen/decode",
	"events":    "frame/events",
	"find":      "frame/find",
	"pages":     "frame/pages",
	"screen":    "screen/connection",
	"lines":     "api/lines",
	"paths":     "files/paths",
	"query":     "tools/query",
	"queries":   "api/queries",
	"readings":  "vitals/readings",
	"rows":      "fleet/rows",
	"rule":      "parts/rule",
	"setting":   "health/setting",
	"stream":    "api/stream",
	"time":      "parts/time",
	"touch":     "screen/touch",
	"transfers": "files/transfers",
	"units":     "parts/units",
}

// bundle makes one module of all, which exports each by its name.
var bundle = sync.OnceValues(func() (string, error) {
	src, err := filepath.Abs("../../web/src")
	if err != nil {
		return "", err
	}
	dir, err := os.MkdirTemp("", "moorwatch-page-*")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	var entry strings.Builder
	fmt.Fprintf(&entry, "export * as cache from %q;\n", filepath.Join(src, "../node_modules/@tanstack/react-query"))
	for name, path := range parts {
		fmt.Fprintf(&entry, "export * as %s from %q;\n", name, filepath.Join(src, path))
	}
	from, to := filepath.Join(dir, "entry.ts"), filepath.Join(dir, "part.js")
	if err := os.WriteFile(from, []byte(entry.String()), 0o600); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, filepath.Join(src, "../node_modules/.bin/rolldown"), from,
		"--platform", "browser", "--format", "esm", "--file", to).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("the modules cannot be bundled (make build installs what does): %w\n%s", err, out)
	}
	text, err := os.ReadFile(to)
	return string(text), err
})

// browser is one Chromium for all tests, each of which has a tab in it.
var browser context.Context

func TestMain(m *testing.M) {
	os.Exit(func() int {
		options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-quic", true),
			chromedp.Flag("disable-component-update", true), chromedp.ExecPath("/usr/bin/chromium"))
		ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
		defer cancel()
		browser, cancel = chromedp.NewContext(ctx)
		defer cancel()
		if err := chromedp.Do(browser); err != nil {
			fmt.Fprintln(os.Stderr, "Chromium does not begin (tools/install.sh test installs it):", err)
			return 1
		}
		return m.Run()
	}())
}

// tab is a page with the modules.
type tab struct {
	*testing.T
	ctx context.Context
	api *http.ServeMux // what stands in for the service
	url string
}

// open opens a tab. api answers what the page asks below /api/v1.
func open(t *testing.T) *tab {
	t.Helper()
	script, err := bundle()
	if err != nil {
		t.Fatal(err)
	}
	api := http.NewServeMux()
	api.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, `<!doctype html><title>Parts</title><script type="module">
			import * as part from "/part.js"; globalThis.part = part;</script>`)
	})
	api.HandleFunc("GET /part.js", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/javascript")
		fmt.Fprint(w, "globalThis.process = {env: {NODE_ENV: 'production'}};\n", script)
	})
	server := httptest.NewServer(api)
	t.Cleanup(server.Close)
	ctx, cancel := chromedp.NewContext(browser)
	t.Cleanup(cancel)
	p := &tab{T: t, ctx: ctx, api: api, url: server.URL}
	if err := chromedp.Do(ctx, chromedp.Navigate(server.URL+"/")); err != nil {
		t.Fatal(err)
	}
	return p
}

// within bounds one call into the page.
const within = time.Minute

// call calls a function written in JavaScript with arguments that are sent as JSON, awaits what it returns and gives that.
func call[T any](p *tab, function string, args ...any) (v T) {
	p.Helper()
	v, err := try[T](p, function, args...)
	if err != nil {
		p.Fatalf("%.300s: %v", function, err)
	}
	return v
}

// try is call where the function may throw: the error then is what it threw, as text.
func try[T any](p *tab, function string, args ...any) (v T, err error) {
	p.Helper()
	if args == nil {
		args = []any{}
	}
	text, err := json.Marshal(args)
	if err != nil {
		p.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(p.ctx, within)
	defer cancel()
	got, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(`(async () => {
		try { return JSON.stringify({gave: await (%s)(...%s) ?? null}); }
		catch (e) { return JSON.stringify({threw: String(e?.message ?? e)}); }
	})()`, function, text), chromedp.EvalAwaitPromise))
	if err != nil {
		p.Fatalf("%.300s: %v", function, err)
	}
	var result struct {
		Gave  json.RawMessage `json:"gave"`
		Threw *string         `json:"threw"`
	}
	if err := json.Unmarshal([]byte(got), &result); err != nil {
		p.Fatal(err)
	}
	if result.Threw != nil {
		return v, fmt.Errorf("threw %s", *result.Threw)
	}
	if err := json.Unmarshal(result.Gave, &v); err != nil {
		p.Fatalf("%.300s gave %.300s: %v", function, result.Gave, err)
	}
	return v, nil
}
