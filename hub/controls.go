package hub

import (
	"context"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/site"
)

func (h *Hub) control(a access.Actor, action access.Action, id string) (site.Control, error) {
	c, ok := h.site.Controls[id]
	if !ok || access.May(a, access.Look, h.controlObject(c)) != nil {
		return c, fault.NotFound("control", id, site.Nearest(id, h.glass.As(h.site, a).IDs(false, true))...)
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
		return c, &fault.InvalidError{Field: "id", Reason: c.Name + " is out of service since " +
			s.ServiceAt.In(h.site.Hub.Location()).Format("2006-01-02 15:04") + "; an owner can put it back"}
	}
	if _, by := h.linksOf(id); by != "" {
		return c, fault.Invalid("id", "%s is moved by %s; switch that", c.Name, h.site.Controls[by].Name)
	}
	return c, nil
}

// Switch wants a value of a control by hand, until a time where that is not zero. When it returns without an error the
// want is on the disk and on its way; it is not yet confirmed.
func (h *Hub) Switch(ctx context.Context, a access.Actor, id string, to reading.Value, until time.Time) (shown.Control,
	error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		amount, err := amountOf(c, to)
		if err != nil {
			return err
		}
		if !until.IsZero() && !until.After(h.Time()) {
			return fault.Invalid("until", "the end lies in the past; choose a later one")
		}
		if c.Momentary != nil && !until.IsZero() {
			return &fault.InvalidError{Field: "until", Reason: c.Name +
				" is momentary: it pulses and has no end; leave the time out"}
		}
		if a := h.site.Automations[id]; a != nil && a.Travel != nil && a.Travel.Pulses != "" && amount == site.Stop {
			return &fault.InvalidError{Field: "to", Reason: c.Name +
				" has one button, which would start it as well as stop it; it cannot be stopped from here"}
		}
		h.apply(engine.Command{Control: id, To: amount, Until: until, Actor: a})
		return nil
	})
}

// ToAuto gives a control back to the hub.
func (h *Hub) ToAuto(ctx context.Context, a access.Actor, id string) (shown.Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		if !h.site.Automations[id].HasAuto() {
			return &fault.InvalidError{Field: "mode", Reason: c.Name +
				" has no automation; an owner can give it some on the Control page"}
		}
		h.apply(engine.ToAuto{Control: id, Actor: a})
		return nil
	})
}

// ResetInterlocks lets latched interlocks of a control go whose condition is over.
func (h *Hub) ResetInterlocks(ctx context.Context, a access.Actor, id string) (shown.Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		s, _ := h.engine.Control(id)
		if len(s.Latched) == 0 {
			return nil
		}
		h.apply(engine.Reset{Control: id, Actor: a})
		if s, _ = h.engine.Control(id); len(s.Latched) > 0 {
			return fault.Invalid("id", "the interlock %s of %s still holds; it can be reset when its cause is over",
				strings.Join(h.lockNames(id, s.Latched), ", "), c.Name)
		}
		return nil
	})
}

func (h *Hub) command(ctx context.Context, a access.Actor, id string, f func(site.Control) error) (shown.Control,
	error) {
	var view shown.Control
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
func (h *Hub) Serve(ctx context.Context, a access.Actor, id string, service control.Service) (shown.Control, error) {
	var view shown.Control
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

// controlFor returns one control.
func (h *Hub) controlFor(ctx context.Context, a access.Actor, id string) (shown.Control, error) {
	var view shown.Control
	err := h.ask(ctx, func() error {
		c, err := h.control(a, access.Look, id)
		if err == nil {
			view = h.glass.As(h.site, a).Control(h.controlView(c))
		}
		return err
	})
	return view, err
}

// Settle waits until a control is no longer pending, or was commanded again, or the context ends, and returns how it
// is.
func (h *Hub) Settle(ctx context.Context, a access.Actor, id string, rev int64) (shown.Control, error) {
	w := h.Watch("", func() (access.Actor, bool) { return a, true })
	defer w.Close()
	for {
		_, _, _, _, changed := w.Next()
		v, err := h.controlFor(ctx, a, id)
		if err != nil || v.State.Phase != string(engine.Pending) || v.State.Rev != rev {
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
