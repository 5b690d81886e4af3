package main

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/google/uuid"
	"github.com/jezek/xgb/xproto"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
)

// watching has a page tell when the worker of a screen has drawn what: it stands between the page and
// its workers.
const watching = `(() => {
	const drawn = window.drawn = [];
	const Own = window.Worker;
	window.Worker = class extends Own {
		constructor(...args) {
			super(...args);
			super.postMessage({ watch: true });
			this.addEventListener("message", ({ data }) => {
				if (data.drawn) drawn.push(data.drawn.at);
				if (data.broken) (window.broken ??= []).push(data.broken);
			});
		}
		postMessage(m, t) {
			if (m.connect) window.connected = performance.timeOrigin + performance.now();
			super.postMessage(m, t);
		}
	};
})()`

// screenLive measures a screen in the console, in headless Chromium on the same machine.
func (b *bench) screenLive() error {
	w, s, err := b.screened()
	if err != nil {
		return err
	}
	defer s.close()
	if b.machine == uuid.Nil {
		if b.machine, err = w.agent(b.ctx); err != nil {
			return err
		}
	}
	id := b.machine
	ctx, cancel, err := w.browser(b.ctx, 3*time.Minute, func(ctx context.Context, t *chromedp.Target) (none chromedp.Void, err error) {
		_, err = cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: watching})
		return none, err
	})
	if err != nil {
		return err
	}
	defer cancel()
	if err := s.echo(); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(fmt.Sprintf("%s/devices/%s?pane=screen", w.url, id)),
		chromedp.WaitVisible(chromedp.CSS("[role=application] canvas"))); err != nil {
		return err
	}
	first, err := chromedp.Run(ctx, chromedp.Evaluate[float64](
		`new Promise(done => { const look = () => window.drawn.length ? done(window.drawn[0] - window.connected) : setTimeout(look, 10); look(); })`, chromedp.EvalAwaitPromise))
	if err != nil {
		return err
	}
	b.figure("first picture of a screen", first/1000, "s", 1, true)
	time.Sleep(2 * time.Second) // all is exact
	took, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`(async () => {
		const place = document.querySelector("[role=application]");
		place.focus();
		const took = [];
		for (let i = 0; i < 200; i++) {
			const n = window.drawn.length;
			const began = performance.timeOrigin + performance.now();
			const key = String.fromCharCode(97 + i % 26);
			for (const kind of ["keydown", "keyup"]) place.dispatchEvent(new KeyboardEvent(kind, { key, code: "Key" + key.toUpperCase(), bubbles: true }));
			while (window.drawn.length === n) await new Promise(r => setTimeout(r, 1));
			took.push(window.drawn[n] - began);
			await new Promise(r => setTimeout(r, 30 + i % 17));
		}
		return took;
	})()`, chromedp.EvalAwaitPromise))
	if err != nil {
		return err
	}
	b.figure("key to pixels, p50", median(took), "ms", 40, true)
	b.figure("key to pixels, p99", quantile(took, 0.99), "ms", 80, true)

	rate := func(name string, limit float64, play func() (stop func(), err error)) error {
		stop, err := play()
		if err != nil {
			return err
		}
		defer stop()
		time.Sleep(time.Second)
		n, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`(async () => {
			const n = window.drawn.length;
			await new Promise(r => setTimeout(r, 4000));
			return (window.drawn.length - n) / 4;
		})()`, chromedp.EvalAwaitPromise))
		if broken, err := chromedp.Run(ctx, chromedp.Evaluate[[]string](`window.broken ?? []`)); err != nil || len(broken) > 0 {
			return fmt.Errorf("the screen could not be drawn: %v %w", broken, err)
		}
		if err == nil {
			b.figure(name, n, "/s", limit, false)
		}
		return err
	}
	shell := func(title, script string) func() (func(), error) {
		return func() (func(), error) {
			cmd := s.command("xterm", "-T", title, "-fa", "Mono", "-fs", "11", "-geometry", "100x44+20+20", "-e", "sh", "-c", script)
			if err := cmd.Start(); err != nil {
				return nil, err
			}
			_, err := s.window(title)
			return func() { cmd.Process.Kill(); cmd.Wait() }, err
		}
	}
	path, err := s.text("page", 4000)
	if err != nil {
		return err
	}
	if err := rate("pictures while typing", 60, shell("typing", `while :; do printf heath; sleep 0.008; done`)); err != nil {
		return err
	}
	if err := rate("pictures while scrolling", 60,
		shell("scrolling", `while read line; do echo "$line"; sleep 0.008; done < `+path)); err != nil {
		return err
	}
	return rate("pictures while all changes", 25, s.slides)
}

// screened begins a world with a stage, and lets screens be seen.
func (b *bench) screened() (*world, *stage, error) {
	w, err := b.begin()
	if err != nil {
		return nil, nil, err
	}
	client.Made(w.client.AddConsentRuleWithResponse(b.ctx,
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("screen"), Mode: "silent"}))
	s, err := newStage(b.ctx)
	return w, s, err
}

// slides has the whole desktop change forty times a second, from pictures that the server holds.
func (s *stage) slides() (func(), error) {
	c, err := s.canvas([2]int{0, 0}, 1920, 1080)
	if err != nil {
		return nil, err
	}
	var held [2]xproto.Pixmap
	for i := range held {
		if held[i], err = xproto.NewPixmapId(c.x); err != nil {
			return nil, err
		}
		xproto.CreatePixmap(c.x, 24, held[i], xproto.Drawable(c.window), 1920, 1080)
		c.put(photograph(1920, 1080, float64(2*i)))
		xproto.CopyArea(c.x, xproto.Drawable(c.window), xproto.Drawable(held[i]), c.gc, 0, 0, 0, 0, 1920, 1080)
	}
	ctx, cancel := context.WithCancel(s.ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(25 * time.Millisecond)
		defer tick.Stop()
		for i := 0; ; i++ {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				xproto.CopyArea(c.x, xproto.Drawable(held[i%2]), xproto.Drawable(c.window), c.gc, 0, 0, 0, 0, 1920, 1080)
				c.x.Sync()
			}
		}
	}()
	return func() { cancel(); <-done; c.close() }, nil
}
