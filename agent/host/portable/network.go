package portable

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"moorwatch.example/contract/link"
)

// Network implements host.Network where systems are alike; what More adds is the system's own.
type Network struct {
	More       func(ctx context.Context, n *link.Network) // routes and resolvers
	Neighbours func(ctx context.Context) []link.Neighbour
}

// maxConnections is the most connections that are told of.
const maxConnections = 5000

// Network implements host.Network.
func (w Network) Network(ctx context.Context) (link.Network, error) {
	n := link.Network{Interfaces: []link.Interface{}, Routes: []link.Route{}, Neighbours: []link.Neighbour{}, Resolvers: []string{},
		Connections: connections(ctx)}
	all, err := net.Interfaces()
	if err != nil {
		return n, err
	}
	for _, i := range all {
		one := link.Interface{Name: i.Name, Hardware: i.HardwareAddr.String(), Up: i.Flags&net.FlagUp != 0, MTU: i.MTU,
			Addresses: []string{}}
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			one.Addresses = append(one.Addresses, a.String())
		}
		n.Interfaces = append(n.Interfaces, one)
	}
	if w.Neighbours != nil {
		n.Neighbours = append(n.Neighbours, w.Neighbours(ctx)...)
	}
	if w.More != nil {
		w.More(ctx, &n)
	}
	return n, nil
}

func connections(ctx context.Context) []link.Connection {
	list := []link.Connection{}
	all, err := psnet.ConnectionsWithContext(ctx, "inet")
	if err != nil {
		return list
	}
	names := map[int32]string{}
	end := func(a psnet.Addr) string {
		if a.Port == 0 && a.IP == "" {
			return ""
		}
		return net.JoinHostPort(a.IP, strconv.Itoa(int(a.Port)))
	}
	for _, c := range all {
		one := link.Connection{Protocol: "tcp", Local: end(c.Laddr), Remote: end(c.Raddr),
			State: strings.ToLower(strings.ReplaceAll(c.Status, "_", " ")), PID: int(c.Pid)}
		if c.Type == syscall.SOCK_DGRAM {
			one.Protocol, one.State = "udp", ""
		}
		if c.Pid > 0 {
			name, ok := names[c.Pid]
			if !ok {
				if p, err := process.NewProcessWithContext(ctx, c.Pid); err == nil {
					name, _ = p.NameWithContext(ctx)
				}
				names[c.Pid] = name
			}
			one.Process = name
		}
		list = append(list, one)
	}
	slices.SortStableFunc(list, func(a, b link.Connection) int {
		return cmp.Or(cmp.Compare(b.State, a.State), cmp.Compare(a.Local, b.Local))
	})
	return list[:min(len(list), maxConnections)]
}

// reachWithin is how long one try waits.
const reachWithin = 4 * time.Second

// Reach implements host.Network.
func (Network) Reach(ctx context.Context, r link.Reach, send func(link.ReachResult) error) error {
	try, err := trier(r)
	if err != nil {
		return err
	}
	times := min(max(r.Times, 1), 100)
	var took []time.Duration
	for i := range times {
		if i > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Second):
			}
		}
		began := time.Now()
		attempt, cancel := context.WithTimeout(ctx, reachWithin)
		text, err := try(attempt)
		late := attempt.Err() != nil
		cancel()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		result := link.ReachResult{OK: err == nil, Text: text, Milliseconds: float64(time.Since(began).Microseconds()) / 1000}
		if err != nil {
			result.Text, result.Milliseconds = plainly(err), 0
			if late {
				result.Text = fmt.Sprintf("no answer within %s", reachWithin)
			}
		} else {
			took = append(took, time.Since(began))
		}
		if err := send(result); err != nil {
			return err
		}
	}
	sum := link.ReachResult{OK: len(took) > 0, Done: true, Text: fmt.Sprintf("%d of %d tries answered", len(took), times)}
	if len(took) > 0 {
		slices.Sort(took)
		sum.Milliseconds = float64(took[len(took)/2].Microseconds()) / 1000
	}
	return send(sum)
}

// plainly says why something was not reached, without the names of calls.
func plainly(err error) string {
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case errors.As(err, &dns):
		return dns.Err
	case errors.Is(err, syscall.ECONNREFUSED):
		return "it refuses: nothing listens there"
	case errors.As(err, &op):
		return op.Err.Error()
	}
	return err.Error()
}

