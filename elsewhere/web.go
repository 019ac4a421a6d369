package elsewhere

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// Client asks other servers. It follows no redirects and, unless inside is true, speaks to no address in the house: whoever may
// name an address must not reach by it what only the hub can reach.
func Client(inside bool) *http.Client {
	d := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		if inside {
			return nil
		}
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if ip := at.Addr().Unmap(); ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() || ip.IsMulticast() || ip.IsUnspecified() || shared.Contains(ip) {
			return fmt.Errorf("%s is an address in the house; allow that here, if it is meant", ip)
		}
		return nil
	}}
	return &http.Client{
		Transport:     &http.Transport{DialContext: d.DialContext, DisableKeepAlives: true, TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 20 * time.Second},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

var shared = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598
