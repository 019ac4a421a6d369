package hub

import (
	"context"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

func (h *Hub) control(a access.Actor, action access.Action, id string) (site.Control, error) {
	c, ok := h.site.Controls[id]
	if !ok || access.May(a, access.Look, h.controlObject(c)) != nil {
		return c, &NotFoundError{"control", id, site.Nearest(id, h.ids(a, false, true))}
	}
	return c, access.May(a, action, h.controlObject(c))
}

// Control returns one control.
func (h *Hub) Control(ctx context.Context, a access.Actor, id string) (Control, error) {
	var view Control
	err := h.ask(ctx, func() error {
		c, err := h.control(a, access.Look, id)
		if err == nil {
			view = h.controlView(c)
		}
		return err
	})
	return view, err
}

// Settle waits until a control is no longer pending, or was commanded again, or the context ends, and returns how it is.
func (h *Hub) Settle(ctx context.Context, a access.Actor, id string, rev int64) (Control, error) {
	w := h.Watch("", func() (access.Actor, bool) { return a, true })
	for {
		_, _, _, _, changed := w.Next()
		v, err := h.Control(ctx, a, id)
		if err != nil || v.Phase != string(engine.Pending) || v.Rev != rev {
			return v, err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return v, nil
		case <-h.loopEnd:
			return v, ErrStopped
		}
	}
}

// Journal returns up to limit entries before an id (0: the newest), newest first. Presence and the sayings of devices are
// in it too.
func (h *Hub) Journal(ctx context.Context, a access.Actor, object string, before int64, limit int) ([]store.Entry, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	return h.store.Journal(ctx, object, before, min(max(limit, 1), 500))
}

// Backfill stores readings of the past, as a board's history or an import brings them. They are late by definition:
// no live value changes.
func (h *Hub) Backfill(ctx context.Context, a access.Actor, series string, readings []store.Reading) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	const chunk = 5000
	for len(readings) > 0 {
		n := min(chunk, len(readings))
		if err := h.store.Do(ctx, store.AddReadings(series, readings[:n], nil)); err != nil {
			return &StoreError{err}
		}
		readings = readings[n:]
	}
	return nil
}

// Uptime is how long the hub has been running.
func (h *Hub) Uptime() time.Duration { return time.Since(h.started) }
