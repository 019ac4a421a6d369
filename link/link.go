// Package link runs one worker for each device that the hub has to ask or hold a line to.
package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"syscall"
	"time"

	"idleember/contract/shown"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/hub"
)

// Each runs work for every active device with a link of this kind until the context ends. When what the site says of a
// device's link changes, its worker is ended and begun anew.
func Each(ctx context.Context, h *hub.Hub, kind site.LinkKind, work func(ctx context.Context, dev site.Device)) {
	Keep(ctx, h, func(s *site.Site) map[string]string {
		want := map[string]string{}
		for id, d := range s.Devices {
			if d.Active() && d.Link.Kind == kind {
				want[id] = fingerprint(s, d)
			}
		}
		return want
	}, func(ctx context.Context, id string) { work(ctx, h.Site().Devices[id]) })
}

// Keep runs one worker for each key that want returns, and begins it anew when the key's text changes.
func Keep(ctx context.Context, h *hub.Hub, want func(*site.Site) map[string]string, work func(ctx context.Context,
	key string)) {
	type worker struct {
		text string
		stop context.CancelFunc
		done chan struct{}
	}
	running := map[string]*worker{}
	var all sync.WaitGroup
	for ctx.Err() == nil {
		changed := h.Changed()
		wanted := want(h.Site())
		for key, w := range running {
			if wanted[key] != w.text {
				w.stop()
				<-w.done
				delete(running, key)
			}
		}
		for key, text := range wanted {
			if running[key] != nil {
				continue
			}
			inner, stop := context.WithCancel(ctx)
			w := &worker{text, stop, make(chan struct{})}
			running[key] = w
			all.Add(1)
			go func() {
				defer all.Done()
				defer close(w.done)
				work(inner, key)
			}()
		}
		select {
		case <-changed:
		case <-ctx.Done():
		}
	}
	for _, w := range running {
		w.stop()
	}
	all.Wait()
}

// fingerprint is the text of everything that a worker looks at.
func fingerprint(s *site.Site, d site.Device) string {
	type control struct {
		ID, Raw string
		Source  site.Source
		Target  site.Target
	}
	var all struct {
		Link     site.Link
		Lease    time.Duration
		Signals  []site.Signal
		Controls []control
	}
	all.Link, all.Lease = d.Link, d.Lease()
	signals, controls := s.Of(d.ID)
	for _, id := range signals {
		g := s.Signals[id]
		all.Signals = append(all.Signals, site.Signal{ID: id, Raw: g.Raw, Kind: g.Kind, Source: g.Source})
	}
	for _, id := range controls {
		c := s.Controls[id]
		all.Controls = append(all.Controls, control{id, c.Raw, c.Source, c.Target})
	}
	return shown.Version(all)
}

// Backoff is a wait that doubles from First to Most with every failure. Use it by value.
type Backoff struct {
	First, Most time.Duration
	wait        time.Duration
}

// Failed returns how long to wait after one more failure.
func (b *Backoff) Failed() time.Duration {
	b.wait = min(max(2*b.wait, b.First), b.Most)
	return b.wait
}

// Worked forgets the failures.
func (b *Backoff) Worked() { b.wait = 0 }

// Sleep waits, and reports false where the context ended first.
func Sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// Reason says in words why a connection failed.
func Reason(err error) string {
	var dns *net.DNSError
	var timeout interface{ Timeout() bool }
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "it refuses connections; is it running, and is the port right?"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to it; is it switched on and in this network?"
	case errors.As(err, &dns):
		return "its name is unknown; check the address"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "it does not answer"
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return "it closed the connection"
	}
	return err.Error()
}

// Copy is the line that tells a device of a setting of which it has a copy: its value and revision, as in
// set.keep=78,3.
func Copy(x engine.Mirror) string { return fmt.Sprintf("set.%s=%v,%d", x.Raw, x.Said(), x.Rev) }
