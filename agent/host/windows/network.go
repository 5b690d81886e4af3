//go:build windows

package windows

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/contract/link"
)

var (
	iphlpapi      = windows.NewLazySystemDLL("iphlpapi.dll")
	getIPNetTable = iphlpapi.NewProc("GetIpNetTable")
)

// adapters calls each with the adapters that there are.
func adapters(each func(a *windows.IpAdapterAddresses)) error {
	const flags = windows.GAA_FLAG_INCLUDE_PREFIX | windows.GAA_FLAG_INCLUDE_GATEWAYS
	size := uint32(64 << 10)
	for {
		b := make([]byte, size)
		first := (*windows.IpAdapterAddresses)(unsafe.Pointer(&b[0]))
		err := windows.GetAdaptersAddresses(windows.AF_UNSPEC, flags, 0, first, &size)
		if err == windows.ERROR_BUFFER_OVERFLOW && size < 4<<20 {
			continue
		}
		if err != nil {
			return err
		}
		for a := first; a != nil; a = a.Next {
			each(a)
		}
		return nil
	}
}

// network adds routes and resolvers.
func network(_ context.Context, n *link.Network) {
	names := map[uint32]string{}
	adapters(func(a *windows.IpAdapterAddresses) {
		name := windows.UTF16PtrToString(a.FriendlyName)
		names[a.IfIndex] = name
		if a.OperStatus != windows.IfOperStatusUp {
			return
		}
		for d := a.FirstDnsServerAddress; d != nil; d = d.Next {
			if ip := d.Address.IP(); ip != nil && !slices.Contains(n.Resolvers, ip.String()) {
				n.Resolvers = append(n.Resolvers, ip.String())
			}
		}
		if suffix := windows.UTF16PtrToString(a.DnsSuffix); suffix != "" && !slices.Contains(n.Search, suffix) {
			n.Search = append(n.Search, suffix)
		}
	})
	var table *windows.MibIpForwardTable2
	if windows.GetIpForwardTable2(windows.AF_UNSPEC, &table) != nil || table == nil {
		return
	}
	defer windows.FreeMibTable(unsafe.Pointer(table))
	for _, row := range table.Rows() {
		to := addressOf(&row.DestinationPrefix.Prefix)
		if !to.IsValid() {
			continue
		}
		r := link.Route{To: netip.PrefixFrom(to, int(row.DestinationPrefix.PrefixLength)).String(), Interface: names[row.InterfaceIndex],
			Metric: int(row.Metric)}
		if by := addressOf(&row.NextHop); by.IsValid() && !by.IsUnspecified() {
			r.By = by.String()
		}
		n.Routes = append(n.Routes, r)
	}
}

// addressOf reads SOCKADDR_INET.
func addressOf(a *windows.RawSockaddrInet) netip.Addr {
	switch a.Family {
	case windows.AF_INET:
		return netip.AddrFrom4((*windows.RawSockaddrInet4)(unsafe.Pointer(a)).Addr)
	case windows.AF_INET6:
		return netip.AddrFrom16((*windows.RawSockaddrInet6)(unsafe.Pointer(a)).Addr)
	}
	return netip.Addr{}
}

// ipNetRow is MIB_IPNETROW.
type ipNetRow struct {
	index, length uint32
	hardware      [8]byte
	address       [4]byte
	kind          uint32
}

// neighbours lists whom the computer has met on its networks.
func neighbours(context.Context) []link.Neighbour {
	names := map[uint32]string{}
	adapters(func(a *windows.IpAdapterAddresses) { names[a.IfIndex] = windows.UTF16PtrToString(a.FriendlyName) })
	size := uint32(32 << 10)
	for {
		b := make([]byte, size)
		code, _, _ := getIPNetTable.Call(uintptr(unsafe.Pointer(&b[0])), uintptr(unsafe.Pointer(&size)), 1)
		if windows.Errno(code) == windows.ERROR_INSUFFICIENT_BUFFER && size < 4<<20 {
			continue
		}
		if code != 0 || size < 4 {
			return nil
		}
		n := *(*uint32)(unsafe.Pointer(&b[0]))
		list := []link.Neighbour{}
		for i := range int(n) {
			at := 4 + i*int(unsafe.Sizeof(ipNetRow{}))
			if at+int(unsafe.Sizeof(ipNetRow{})) > len(b) {
				break
			}
			row := (*ipNetRow)(unsafe.Pointer(&b[at]))
			address := netip.AddrFrom4(row.address)
			const invalid = 2
			if row.kind == invalid || row.length != 6 || address.IsMulticast() || row.hardware[0] == 0xff {
				continue
			}
			list = append(list, link.Neighbour{Address: address.String(), Hardware: net.HardwareAddr(row.hardware[:6]).String(),
				Interface: names[row.index]})
		}
		return list
	}
}
