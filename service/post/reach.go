package post

import (
	"errors"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// errReach is all that is said of an address that was not reached: whether something listens there is not to be
// learnt by naming it.
var errReach = errors.New("the address cannot be reached: it must be a public one that answers https, or one of those that the service " +
	"was started with")

// special are the networks that are not of the public Internet, beside those that package netip knows (IANA's
// registries of special-purpose addresses, RFC 6890).
var special = func() (all []netip.Prefix) {
	for _, text := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15",
		"198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
		"::/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20", "5f00::/16",
		"fec0::/10"} {
		all = append(all, netip.MustParsePrefix(text))
	}
	return all
}()

// Public tells whether an address is of the public Internet.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	if !a.IsGlobalUnicast() || a.IsPrivate() || a.Zone() != "" {
		return false
	}
	for _, p := range special {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

// listed tells whether an address is one of those that the service was started with.
func (p Post) listed(a netip.Addr) bool {
	for _, network := range p.Reach {
		if network.Contains(a.Unmap()) {
			return true
		}
	}
	return false
}

// client sends webhooks. Each address is looked at when it is connected to, after its name was resolved: a name
// that is answered with another address the second time is no way in. Redirects are not followed: the receiver
// that was named is told, and no other.
func (p Post) client(plain bool) *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil || !p.listed(at.Addr()) && (plain || !Public(at.Addr())) {
			return errReach
		}
		return nil
	}}
	return &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true, TLSHandshakeTimeout: 10 * time.Second,
			MaxResponseHeaderBytes: 64 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}
