package serve

import (
	"context"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/mdns"

	"idleember/hub"
	"idleember/starter"
)

const announceLook = time.Minute // how often name and addresses are looked at

// announcing tells the house over multicast DNS (RFC 6762, RFC 6763) where the console is, so that a phone finds it by
// name.
type announcing struct {
	hub    *hub.Hub
	log    *slog.Logger
	port   int
	said   string
	server *mdns.Server
}

// announce begins to tell where the console is; it ends with the context.
func announce(ctx context.Context, h *hub.Hub, at string, l *slog.Logger) error {
	if starter.Loopback(at) {
		return errors.New("the console listens to this computer alone, so there is nothing to announce; use --announce " +
			"with --http :8480")
	}
	_, text, err := net.SplitHostPort(at)
	if err != nil {
		return err
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		return err
	}
	a := &announcing{hub: h, log: l, port: port}
	if err := a.look(); err != nil {
		return fmt.Errorf("the hub cannot be announced: %w", err)
	}
	go func() {
		for {
			select {
			case <-ctx.Done():
				if a.server != nil {
					_ = a.server.Shutdown()
				}
				return
			case <-time.After(announceLook):
				if err := a.look(); err != nil {
					l.Warn("the hub cannot be announced under its new name or address", "error", err)
				}
			}
		}
	}()
	return nil
}

// look announces anew where name or addresses are others.
func (a *announcing) look() error {
	host, err := os.Hostname()
	if err != nil {
		return err
	}
	host, _, _ = strings.Cut(host, ".")
	name := a.hub.Site().Hub.Name
	if name == "" {
		name = "Idle Ember"
	}
	name = strings.ReplaceAll(name, ".", " ") // a dot would part the name
	var ips []net.IP
	for _, ip := range addresses() {
		if !ip.IsLoopback() {
			ips = append(ips, ip)
		}
	}
	if len(ips) == 0 {
		ips = addresses()
	}
	said := fmt.Sprint(name, host, ips)
	if said == a.said {
		return nil
	}
	if a.server != nil {
		_ = a.server.Shutdown()
		a.server, a.said = nil, ""
	}
	zone, err := mdns.NewMDNSService(name, "_http._tcp", "", host+".local.", a.port, ips, []string{"path=/"})
	if err != nil {
		return err
	}
	if a.server, err = mdns.NewServer(&mdns.Config{Zone: zone, Logger: log.New(logDebug{a.log}, "", 0)}); err != nil {
		return err
	}
	a.said = said
	a.log.Info("announced in the house", "name", name, "host", host+".local", "port", a.port)
	return nil
}

type logDebug struct{ log *slog.Logger }

func (l logDebug) Write(b []byte) (int, error) {
	l.log.Debug("mdns", "said", strings.TrimSpace(string(b)))
	return len(b), nil
}