// trier returns one try of a test.
func trier(r link.Reach) (func(ctx context.Context) (string, error), error) {
	bad := func(format string, args ...any) error {
		return &link.Problem{Status: http.StatusBadRequest, Reason: fmt.Sprintf(format, args...)}
	}
	if r.Target == "" || strings.HasPrefix(r.Target, "-") {
		return nil, bad("Which host? Name it, or give its address.")
	}
	switch r.Kind {
	case "tcp":
		if r.Port < 1 || r.Port > 65535 {
			return nil, bad("A port is a number from 1 to 65535.")
		}
		return func(ctx context.Context) (string, error) {
			c, err := new(net.Dialer).DialContext(ctx, "tcp", net.JoinHostPort(r.Target, strconv.Itoa(r.Port)))
			if err != nil {
				return "", err
			}
			defer c.Close()
			return fmt.Sprintf("connected to %s", c.RemoteAddr()), nil
		}, nil
	case "name":
		return func(ctx context.Context) (string, error) {
			all, err := net.DefaultResolver.LookupHost(ctx, r.Target)
			return strings.Join(all, ", "), err
		}, nil
	case "web":
		u, err := url.Parse(r.Target)
		if err != nil || (u.Scheme != "http" && u.Scheme != "https") {
			return nil, bad("%q is no address of a page: it begins with http:// or https://.", r.Target)
		}
		return func(ctx context.Context) (string, error) { return fetch(ctx, u.String()) }, nil
	case "echo":
		return func(ctx context.Context) (string, error) { return echo(ctx, r.Target) }, nil
	}
	return nil, bad("There is no test %q: there are echo, tcp, name and web.", r.Kind)
}

func fetch(ctx context.Context, address string) (string, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	client := http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return "", err
	}
	answer.Body.Close()
	return "it answers " + answer.Status, nil
}

var echoes atomic.Uint32

// echo sends one ICMP echo (RFC 792): through a raw socket where the agent may have one, else
// through the system's unprivileged kind.
func echo(ctx context.Context, host string) (string, error) {
	ips, err := net.DefaultResolver.LookupIP(ctx, "ip4", host)
	if err != nil {
		return "", err
	}
	c, err := icmp.ListenPacket("ip4:icmp", "0.0.0.0")
	var to net.Addr = &net.IPAddr{IP: ips[0]}
	if err != nil {
		if c, err = icmp.ListenPacket("udp4", "0.0.0.0"); err != nil {
			return "", errors.New("this device lets the agent send no echoes: test a port instead")
		}
		to = &net.UDPAddr{IP: ips[0]}
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	seq := int(echoes.Add(1) & 0xffff)
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: seq, Data: []byte("moorwatch")}}
	b, err := m.Marshal(nil)
	if err != nil {
		return "", err
	}
	if _, err := c.WriteTo(b, to); err != nil {
		return "", err
	}
	in := make([]byte, 1500)
	for {
		n, _, err := c.ReadFrom(in)
		if err != nil {
			return "", err
		}
		got, err := icmp.ParseMessage(1, in[:n])
		if err != nil {
			continue
		}
		if e, ok := got.Body.(*icmp.Echo); ok && got.Type == ipv4.ICMPTypeEchoReply && e.Seq == seq {
			return "answer from " + ips[0].String(), nil
		}
	}
}

// scanPorts are the ports by which a host shows that it is there, and often what it is: shells,
// web pages, file shares, remote desktops, printers.
var scanPorts = []int{22, 80, 135, 139, 443, 445, 515, 631, 3389, 5900, 5985, 8080, 9100, 62078}

const (
	scanAtOnce = 64 // hosts
	scanWithin = 700 * time.Millisecond
	scanLeast  = 20 // the shortest prefix of a network that is scanned: 4,094 hosts
)

// Scan implements host.Network. It tries to connect to a few ports of each address; a refusal
// shows a host as well as an answer does, and so does the address's entry among the neighbours.
func (w Network) Scan(ctx context.Context, s link.Scan, send func(link.ScanEvent) error) error {
	hosts, err := w.hosts(ctx, s.Network)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var mu sync.Mutex
	var failed error
	tried := 0
	found := map[string]*link.Neighbour{}
	slots := make(chan struct{}, scanAtOnce)
	var running sync.WaitGroup
	for _, ip := range hosts {
		select {
		case slots <- struct{}{}:
		case <-ctx.Done():
		}
		if ctx.Err() != nil {
			break
		}
		running.Go(func() {
			defer func() { <-slots }()
			there, open := knock(ctx, ip)
			mu.Lock()
			defer mu.Unlock()
			tried++
			e := link.ScanEvent{Tried: tried, Of: len(hosts)}
			if there {
				e.Found = &link.Neighbour{Address: ip.String(), Open: open}
				found[ip.String()] = e.Found
			}
			if there || tried%16 == 0 {
				if err := send(e); err != nil {
					failed = err
					cancel()
				}
			}
		})
	}
	running.Wait()
	if failed != nil || ctx.Err() != nil {
		return errors.Join(failed, ctx.Err())
	}
	// Those that keep silent to strangers have still told the device their hardware address.
	if w.Neighbours != nil {
		inside := map[string]bool{}
		for _, ip := range hosts {
			inside[ip.String()] = true
		}
		for _, n := range w.Neighbours(ctx) {
			if !inside[n.Address] || n.Hardware == "" {
				continue
			}
			if f := found[n.Address]; f != nil {
				n.Open = f.Open
			}
			if err := send(link.ScanEvent{Found: &n, Tried: tried, Of: len(hosts)}); err != nil {
				return err
			}
		}
	}
	return send(link.ScanEvent{Tried: tried, Of: len(hosts), Done: true})
}

