// Package itself is the link of a device that is the hub: what the hub knows of itself becomes signals, which are
// charted and watched like any other.
package itself

import (
	"context"
	"log/slog"
	"math"
	"time"

	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link"
)

const (
	name  = "itself"
	every = 15 * time.Second
)

// Run speaks for every device with this link until the context ends.
func Run(ctx context.Context, h *hub.Hub, _ *slog.Logger) {
	link.Each(ctx, h, site.Itself, func(ctx context.Context, dev site.Device) {
		s := hub.Session{Device: dev.ID, ID: name + "-" + dev.ID, Link: name, Client: name}
		h.Online(s)
		before, at := h.Measures(ctx), time.Now()
		for link.Sleep(ctx, every) {
			now := h.Measures(ctx)
			h.Deliver(hub.Arrival{Session: s, Device: dev.ID, Topic: name, Unacknowledged: true, Readings: Readings(before, now,
				time.Since(at))})
			before, at = now, time.Now()
		}
		h.Offline(s, "the hub no longer looks", true)
	})
}

// Readings puts measures into numbers of a size that people read: what counts up becomes a rate.
func Readings(before, now []hub.Measure, took time.Duration) (out []reading.Named) {
	was, is := map[string]float64{}, map[string]float64{}
	for _, m := range before {
		was[m.Name] = m.Value
	}
	add := func(name string, v float64, decimals int) {
		p := math.Pow10(decimals)
		out = append(out, reading.Named{Name: name, Value: reading.Number(math.Round(v*p) / p)})
	}
	for _, m := range now {
		is[m.Name] = m.Value
		switch {
		case m.Name == "commit_seconds" || m.Name == "uptime" || m.Name == "trouble":
		case m.Total:
			add(m.Name+"_per_second", (m.Value-was[m.Name])/took.Seconds(), 2)
		case m.Unit == "By":
			add(m.Name+"_mb", m.Value/1e6, 1)
		case m.Unit == "s":
			add(m.Name+"_hours", m.Value/3600, 1)
		default:
			add(m.Name, m.Value, 1)
		}
	}
	if n := is["commits"] - was["commits"]; n > 0 {
		add("commit_ms", 1000*(is["commit_seconds"]-was["commit_seconds"])/n, 2)
	}
	return out
}
