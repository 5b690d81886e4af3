package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"
)

// console measures what the console makes of much: a folder of a hundred thousand entries, and a file
// to which ten thousand lines a second are written, in headless Chromium.
func (b *bench) console() error {
	w, id, dir, err := b.inMemory()
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx, cancel, err := w.browser(b.ctx, 2*time.Minute)
	if err != nil {
		return err
	}
	defer cancel()
	if err := b.folderShown(ctx, w, id, dir); err != nil {
		return err
	}
	return b.followShown(ctx, w, id, dir)
}

// browser opens the console in headless Chromium, signed in; before is done before any page is opened.
func (w *world) browser(ctx context.Context, within time.Duration, before ...chromedp.Action[chromedp.Void]) (context.Context,
	context.CancelFunc, error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.ExecPath("/usr/bin/chromium"),
		chromedp.IgnoreCertErrors)
	ctx, end := chromedp.NewExecAllocator(ctx, options...)
	ctx, _ = chromedp.NewContext(ctx)
	ctx, cancel := context.WithTimeout(ctx, within)
	stop := func() { cancel(); end() }
	steps := append(before, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(w.url),
		chromedp.SendKeys(chromedp.CSS("input[type=email]"), "bench@curlew-sedge.example"),
		chromedp.SendKeys(chromedp.CSS("input[type=password]"), "four quiet moor words\n"), chromedp.WaitVisible(chromedp.CSS("nav")))
	if err := chromedp.Do(ctx, steps...); err != nil {
		stop()
		return nil, nil, err
	}
	return ctx, stop, nil
}

// folderShown measures from the press that opens a folder until its last entry is counted on the page.
func (b *bench) folderShown(ctx context.Context, w *world, id uuid.UUID, dir string) error {
	flat := filepath.Join(dir, "flat")
	if err := hundredThousand(flat); err != nil {
		return err
	}
	const opened = `new Promise(done => {
		const row = [...document.querySelectorAll("[role=row]")].find(r => r.innerText.trim().startsWith("flat"));
		if (!row) return;
		const began = performance.now();
		const look = () => {
			const grid = document.querySelector("[role=grid]");
			if (grid?.ariaRowCount === "100001" && grid.innerText.includes("entry-")) requestAnimationFrame(() => done(performance.now() - began));
			else requestAnimationFrame(look);
		};
		row.dispatchEvent(new MouseEvent("dblclick", {bubbles: true}));
		look();
	})`
	var took []float64
	for range 3 {
		if err := chromedp.Do(ctx, chromedp.Navigate(fmt.Sprintf("%s/devices/%s?pane=files&folder=%s", w.url, id, dir)),
			chromedp.WaitVisible(chromedp.CSS("[role=grid] [role=row]")), chromedp.Sleep(time.Second)); err != nil {
			return err
		}
		ms, err := chromedp.Run(ctx, chromedp.Evaluate[float64](opened, chromedp.EvalAwaitPromise))
		if err != nil {
			return err
		}
		took = append(took, ms/1000)
	}
	b.figure("100,000 entries in the console", median(took), "s", 1, true)
	return nil
}

func hundredThousand(flat string) error {
	if err := os.Mkdir(flat, 0o755); err != nil {
		return err
	}
	for i := range 100_000 {
		f, err := os.OpenFile(filepath.Join(flat, fmt.Sprintf("entry-%06d.log", i)), os.O_CREATE, 0o644)
		if err != nil {
			return err
		}
		f.Close()
	}
	return nil
}

// followShown writes ten thousand lines a second for five seconds to a file that the console follows,
// and measures how long the page takes to answer a key meanwhile. All lines must have come.
func (b *bench) followShown(ctx context.Context, w *world, id uuid.UUID, dir string) error {
	file := filepath.Join(dir, "busy.log")
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := chromedp.Do(ctx, chromedp.Navigate(fmt.Sprintf("%s/devices/%s?pane=files&follow=%s", w.url, id, file)),
		chromedp.WaitVisible(chromedp.CSS("[role=log]")), chromedp.Sleep(time.Second)); err != nil {
		return err
	}
	// A key is answered when a task of its time was run and the frame after it drawn.
	const watch = `window.took = []; window.watch = setInterval(() => {
		const began = performance.now();
		const task = new MessageChannel();
		task.port1.onmessage = () => requestAnimationFrame(() => window.took.push(performance.now() - began));
		task.port2.postMessage(0);
	}, 50)`
	if err := chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](watch)); err != nil {
		return err
	}
	const seconds, rate = 5, 10_000
	began, n := time.Now(), 0
	for n < seconds*rate {
		due := min(int(time.Since(began).Seconds()*rate), seconds*rate)
		for ; n < due; n++ {
			fmt.Fprintf(f, "%s line %06d of a busy log, with as many words as such a line has\n", time.Now().Format(time.RFC3339Nano), n)
		}
		time.Sleep(5 * time.Millisecond)
	}
	last := fmt.Sprintf("line %06d of", seconds*rate-1)
	for since := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		there, err := chromedp.Run(ctx, chromedp.Evaluate[bool](fmt.Sprintf(`document.querySelector("[role=log]").innerText.includes(%q)`,
			last)))
		if err != nil {
			return err
		}
		if there {
			b.figure("its last line behind", time.Since(since).Seconds(), "s", 1, true)
			break
		}
		if time.Since(since) > 20*time.Second {
			return errors.New("the last line did not come")
		}
	}
	if skipped, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`document.body.innerText.includes("left out")`)); err != nil || skipped {
		return fmt.Errorf("lines were left out: %t, %v", skipped, err)
	}
	took, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`clearInterval(window.watch), window.took`))
	if err != nil {
		return err
	}
	b.figure("answer to a key while following, p95", quantile(took, 0.95), "ms", 100, true)
	return nil
}
