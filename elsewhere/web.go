package elsewhere

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// Client asks other servers. It follows no redirects and, unless inside is true, speaks to no address in the house:
// whoever may name an address must not reach by it what only the hub can reach.
func Client(inside bool) *http.Client {
	d := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		if inside {
			return nil
		}
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if ip := at.Addr().Unmap(); Inner(ip) || ownNet(ip) {
			return fmt.Errorf("%s is an address in the house; allow that here, if it is meant", ip)
		}
		return nil
	}}
	return &http.Client{
		Transport: &http.Transport{DialContext: d.DialContext, DisableKeepAlives: true,
			TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 20 * time.Second},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

var (
	shared     = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598
	translated = []netip.Prefix{netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("2002::/16"),
		netip.MustParsePrefix("64:ff9b:1::/48")}
)

// Inner reports whether an address is one that nobody outside of a house can have: of this computer, a private or
// shared network, the link, or of many at once; also where it is written as an IPv6 address that is translated (RFC
// 6052, RFC 3056, RFC 8215).
func Inner(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	if b := ip.As16(); ip.Is6() {
		switch {
		case translated[0].Contains(ip):
			return Inner(netip.AddrFrom4([4]byte(b[12:16])))
		case translated[1].Contains(ip):
			return Inner(netip.AddrFrom4([4]byte(b[2:6])))
		case translated[2].Contains(ip): // of a translator in the house
			return true
		}
	}
	return ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() || ip.IsMulticast() ||
		ip.IsUnspecified() || shared.Contains(ip)
}

// ownNet reports whether an address is in a network of this computer: with IPv6 the devices of a house have public
// addresses.
func ownNet(ip netip.Addr) bool {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return true // then nobody knows
	}
	for _, a := range list {
		if p, err := netip.ParsePrefix(a.String()); err == nil && (p.Addr().Unmap() == ip || ip.Is6() && p.Addr().Is6() &&
			netip.PrefixFrom(p.Addr().WithZone(""), min(p.Bits(), 64)).Contains(ip)) {
			return true
		}
	}
	return false
}