// hosts lists the addresses of a network, which must be one that the computer is on.
func (w Network) hosts(ctx context.Context, network string) ([]netip.Addr, error) {
	bad := func(format string, args ...any) error {
		return &link.Problem{Status: http.StatusBadRequest, Reason: fmt.Sprintf(format, args...)}
	}
	p, err := netip.ParsePrefix(network)
	if err != nil || !p.Addr().Is4() {
		return nil, bad("%q is no IPv4 network: write it as 192.0.2.0/24.", network)
	}
	p = p.Masked()
	if p.Bits() < scanLeast {
		return nil, bad("%s is too large: at most a /%d is scanned.", p, scanLeast)
	}
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil, err
	}
	own := false
	for _, a := range all {
		if mine, err := netip.ParsePrefix(a.String()); err == nil && mine.Masked().Overlaps(p) && mine.Bits() <= p.Bits() {
			own = true
		}
	}
	if !own {
		return nil, bad("The device is not on the network %s: it scans its own alone.", p)
	}
	var list []netip.Addr
	for ip := p.Addr(); p.Contains(ip); ip = ip.Next() {
		list = append(list, ip)
	}
	if len(list) > 2 {
		list = list[1 : len(list)-1] // not the network itself, nor its broadcast
	}
	return list, ctx.Err()
}

// knock tells whether a host is at an address, and which ports are open.
func knock(ctx context.Context, ip netip.Addr) (there bool, open []int) {
	ctx, cancel := context.WithTimeout(ctx, scanWithin)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	for _, port := range scanPorts {
		all.Go(func() {
			c, err := new(net.Dialer).DialContext(ctx, "tcp", netip.AddrPortFrom(ip, uint16(port)).String())
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				c.Close()
				there = true
				open = append(open, port)
			} else if errors.Is(err, syscall.ECONNREFUSED) {
				there = true
			}
		})
	}
	all.Wait()
	slices.Sort(open)
	return there, open
}

// Wake implements host.Network. A magic packet is six bytes of 255 and sixteen times the address.
func (Network) Wake(ctx context.Context, w link.Wake) (link.Outcome, error) {
	targets := []string{"255.255.255.255:9"}
	all, err := net.InterfaceAddrs()
	if err != nil {
		return link.Outcome{}, err
	}
	for _, a := range all {
		n, ok := a.(*net.IPNet)
		if !ok || n.IP.To4() == nil || n.IP.IsLoopback() {
			continue
		}
		broadcast := slices.Clone(n.IP.To4())
		for i := range broadcast {
			broadcast[i] |= ^n.Mask[len(n.Mask)-4+i]
		}
		targets = append(targets, net.JoinHostPort(broadcast.String(), "9"))
	}
	sent := 0
	for _, text := range w.Hardware {
		mac, err := net.ParseMAC(text)
		if err != nil || len(mac) != 6 {
			return link.Outcome{}, &link.Problem{Status: http.StatusBadRequest, Reason: fmt.Sprintf("%q is no hardware address.", text)}
		}
		packet, _ := hex.DecodeString("ffffffffffff" + strings.Repeat(hex.EncodeToString(mac), 16))
		for _, to := range targets {
			if wakeOne(ctx, to, packet) == nil {
				sent++
			}
		}
	}
	if sent == 0 {
		return link.Outcome{}, &link.Problem{Status: http.StatusUnprocessableEntity,
			Reason: "The network takes no broadcast from this device."}
	}
	return link.Outcome{Message: fmt.Sprintf("The call was sent to %s on %d networks.", strings.Join(w.Hardware, ", "), len(targets)-1)},
		nil
}

func wakeOne(ctx context.Context, to string, packet []byte) error {
	d := net.Dialer{Control: broadcasting}
	c, err := d.DialContext(ctx, "udp4", to)
	if err != nil {
		return err
	}
	defer c.Close()
	_, err = c.Write(packet)
	return err
}
