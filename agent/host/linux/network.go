//go:build linux

package linux

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"net"
	"os"
	"strconv"
	"strings"

	posix "moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
)

// network reads routes (proc(5), /proc/net/route and ipv6_route) and resolvers (resolv.conf(5)).
func network(_ context.Context, n *link.Network) {
	for _, f := range table("/proc/net/route") {
		if len(f) < 8 {
			continue
		}
		to, gate, mask := hexIPv4(f[1]), hexIPv4(f[2]), hexIPv4(f[7])
		if to == nil || mask == nil {
			continue
		}
		ones, _ := net.IPMask(mask).Size()
		r := link.Route{To: to.String() + "/" + strconv.Itoa(ones), Interface: f[0]}
		r.Metric, _ = strconv.Atoi(f[6])
		if gate != nil && !gate.IsUnspecified() {
			r.By = gate.String()
		}
		n.Routes = append(n.Routes, r)
	}
	b, _ := os.ReadFile("/proc/net/ipv6_route")
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		if len(f) < 10 || f[9] == "lo" {
			continue
		}
		to, err := hex.DecodeString(f[0])
		gate, err2 := hex.DecodeString(f[4])
		bits, err3 := strconv.ParseUint(f[1], 16, 8)
		if err != nil || err2 != nil || err3 != nil || net.IP(to).IsMulticast() {
			continue
		}
		r := link.Route{To: net.IP(to).String() + "/" + strconv.FormatUint(bits, 10), Interface: f[9]}
		metric, _ := strconv.ParseUint(f[5], 16, 32)
		r.Metric = int(metric)
		if !net.IP(gate).IsUnspecified() {
			r.By = net.IP(gate).String()
		}
		n.Routes = append(n.Routes, r)
	}
	posix.Resolvers("/etc/resolv.conf", n)
}

// table reads a file of columns without its line of heads.
func table(path string) (rows [][]string) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(b)) {
		rows = append(rows, strings.Fields(line))
	}
	return rows[min(1, len(rows)):]
}

// hexIPv4 reads an address as /proc/net/route writes it: in the order of the machine's bytes.
func hexIPv4(text string) net.IP {
	n, err := strconv.ParseUint(text, 16, 32)
	if err != nil {
		return nil
	}
	return net.IP(binary.NativeEndian.AppendUint32(nil, uint32(n)))
}

// neighbours reads the IPv4 hosts that the kernel has met (proc(5), /proc/net/arp).
func neighbours(context.Context) []link.Neighbour {
	list := []link.Neighbour{}
	for _, f := range table("/proc/net/arp") {
		if len(f) >= 6 && f[3] != "00:00:00:00:00:00" {
			list = append(list, link.Neighbour{Address: f[0], Hardware: f[3], Interface: f[5]})
		}
	}
	return list
}
