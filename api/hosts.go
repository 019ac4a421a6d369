package api

import (
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"idleember/elsewhere"
)

// inner are the domains that nobody can register: who asks for a name below them is in a house (RFC 6761, RFC 6762, RFC
// 8375, and what routers use).
var inner = []string{"localhost", "local", "home.arpa", "internal", "lan", "home", "localdomain", "test"}

// hosted refuses requests for a name that is not the hub's. A page of somebody else could have its own name lead here
// (DNS rebinding), and a browser would let it read what it is answered.
func (s *Server) hosted(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if host := hostOf(c.Request().Host); !s.isHost(c.Request(), host) {
			return echo.NewHTTPError(http.StatusMisdirectedRequest,
				"this hub is not called "+clipped(host)+"; use its address, or start it with --host "+clipped(host))
		}
		return next(c)
	}
}

func clipped(s string) string { return s[:min(len(s), 100)] }

func hostOf(host string) string {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	return strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
}

func (s *Server) isHost(r *http.Request, host string) bool {
	if host == "" { // of a program; browsers always say it
		return true
	}
	if behind, _ := r.Context().Value(proxyKey{}).(bool); behind { // a trusted proxy knows what it answers for
		return true
	}
	if ip, err := netip.ParseAddr(host); err == nil {
		if elsewhere.Inner(ip) {
			return true
		}
		local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
		at, err := netip.ParseAddrPort(addressText(local))
		return err == nil && at.Addr().Unmap().WithZone("") == ip.Unmap().WithZone("")
	}
	if !strings.Contains(host, ".") {
		return true
	}
	for _, domain := range inner {
		if strings.HasSuffix(host, "."+domain) {
			return true
		}
	}
	if name, err := os.Hostname(); err == nil && strings.EqualFold(name, host) {
		return true
	}
	_, rest, _ := strings.Cut(s.hub.Site().Messaging.Address, "://")
	told, _, _ := strings.Cut(rest, "/")
	for _, name := range append(s.o.Hosts, hostOf(told)) {
		if strings.EqualFold(name, host) {
			return true
		}
	}
	return false
}

func addressText(a net.Addr) string {
	if a == nil {
		return ""
	}
	return a.String()
}

type proxyKey struct{} // a trusted proxy passed the request on

// refusals tells the log of requests that were refused, so that somebody who looks sees who tried what; of each address
// a few a minute, and how many more there were.
type refusals struct {
	mu   sync.Mutex
	of   map[string]*refusal
	next time.Time
}

type refusal struct{ told, more int }

const (
	toldRefusals = 5 // of an address a minute
	mostRefusers = 1000
)

func (f *refusals) tell(log *slog.Logger, r *http.Request, from, who string, status int, why string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now := time.Now(); f.of == nil || now.After(f.next) {
		for from, x := range f.of {
			if x.more > 0 {
				log.Warn("more requests were refused", "from", from, "requests", x.more)
			}
		}
		f.of, f.next = map[string]*refusal{}, now.Add(time.Minute)
	}
	x := f.of[from]
	if x == nil {
		if len(f.of) >= mostRefusers {
			return
		}
		x = &refusal{}
		f.of[from] = x
	}
	if x.told++; x.told > toldRefusals {
		x.more++
		return
	}
	log.Warn("a request was refused", "from", from, "who", who, "method", r.Method, "path", clipped(r.URL.Path), "status",
		status, "why", why)
}
