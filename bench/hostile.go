package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
	"moorwatch.example/uplink"
)

// hostileDevices is how many devices send as much as they can, beside the others of the fleet.
const hostileDevices = 50

// felt is what others feel of them.
type felt struct{ run, list float64 }

// hostile measures what others feel of devices that send as much as they can, beside the same without them.
func (b *bench) hostile() error {
	w, err := b.begin()
	if err == nil {
		err = b.connected(w)
	}
	if err != nil {
		return err
	}
	time.Sleep(30 * time.Second) // the fleet has settled
	calm, err := b.feel(w)
	if err != nil {
		return err
	}
	token, err := w.enrolmentToken(b.ctx, hostileDevices)
	if err != nil {
		return err
	}
	var devices []identity.Identity
	for i := range hostileDevices {
		d, err := identity.Enrol(b.ctx, filepath.Join(w.dir, fmt.Sprintf("hostile-%d", i)), w.url, token,
			device.Facts{HostName: fmt.Sprintf("hostile-%d", i)})
		if err != nil {
			return err
		}
		devices = append(devices, d)
	}
	ctx, stop := context.WithCancel(b.ctx)
	var all sync.WaitGroup
	defer all.Wait()
	defer stop()
	for _, d := range devices {
		all.Go(func() { attack(ctx, d.Dialer()) })
	}
	// At first they have what any new device may have at once; then what flows.
	for _, when := range []struct {
		name  string
		after time.Duration
	}{{"at first", 10 * time.Second}, {"and later", 2 * time.Minute}} {
		time.Sleep(when.after)
		beside, err := b.feel(w)
		if err != nil {
			return err
		}
		b.figure(fmt.Sprintf("commands beside %d hostile, %s", hostileDevices, when.name), beside.run, "s", 1.1*calm.run, true)
		b.figure(fmt.Sprintf("lists beside %d hostile, %s", hostileDevices, when.name), beside.list, "ms", 1.1*calm.list, true)
	}
	return nil
}

// feel takes the median time of commands on many devices, and of pages of the list.
func (b *bench) feel(w *world) (f felt, err error) {
	if f.run, err = b.runs(w, min(1000, b.devices), 5); err != nil {
		return f, err
	}
	var lists []float64
	limit := 100
	for range 50 {
		began := time.Now()
		if _, err := client.Result(w.client.ListDevicesWithResponse(b.ctx, &api.ListDevicesParams{Limit: &limit})); err != nil {
			return f, err
		}
		lists = append(lists, ms(time.Since(began)))
	}
	f.list = median(lists)
	return f, nil
}

// attack connects as often as it is let in, and then sends inventories of ever other software, reports without end
// and calls without number, each as fast as it is taken. What it sends is made before, so that it is not the attacker
// who is measured.
func attack(ctx context.Context, d uplink.Dialer) {
	var inventories [][]byte
	for range 4 {
		inventories = append(inventories, encode(inventory.Compare(nil, inventory.Of(invented()))))
	}
	before, after, _ := bytes.Cut(encode(endless()), []byte(aEpoch))
	facts, journal := encode(device.Facts{HostName: "hostile", OS: uuid.NewString()}), encode(link.Journal{ID: uuid.NewString()})
	for ctx.Err() == nil {
		if l, err := d.Dial(ctx); err == nil {
			c := &http.Client{Transport: uplink.Transport(func(context.Context, string) (net.Conn, error) { return l.Open(ctx) })}
			var all sync.WaitGroup
			for _, one := range []func() error{
				func() error { return post(ctx, c, "/inventory", inventories[rand.IntN(len(inventories))]) },
				func() error {
					return post(ctx, c, "/reports", bytes.Join([][]byte{before, after}, []byte(uuid.NewString())))
				},
				func() error { return post(ctx, c, "/facts", facts) },
				func() error { return post(ctx, c, "/journal", journal) },
			} {
				for range 4 {
					all.Go(func() {
						for ctx.Err() == nil && one() == nil {
						}
					})
				}
			}
			all.Wait()
			l.Close()
		}
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Second):
		}
	}
}

func invented() (items []inventory.Item) {
	for range 2000 {
		name := uuid.NewString()
		items = append(items, inventory.Item{Section: inventory.Software, Key: name, Name: name,
			Fields: map[string]string{"version": "1", "source": "installer"}})
	}
	return items
}

// aEpoch stands in a batch for another each time.
const aEpoch = "00000000-0000-4000-8000-000000000000"

func endless() link.Batch {
	b := link.Batch{Epoch: aEpoch, Sent: time.Now()}
	for i := range link.MaxSends {
		b.Reports = append(b.Reports, link.Report{Seq: uint64(i + 1),
			Vitals: device.Vitals{At: b.Sent.Add(-time.Duration(i) * time.Millisecond), CPU: float64(i % 100)}})
	}
	return b
}

func encode(v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // of our own making
	}
	return text
}

// post fails only where nothing can be sent at all: what is refused is sent again.
func post(ctx context.Context, c *http.Client, path string, text []byte) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://service"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	answer, err := c.Do(r)
	if err != nil {
		return err
	}
	io.Copy(io.Discard, answer.Body)
	return answer.Body.Close()
}
