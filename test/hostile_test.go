package test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/service"
)

// Finding 5: one device that left 20 inventories unfinished had the service hold 757 MB. It is held to a few bodies,
// and cut off.
func TestHostileDevice(t *testing.T) {
	t.Parallel()
	const ceiling = 256 << 20 // two bodies of 16 MiB, as they grow while they are read
	a := serveApart(t)
	w := &world{Service: &service.Service{URL: a.url}, ca: a.ca}
	w.token = w.setUp(t, a.url, a.setUp)
	w.owner = w.client(t, w.token)
	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: site})))(t)
	good := w.reporter(t, "hay-desk-01")
	bad := w.reporter(t, "hay-desk-02")
	before := a.memory(t)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			body, feed := io.Pipe()
			go func() {
				io.WriteString(feed, `{"from":"`)
				piece := strings.Repeat("a", 256<<10)
				for range 60 { // 15 of the 16 MiB that an inventory may hold, and no end
					if _, err := io.WriteString(feed, piece); err != nil {
						return
					}
				}
				<-ctx.Done()
				feed.CloseWithError(ctx.Err())
			}()
			q := must(http.NewRequestWithContext(ctx, http.MethodPost, "http://service/inventory", body))(t)
			if answer, err := bad.client.Do(q); err == nil {
				io.Copy(io.Discard, answer.Body)
				answer.Body.Close()
			}
		})
	}
	over, most := make(chan struct{}), int64(0)
	go func() { all.Wait(); close(over) }()
	for busy := true; busy; {
		select {
		case <-over:
			busy = false
		case <-time.After(200 * time.Millisecond):
			began := time.Now()
			if status, _, text := good.send(t, strings.NewReader(`{"epoch":"e","reports":[]}`)); status >= 500 {
				t.Errorf("another device is answered with %d %s", status, text)
			}
			if took := time.Since(began); took > 5*time.Second {
				t.Errorf("another device waited %s", took)
			}
		}
		most = max(most, a.memory(t)-before)
	}
	t.Logf("%.1f MB more at the most", float64(most)/(1<<20))
	if most > ceiling {
		t.Errorf("the service took %d MB more, and may %d", most>>20, ceiling>>20)
	}
	if ctx.Err() != nil {
		t.Error("the device was not cut off")
	}
}
