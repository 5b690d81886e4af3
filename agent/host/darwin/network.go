//go:build unix

package darwin

import (
	"context"
	"net"
	"net/netip"
	"strconv"
	"strings"

	posix "moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
)

// network adds routes (netstat(1)) and resolvers (resolver(5)).
func (t tools) network(ctx context.Context, n *link.Network) {
	if text, err := t.ask(ctx, "/usr/sbin/netstat", "-rn"); err == nil {
		n.Routes = Routes(text)
	}
	posix.Resolvers("/etc/resolv.conf", n)
}

// Routes reads what `netstat -rn` prints: tables with heads, of destination, gateway, flags and interface.
func Routes(text string) []link.Route {
	routes := []link.Route{}
	six := false
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		switch {
		case len(f) == 1 && strings.HasPrefix(f[0], "Internet"):
			six = f[0] == "Internet6:"
		case len(f) < 4 || f[0] == "Destination":
		default:
			to, ok := network(f[0], six)
			if !ok || to.Addr().IsMulticast() {
				continue
			}
			r := link.Route{To: to.String(), Interface: f[3]}
			if by, err := netip.ParseAddr(f[1]); err == nil && strings.Contains(f[2], "G") {
				r.By = by.WithZone("").String()
			}
			routes = append(routes, r)
		}
	}
	return routes
}

// network reads a destination: default, an address without its last zeros (RFC 790's classes are not
// meant: as many octets as there are belong to the network), or with a length.
func network(text string, six bool) (netip.Prefix, bool) {
	if text == "default" {
		if six {
			return netip.MustParsePrefix("::/0"), true
		}
		return netip.MustParsePrefix("0.0.0.0/0"), true
	}
	address, length, given := strings.Cut(text, "/")
	bits, err := strconv.Atoi(length)
	if given && err != nil {
		return netip.Prefix{}, false
	}
	if i := strings.IndexByte(address, '%'); i >= 0 {
		address = address[:i]
	}
	if !six {
		octets := strings.Count(address, ".") + 1
		if !given {
			bits = 8 * octets
		}
		address += strings.Repeat(".0", max(0, 4-octets))
	} else if !given {
		bits = 128
	}
	a, err := netip.ParseAddr(address)
	if err != nil || a.Is4() == six || bits < 0 || bits > a.BitLen() {
		return netip.Prefix{}, false
	}
	return netip.PrefixFrom(a, bits), true
}

func (t tools) neighbours(ctx context.Context) []link.Neighbour {
	text, err := t.ask(ctx, "/usr/sbin/arp", "-an")
	if err != nil {
		return nil
	}
	return Neighbours(text)
}

// Neighbours reads what `arp -an` prints: ? (address) at hardware on interface …
func Neighbours(text string) []link.Neighbour {
	list := []link.Neighbour{}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 6 || f[2] != "at" || f[4] != "on" {
			continue
		}
		octets := strings.Split(f[3], ":") // written without their zeros
		for i, o := range octets {
			if len(o) == 1 {
				octets[i] = "0" + o
			}
		}
		hardware, err := net.ParseMAC(strings.Join(octets, ":"))
		address, err2 := netip.ParseAddr(strings.Trim(f[1], "()"))
		if err != nil || err2 != nil || address.IsMulticast() || hardware.String() == "ff:ff:ff:ff:ff:ff" {
			continue
		}
		list = append(list, link.Neighbour{Address: address.String(), Hardware: hardware.String(), Interface: f[5]})
	}
	return list
}
