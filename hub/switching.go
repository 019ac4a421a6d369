package hub

import (
	"context"
	"fmt"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/reading"
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

// switchable returns a control that the actor may switch now.
func (h *Hub) switchable(a access.Actor, id string) (site.Control, error) {
	c, err := h.control(a, access.Switch, id)
	if err != nil {
		return c, err
	}
	if s, _ := h.engine.Control(id); s.Service != control.InService {
		return c, &InvalidError{"id", c.Name + " is out of service since " + s.ServiceAt.In(h.site.Hub.Location()).Format("2006-01-02 15:04") + "; an owner can put it back"}
	}
	if _, by := h.linksOf(id); by != "" {
		return c, &InvalidError{"id", fmt.Sprintf("%s is moved by %s; switch that", c.Name, h.site.Controls[by].Name)}
	}
	return c, nil
}

// Switch wants a value of a control by hand, until a time where that is not zero. When it returns without an error the want
// is on the disk and on its way; it is not yet confirmed.
func (h *Hub) Switch(ctx context.Context, a access.Actor, id string, to reading.Value, until time.Time) (Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		amount, err := AmountOf(c, to)
		if err != nil {
			return err
		}
		if !until.IsZero() && !until.After(h.Time()) {
			return &InvalidError{"until", "the end lies in the past; choose a later one"}
		}
		if c.Momentary != nil && !until.IsZero() {
			return &InvalidError{"until", c.Name + " is momentary: it pulses and has no end; leave the time out"}
		}
		if a := h.site.Automations[id]; a != nil && a.Travel != nil && a.Travel.Pulses != "" && amount == site.Stop {
			return &InvalidError{"to", c.Name + " has one button, which would start it as well as stop it; it cannot be stopped from here"}
		}
		h.apply(engine.Command{Control: id, To: amount, Until: until, Actor: a})
		return nil
	})
}

// ToAuto gives a control back to the hub.
func (h *Hub) ToAuto(ctx context.Context, a access.Actor, id string) (Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		if !h.site.Automations[id].HasAuto() {
			return &InvalidError{"mode", c.Name + " has no automation; an owner can give it some on the Control page"}
		}
		h.apply(engine.ToAuto{Control: id, Actor: a})
		return nil
	})
}

// ResetInterlocks lets latched interlocks of a control go whose condition is over.
func (h *Hub) ResetInterlocks(ctx context.Context, a access.Actor, id string) (Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		s, _ := h.engine.Control(id)
		if len(s.Latched) == 0 {
			return nil
		}
		h.apply(engine.Reset{Control: id, Actor: a})
		if s, _ = h.engine.Control(id); len(s.Latched) > 0 {
			return &InvalidError{"id", fmt.Sprintf("the interlock %s of %s still holds; it can be reset when its cause is over", strings.Join(h.lockNames(id, s.Latched), ", "), c.Name)}
		}
		return nil
	})
}

func (h *Hub) command(ctx context.Context, a access.Actor, id string, f func(site.Control) error) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		c, err := h.switchable(a, id)
		if err == nil {
			err = f(c)
		}
		if err == nil {
			view = h.controlView(c)
		}
		return err
	})
	return view, err
}

// Serve takes a control out of service for repairs, or puts it back.
func (h *Hub) Serve(ctx context.Context, a access.Actor, id string, service control.Service) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		c, err := h.control(a, access.Configure, id)
		if err != nil {
			return err
		}
		h.apply(engine.Serve{Control: id, Service: service, Actor: a})
		view = h.controlView(c)
		return nil
	})
	return view, err
}

// Control returns one control.
func (h *Hub) Control(ctx context.Context, a access.Actor, id string) (Control, error) {
	var view Control
	err := h.ask(ctx, func() error {
		c, err := h.control(a, access.Look, id)
		if err == nil {
			view = h.sightOf(h.site, a).control(h.controlView(c))
		}
		return err
	})
	return view, err
}

// Settle waits until a control is no longer pending, or was commanded again, or the context ends, and returns how it is.
func (h *Hub) Settle(ctx context.Context, a access.Actor, id string, rev int64) (Control, error) {
	w := h.Watch("", func() (access.Actor, bool) { return a, true })
	defer w.Close()
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

// Backfill stores readings of the past, as a board's history or an import brings them. They are late by definition:
// no live value changes.
func (h *Hub) Backfill(ctx context.Context, a access.Actor, series string, readings []store.Reading) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	const chunk = 5000
	for len(readings) > 0 {
		n := min(chunk, len(readings))
		if err := h.store.Bring(ctx, store.AddReadings(series, readings[:n], nil)); err != nil {
			return &StoreError{err}
		}
		readings = readings[n:]
	}
	return nil
}

// Uptime is how long the hub has been running.
func (h *Hub) Uptime() time.Duration { return time.Since(h.started) }
