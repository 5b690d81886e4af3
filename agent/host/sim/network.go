package sim

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"moorwatch.example/contract/link"
)

type simNetwork struct{ *simulated }

// Network implements host.Network.
func (s simNetwork) Network(context.Context) (link.Network, error) {
	parts := strings.Split(s.Address, ".")
	base := strings.Join(parts[:min(3, len(parts))], ".")
	n := link.Network{Resolvers: []string{base + ".1"}, Search: []string{"larkmoor.example"},
		Interfaces: []link.Interface{{Name: "eth0", Hardware: s.hardware(s.Address), Addresses: []string{s.Address + "/24"}, Up: true,
			MTU: 1500}},
		Routes: []link.Route{{To: "0.0.0.0/0", By: base + ".1", Interface: "eth0", Metric: 100},
			{To: base + ".0/24", Interface: "eth0"}},
		Neighbours: s.neighbours(base), Connections: []link.Connection{}}
	for i, j := range s.jobs() {
		if proto, at, ok := strings.Cut(j.listens, " "); ok {
			n.Connections = append(n.Connections, link.Connection{Protocol: proto, Local: at, State: "listen", PID: s.pid(i, j),
				Process: j.program})
		}
	}
	n.Connections = append(n.Connections, link.Connection{Protocol: "tcp", Local: s.Address + ":49812", Remote: "198.51.100.7:443",
		State: "established", PID: 391 + int(s.Seed%7), Process: "moor-agent"})
	return n, nil
}

func (s *simulated) hardware(address string) string {
	h := uint64(hash(uint64(len(address)), uint64(strings.Count(address, "1"))+uint64(address[len(address)-1])<<8) * (1 << 40))
	return fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", byte(h>>32), byte(h>>24), byte(h>>16), byte(h>>8), byte(h))
}

// neighbours are a router, a printer without an agent, and others on the same network.
func (s *simulated) neighbours(base string) []link.Neighbour {
	list := []link.Neighbour{{Address: base + ".1", Interface: "eth0", Open: []int{80, 443}},
		{Address: base + ".9", Interface: "eth0", Name: "printer", Open: []int{80, 631, 9100}}}
	for i := range 4 {
		a := fmt.Sprintf("%s.%d", base, 10+(int(s.Seed)+i*3)%20)
		if a != s.Address {
			list = append(list, link.Neighbour{Address: a, Interface: "eth0", Open: []int{135, 445}})
		}
	}
	for i := range list {
		list[i].Hardware = s.hardware(list[i].Address)
	}
	return list
}

// Reach implements host.Network.
func (s simNetwork) Reach(ctx context.Context, r link.Reach, send func(link.ReachResult) error) error {
	n := max(r.Times, 1)
	for i := range n {
		took := 8 + 9*smooth(s.Seed, s.now().Add(time.Duration(i)*time.Second), 3*time.Second)
		if err := send(link.ReachResult{OK: true, Text: "answer from " + r.Target, Milliseconds: took}); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
	return send(link.ReachResult{OK: true, Done: true, Text: fmt.Sprintf("%d of %d tries answered", n, n), Milliseconds: 11})
}

// Scan implements host.Network.
func (s simNetwork) Scan(ctx context.Context, q link.Scan, send func(link.ScanEvent) error) error {
	parts := strings.Split(s.Address, ".")
	base := strings.Join(parts[:min(3, len(parts))], ".")
	if !strings.HasPrefix(q.Network, base+".") {
		return refuse(http.StatusBadRequest, "The device is not on the network %s: it scans its own alone.", q.Network)
	}
	for i, n := range s.neighbours(base) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
		if err := send(link.ScanEvent{Found: &n, Tried: 40 * (i + 1), Of: 254}); err != nil {
			return err
		}
	}
	return send(link.ScanEvent{Tried: 254, Of: 254, Done: true})
}

// Wake implements host.Network.
func (s simNetwork) Wake(_ context.Context, w link.Wake) (link.Outcome, error) {
	return link.Outcome{Message: "The call was sent to " + strings.Join(w.Hardware, ", ") + "."}, nil
}
