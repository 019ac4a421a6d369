package hub

import (
	"cmp"
	"strings"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
)

// fillSignal completes a signal that somebody adds before its first reading, of which they may tell no more than the
// device, the kind and what the device calls it, or will be called after it.
func (h *Hub) fillSignal(before any, e *edit) error {
	s := e.part.(site.Signal)
	if before == nil {
		owner, slug := site.Split(s.ID)
		s.Device = cmp.Or(s.Device, owner)
		s.Raw = cmp.Or(s.Raw, s.Name, slug)
		s.Name = cmp.Or(s.Name, site.OneLine(site.Title(s.Raw), "·"))
		if s.ID == "" {
			slug, err := site.Slug(s.Raw)
			if err != nil {
				return fault.Invalid("name", "%v", err)
			}
			s.ID = s.Device + "." + slug
		}
		if !e.gave("unit") {
			s.Unit = guessUnit(s.Raw)
		}
	}
	if !e.gave("reports") {
		s.Reports = reportsOf(s.Kind)
	}
	s.Guests = cmp.Or(s.Guests, site.GuestsNothing)
	e.part = s
	return nil
}

// fillControl completes a control that somebody adds, of which they may tell no more than the device and a name.
func (h *Hub) fillControl(before any, e *edit) error {
	c := e.part.(site.Control)
	if before == nil {
		owner, slug := site.Split(c.ID)
		c.Device = cmp.Or(c.Device, owner)
		if slug == "" {
			var err error
			if slug, err = site.Slug(c.Name); err != nil {
				return fault.Invalid("name", "%v", err)
			}
			c.ID = c.Device + "." + slug
		}
		c.Raw = cmp.Or(c.Raw, slug)
		c.Name = cmp.Or(c.Name, site.OneLine(site.Title(c.Raw), "·"))
	}
	usual := site.NewControl(c.Device, "", c.Raw, c.Name)
	if !e.gave("confirm_after_ms") {
		c.ConfirmAfterMS = usual.ConfirmAfterMS
	}
	if !e.gave("resume_within_ms") {
		c.ResumeWithinMS = usual.ResumeWithinMS
	}
	if !e.gave("answers") {
		c.Answers = usual.Answers
	}
	if !e.gave("safe") && c.What() == site.Mover {
		c.Safe = site.Stop
	}
	c.Kind = c.What()
	c.AtDevice = cmp.Or(c.AtDevice, usual.AtDevice)
	c.Guests = cmp.Or(c.Guests, usual.Guests)
	e.part = c
	return nil
}

// partOf checks that what somebody adds to a device is of it, and may be called so.
func (h *Hub) partOf(before any, device, id, raw string) error {
	d, ok := h.site.Devices[device]
	owner, slug := site.Split(id)
	switch {
	case !ok:
		return fault.Invalid("device", "there is no device %q; add it first", site.Clip(device, 60))
	case owner != device:
		return fault.Invalid("id", "the id of what %s has begins with %s., not with %s.", d.Name, device, site.Clip(owner,
			60))
	case before != nil:
		return nil
	}
	if err := site.CheckSlug(slug); err != nil {
		return fault.Invalid("id", "%v", err)
	}
	d.NewSignals = true // whatever the board may do, its owner may
	if is, known, why := h.nameAnew(d, raw); known {
		return fault.Invalid("name", "%s calls something %q already: %s", d.Name, site.Clip(raw, 40), is)
	} else if why != "" {
		return fault.Invalid("name", "%q cannot be added to %s: %s", site.Clip(raw, 40), device, why)
	}
	return nil
}

func (h *Hub) checkSignal(_ access.Actor, before any, e *edit) error {
	s := e.part.(site.Signal)
	s.New = false // whoever edits it has looked at it
	e.part = s
	if had, ok := before.(site.Signal); ok {
		switch {
		case s.Kind != had.Kind:
			return fault.Invalid("kind", "the kind of %s stays %s, as its readings are; delete it and add it again for another",
				had.Name, had.Kind)
		case s.Raw != had.Raw || s.Device != had.Device:
			return fault.Invalid("raw", "%s stays what %s calls %q; add another signal for another name", had.Name, had.Device,
				site.Clip(had.Raw, 40))
		}
	}
	if err := h.partOf(before, s.Device, s.ID, s.Raw); err != nil {
		return err
	}
	switch {
	case len(s.Unit) > 20:
		return &fault.InvalidError{Field: "unit",
			Reason: "the unit is longer than 20 characters; use a UCUM symbol such as Cel, % or W"}
	case s.Decimals < 0 || s.Decimals > 6:
		return fault.Invalid("decimals", "decimals is %d; choose between 0 and 6", s.Decimals)
	case s.IntervalMS < 0 || s.IntervalMS > 24*3600_000:
		return fault.Invalid("interval_ms", "the interval is %s; choose up to 24 h, or 0 to let the hub learn it",
			s.Interval())
	case s.Guests == site.GuestsSwitch:
		return fault.Invalid("guests", "a signal can be seen, not switched; choose none or see")
	}
	return nil
}

func (h *Hub) checkControl(_ access.Actor, before any, e *edit) error {
	c := e.part.(site.Control)
	if had, ok := before.(site.Control); ok && (c.Raw != had.Raw || c.Device != had.Device) {
		return fault.Invalid("raw", "%s stays what %s calls %q; add another control for another name", had.Name, had.Device,
			site.Clip(had.Raw, 40))
	}
	return h.partOf(before, c.Device, c.ID, c.Raw)
}

// fillDevice completes a device: over MQTT it has a lease unless it is told otherwise.
func (h *Hub) fillDevice(before any, e *edit) error {
	d := e.part.(site.Device)
	d.Link.Kind = cmp.Or(d.Link.Kind, site.MQTT)
	if !e.gave("lease_ms") && d.Link.Kind == site.MQTT {
		d.LeaseMS = site.DefaultLease.Milliseconds()
	}
	if !e.gave("new_signals") {
		d.NewSignals = true
	}
	if had, ok := before.(site.Device); ok {
		d.Created = had.Created
		d.Model = had.Model
		if d.State != had.State {
			return fault.Invalid("state", "%s is switched off and on again at /devices/%s/state, where its controls are made "+
				"safe", had.Name, had.ID)
		}
	} else if d.State != site.Active {
		return fault.Invalid("state", "a new device is active; leave the state out")
	}
	d.Name = strings.TrimSpace(d.Name)
	e.part = d
	return nil
}
