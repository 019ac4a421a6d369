package hub

import (
	"context"
	"fmt"

	"idleember/core/access"
	"idleember/core/site"
)

// ChangeSignal changes how a signal is named and shown.
func (h *Hub) ChangeSignal(ctx context.Context, a access.Actor, id string, change func(*site.Signal) error) (Signal, error) {
	var view Signal
	err := h.do(ctx, func() error {
		s, ok := h.site.Signals[id]
		if !ok || access.May(a, access.Look, h.signalObject(s)) != nil {
			return &NotFoundError{"signal", id, site.Nearest(id, h.ids(a, true, false))}
		}
		if err := access.May(a, access.Configure, h.signalObject(s)); err != nil {
			return err
		}
		if err := change(&s); err != nil {
			return err
		}
		saved, err := h.keep(a, edit{part: s})
		if err != nil {
			return err
		}
		view = h.signalView(saved.(site.Signal))
		return nil
	})
	return view, err
}

func checkSignal(s site.Signal) error {
	switch {
	case len(s.Unit) > 20:
		return &InvalidError{"unit", "the unit is longer than 20 characters; use a UCUM symbol such as Cel, % or W"}
	case s.Decimals < 0 || s.Decimals > 6:
		return &InvalidError{"decimals", fmt.Sprintf("decimals is %d; choose between 0 and 6", s.Decimals)}
	case s.IntervalMS < 0 || s.IntervalMS > 24*3600_000:
		return &InvalidError{"interval_ms", fmt.Sprintf("the interval is %s; choose up to 24 h, or 0 to let the hub learn it", s.Interval())}
	case s.Guests == site.GuestsSwitch:
		return &InvalidError{"guests", "a signal can be seen, not switched; choose none or see"}
	}
	if err := s.Validate(); err != nil {
		return &InvalidError{"signal", err.Error()}
	}
	return checkName("name", s.Name)
}

// SaveControl adds a control to a device, or changes it.
func (h *Hub) SaveControl(ctx context.Context, a access.Actor, id string, change func(*site.Control) error) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		c, ok := h.site.Controls[id]
		if !ok {
			return &NotFoundError{"control", id, site.Nearest(id, h.ids(a, false, true))}
		}
		if err := access.May(a, access.Configure, h.controlObject(c)); err != nil {
			return err
		}
		if err := change(&c); err != nil {
			return err
		}
		return h.keepControl(a, c, &view)
	})
	return view, err
}

// AddControl adds a switch to a device, for boards that do not report one by themselves.
func (h *Hub) AddControl(ctx context.Context, a access.Actor, device, name string, change func(*site.Control) error) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, device)
		if err != nil {
			return err
		}
		slug, err := site.Slug(name)
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		c := site.NewControl(d.ID, slug, slug, name)
		if _, ok := h.site.Controls[c.ID]; ok {
			return &InvalidError{"name", fmt.Sprintf("there is already a control with the id %s; choose another name", c.ID)}
		}
		if _, ok := h.site.Signals[c.ID]; ok {
			return &InvalidError{"name", fmt.Sprintf("there is already a signal with the id %s; choose another name", c.ID)}
		}
		if err := change(&c); err != nil {
			return err
		}
		return h.keepControl(a, c, &view)
	})
	return view, err
}

func (h *Hub) keepControl(a access.Actor, c site.Control, view *Control) error {
	saved, err := h.keep(a, edit{part: c})
	if err == nil {
		*view = h.controlView(saved.(site.Control))
	}
	return err
}

// AddSignal adds a signal before its first reading.
func (h *Hub) AddSignal(ctx context.Context, a access.Actor, device, raw string, kind site.ValueKind, change func(*site.Signal)) (Signal, error) {
	var view Signal
	err := h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, device)
		if err != nil {
			return err
		}
		d.NewSignals = true // whatever the board may do, its owner may
		id, known, why := h.nameAnew(d, raw)
		if known {
			why = "it is there already"
		}
		if why != "" {
			return &InvalidError{"name", fmt.Sprintf("%q cannot be added to %s: %s", clip(raw, 40), device, why)}
		}
		s := newSignal(d, id, raw, kind)
		s.New = false
		change(&s)
		saved, err := h.keep(a, edit{part: s})
		if err != nil {
			return err
		}
		view = h.signalView(saved.(site.Signal))
		return nil
	})
	return view, err
}
