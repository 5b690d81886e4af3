package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
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
			if took := time.Since(began); took > 15*time.Second {
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

// A device that invents software, and changes its mind all day, fills neither the changes, nor the catalogue, nor the
// service's memory for longer than until it is stopped; and a person is told.
func TestHostileDeviceFillsTables(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	good, bad := w.reporter(t, "mill-desk-01"), w.reporter(t, "mill-desk-02")
	if status := good.inventory(t, nil, []inventory.Item{software("browser", "1")}); status != http.StatusNoContent {
		t.Fatalf("an inventory: %d", status)
	}
	invented := func(round, n int) (all []inventory.Item) {
		for i := range n {
			all = append(all, software(fmt.Sprintf("invented %d %d", round, i), "1"))
		}
		return all
	}
	count := func(query string) (n int) {
		db := must(pgx.Connect(t.Context(), w.config.Database))(t)
		defer db.Close(context.Background())
		if err := db.QueryRow(t.Context(), query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before, status := invented(0, 8500), 0
	if status = bad.inventory(t, nil, before); status != http.StatusNoContent {
		t.Fatalf("the first inventory: %d", status)
	}
	if n := count("SELECT count(*) FROM software"); n > 8001 {
		t.Errorf("the catalogue took %d titles of one device", n-1)
	}
	round := 1
	for ; round < 10 && status == http.StatusNoContent; round++ {
		after := append(before[:7900:7900], invented(round, 600)...)
		status = bad.inventory(t, before, after)
		before = after
	}
	if status != http.StatusTooManyRequests {
		t.Errorf("after %d changes of its software it is answered with %d", round, status)
	}
	if n := count("SELECT count(*) FROM changes"); n > 7000 {
		t.Errorf("%d changes of one device are kept", n)
	}
	if status := good.inventory(t, []inventory.Item{software("browser", "1")},
		[]inventory.Item{software("browser", "2")}); status != http.StatusNoContent {
		t.Errorf("another device's inventory: %d", status)
	}
	w.await(t, "an alert that a person sees", func() bool {
		page := w.attention(t)
		return page.Total == 1 && page.Items[0].Alert.Check == "budget" &&
			strings.Contains(page.Items[0].Alert.Message, "changes of its inventory")
	})
	if n := count("SELECT count(*) FROM audit WHERE action = 'device.exceed' AND device = '" + bad.id.String() + "'"); n != 1 {
		t.Errorf("it is on record %d times", n)
	}
	// What no device has any more goes from the table and from memory, and what one has stays.
	if err := w.Service.Inventory.Expire(t.Context()); err != nil {
		t.Fatal(err)
	}
	if n := count("SELECT count(*) FROM software s WHERE NOT EXISTS (SELECT FROM installed i WHERE i.software_id = s.id)"); n > 0 {
		t.Errorf("the catalogue still has %d titles that no device has", n)
	}
	for expression, want := range map[string]int{`"browser" in software && software["browser"] == "2"`: 1,
		`"invented 0 8499" in software`: 0} {
		in := api.Expression{Expression: expression}
		w.await(t, fmt.Sprintf("%s holds for %d devices", expression, want), func() bool {
			return must(client.Result(w.owner.PreviewGroupWithResponse(t.Context(), in)))(t).Count == want
		})
	}
}

// A device that sends reports without end is slowed, cut off, kept out for a while, and reported, while others report
// as before.
func TestHostileDeviceReportsWithoutEnd(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	good := w.reporter(t, "mill-desk-11")
	dir, id := w.enrol(t, "mill-desk-12")
	bad := &reporter{id, connect(t, dir)}
	epoch, seq, now := uuid.NewString(), uint64(0), time.Now()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for ctx.Err() == nil {
		reports := make([]link.Report, link.MaxSends)
		for i := range reports {
			seq++
			reports[i] = link.Report{Seq: seq, Vitals: device.Vitals{At: now.Add(time.Duration(seq) * time.Millisecond), CPU: 1}}
		}
		q := must(http.NewRequestWithContext(ctx, http.MethodPost, "http://service/reports", batch(t, epoch, now, reports...)))(t)
		answer, err := bad.client.Do(q)
		if err != nil {
			break
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			break
		}
	}
	if most := uint64(50_000 + 2*link.MaxSends); seq > most {
		t.Errorf("%d reports of one device were taken at once, and %d may be", seq, most)
	}
	if status, _, text := good.send(t, batch(t, uuid.NewString(), now,
		link.Report{Seq: 1, Vitals: device.Vitals{At: now, CPU: 1}})); status != http.StatusOK {
		t.Errorf("another device is answered with %d %s", status, text)
	}
}
