package hub

import (
	"context"
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/store"
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
		before := s
		if err := change(&s); err != nil {
			return err
		}
		s.New = false
		if err := checkSignal(s); err != nil {
			return err
		}
		h.changeSite(func(c *site.Site) { c.Signals[id] = s }, store.SaveSignal(s))
		h.journalChange(a, id, before, s)
		view = h.signalView(s)
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
	case s.Interval < 0 || s.Interval > 24*time.Hour:
		return &InvalidError{"interval_ms", fmt.Sprintf("the interval is %s; choose up to 24 h, or 0 to let the hub learn it", s.Interval)}
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
		before := c
		if err := access.May(a, access.Configure, h.controlObject(c)); err != nil {
			return err
		}
		if err := change(&c); err != nil {
			return err
		}
		return h.keepControl(a, before, c, &view)
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
		return h.keepControl(a, site.Control{}, c, &view)
	})
	return view, err
}

func (h *Hub) keepControl(a access.Actor, before, c site.Control, view *Control) error {
	if err := checkName("name", c.Name); err != nil {
		return err
	}
	if err := c.Validate(); err != nil {
		return &InvalidError{"control", err.Error()}
	}
	h.changeSite(func(s *site.Site) { s.Controls[c.ID] = c }, store.SaveControl(c))
	if before.ID == "" {
		h.journal(h.Time(), a, "add", c.ID, "", "switch", "")
	} else {
		h.journalChange(a, c.ID, before, c)
	}
	*view = h.controlView(c)
	h.publishControl(c.ID)
	return nil
}

// AddSignal adds a signal before its first reading.
func (h *Hub) AddSignal(ctx context.Context, a access.Actor, device, raw string, kind site.Kind, change func(*site.Signal)) (Signal, error) {
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
		if err := checkSignal(s); err != nil {
			return err
		}
		h.changeSite(func(c *site.Site) { c.Signals[id] = s }, store.SaveSignal(s))
		h.journal(h.Time(), a, "add", id, "", "signal", "")
		view = h.signalView(s)
		return nil
	})
	return view, err
}
