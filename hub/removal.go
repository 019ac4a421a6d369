package hub

import (
	"context"
	"fmt"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/store"
)

// Taking away begins with the safe value: the hub wants it, waits for the device to say so, and withdraws what it
// wants. What a device did not confirm is told.

// makeSafe begins to take controls away: they go to their safe value, or stay where an interlock forces them if stay
// says so, and it waits until their devices say so. The sentences that it returns tell what could not be confirmed.
// Whoever called ends it with withdraw, or with an engine.Leave that ends where they stay after all.
func (h *Hub) makeSafe(ctx context.Context, a access.Actor, stay bool, controls ...string) (remarks []string,
	err error) {
	longest := time.Duration(0)
	err = h.do(ctx, func() error {
		for _, id := range controls {
			if c, ok := h.site.Controls[id]; ok && h.site.Devices[c.Device].Active() {
				longest = max(longest, c.ConfirmAfter()+time.Second)
			}
		}
		if longest > 0 {
			h.apply(engine.Leave{Controls: controls, Stay: stay, Actor: a})
		}
		return nil
	})
	if err != nil || longest == 0 {
		return nil, err
	}
	wait, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	w := h.Watch("", func() (access.Actor, bool) { return a, true })
	defer w.Close()
	for {
		_, _, _, _, changed := w.Next()
		left := false
		if err := h.ask(ctx, func() error {
			left = h.engine.Left(controls) || !h.anyOnline(controls)
			return nil
		}); err != nil {
			return nil, err
		}
		if left {
			break
		}
		select {
		case <-changed:
			continue
		case <-wait.Done():
		case <-h.loopEnd:
			return nil, ErrStopped
		}
		break
	}
	err = h.do(ctx, func() error { // what the board said is acknowledged before its session ends
		for _, id := range controls {
			if remark := h.leftWords(id); remark != "" {
				remarks = append(remarks, remark)
			}
		}
		return nil
	})
	return remarks, err
}

func (h *Hub) anyOnline(controls []string) bool {
	return slices.ContainsFunc(controls, func(id string) bool {
		d, _ := h.engine.Device(h.site.Controls[id].Device)
		return d.Online
	})
}

// leftWords says what nobody confirmed of a control that is being taken away, "" where all is well.
func (h *Hub) leftWords(id string) string {
	cfg, ok := h.site.Controls[id]
	s, known := h.engine.Control(id)
	if !ok || !known || cfg.Momentary != nil || cfg.What() == site.Mover {
		return ""
	}
	if s.Want == nil {
		if s.Is != nil && *s.Is != cfg.Safe {
			return fmt.Sprintf("%s is %s, and out of service it was told nothing; look at it", cfg.Name, cfg.Say(*s.Is))
		}
		return ""
	}
	d, _ := h.engine.Device(cfg.Device)
	value := cfg.Say(*s.Want)
	switch {
	case s.Phase == engine.Confirmed && *s.Want != cfg.Safe:
		return fmt.Sprintf("%s stays %s, as an interlock forces it", cfg.Name, value)
	case s.Phase == engine.Confirmed || s.Phase == engine.Idle:
		return ""
	case !d.Online:
		return fmt.Sprintf("%s: the device is offline, so %s could not be confirmed; look at it", cfg.Name, value)
	case s.Phase == engine.Sent:
		return fmt.Sprintf("%s: %s was sent; this device cannot confirm", cfg.Name, value)
	}
	return fmt.Sprintf("%s: the device did not confirm %s; look at it", cfg.Name, value)
}

// withdraw ends what is wanted of controls that were made safe. Of those that are removed while their device goes on,
// it says which nobody confirmed: then the hub is silent for a while, so that the board falls back.
func (h *Hub) withdraw(removed bool, controls ...string) {
	for _, id := range controls {
		if _, ok := h.site.Controls[id]; ok {
			h.apply(engine.Withdraw{Control: id, Doubt: removed && !h.engine.Left([]string{id})})
		}
	}
}

// controlsOf returns the controls of a device that the actor may change.
func (h *Hub) controlsOf(ctx context.Context, a access.Actor, device string) (controls []string, err error) {
	err = h.ask(ctx, func() error {
		if _, err := h.device(a, access.Configure, device); err != nil {
			return err
		}
		_, controls = h.site.Of(device)
		return nil
	})
	return controls, err
}

// ReplaceKey is for another board in the place of the old one: it makes its controls safe and gives the device a new
// key. The old key is void at once; ids and history stay.
func (h *Hub) ReplaceKey(ctx context.Context, a access.Actor, id string) (key string, remarks []string, err error) {
	controls, err := h.controlsOf(ctx, a, id)
	if err == nil {
		remarks, err = h.makeSafe(ctx, a, false, controls...)
	}
	if err != nil {
		return "", nil, err
	}
	key, hash := newKey()
	err = h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, id)
		if err != nil {
			return err
		}
		h.withdraw(false, controls...)
		h.apply(engine.Leave{Controls: controls, End: true, Actor: a}) // whatever comes in its place, the hub decides afresh
		h.keys.set(id, hash)
		h.write(store.SaveKey(id, hash))
		h.journal(h.Time(), a, "replace key", id, "", "", "")
		h.later(func(error) { h.boxes.each(id, func(b *Mailbox) { b.close() }) })
		if d.State == site.Removed {
			d.State = site.Active
			h.keepState(a, d)
		}
		return nil
	})
	return key, remarks, err
}

// SetState disables a device, or enables it again.
func (h *Hub) SetState(ctx context.Context, a access.Actor, id string, state site.State, stay bool) (view shown.Device,
	remarks []string, err error) {
	controls, err := h.controlsOf(ctx, a, id)
	if err == nil && state != site.Active {
		remarks, err = h.makeSafe(ctx, a, stay, controls...)
	}
	if err != nil {
		return view, nil, err
	}
	err = h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, id)
		if err != nil {
			return err
		}
		if d.State == site.Removed {
			return &fault.InvalidError{Field: "state", Reason: d.Name + " was removed; give it a new key to bring it back"}
		}
		if state != site.Active {
			h.withdraw(false, controls...)
		}
		if d.State != state {
			d.State = state
			h.keepState(a, d)
		}
		view = h.deviceView(d)
		return nil
	})
	return view, remarks, err
}

func (h *Hub) keepState(a access.Actor, d site.Device) {
	action := map[site.State]string{site.Active: "enable", site.Disabled: "disable", site.Removed: "remove"}[d.State]
	h.changeSite(site.Put(d))
	h.journal(h.Time(), a, action, d.ID, "", "", "")
	h.publishDevice(d.ID)
	if !d.Active() {
		h.later(func(error) { h.boxes.each(d.ID, func(b *Mailbox) { b.close() }) })
	}
}

// RemoveDevice takes a device away, with its history or keeping it. A removed device whose history was kept can be
// deleted with it later.
func (h *Hub) RemoveDevice(ctx context.Context, a access.Actor, id string, history, stay bool) (remarks []string,
	err error) {
	key := site.Key{Kind: "device", ID: id}
	controls, err := h.controlsOf(ctx, a, id)
	if err == nil && !history {
		err = h.ask(ctx, func() error { return h.removable(a, key) })
	}
	if err == nil {
		remarks, err = h.makeSafe(ctx, a, stay, controls...)
	}
	if err != nil {
		return nil, err
	}
	return remarks, h.takeOut(ctx, func() ([]string, error) {
		d, err := h.device(a, access.Configure, id)
		if err != nil {
			return nil, err
		}
		if history {
			h.withdraw(false, controls...)
			d.State = site.Removed
			h.keepState(a, d)
			return nil, nil
		}
		if err := h.removable(a, key); err != nil { // somebody came to need it meanwhile
			h.apply(engine.Leave{Controls: controls, End: true, Actor: a})
			return nil, err
		}
		h.withdraw(false, controls...)
		return h.remove(a, "delete", key)
	})
}

// dropSeries deletes all readings of some series.
func (h *Hub) dropSeries(ctx context.Context, series ...string) error {
	var changes []store.Change
	for _, name := range series {
		changes = append(changes, store.DropSeries(name))
	}
	if err := h.store.Do(ctx, changes...); err != nil {
		return store.Unsaved(err)
	}
	return nil
}

// RemoveControl takes a control away. Its history stays in the journal.
func (h *Hub) RemoveControl(ctx context.Context, a access.Actor, id string, stay bool) (remarks []string, err error) {
	key := site.Key{Kind: "control", ID: id}
	err = h.ask(ctx, func() error {
		if _, err := h.control(a, access.Configure, id); err != nil {
			return err
		}
		return h.removable(a, key)
	})
	if err == nil {
		remarks, err = h.makeSafe(ctx, a, stay, id)
	}
	if err != nil {
		return nil, err
	}
	return remarks, h.takeOut(ctx, func() ([]string, error) {
		if _, err := h.control(a, access.Configure, id); err != nil {
			return nil, err
		}
		if err := h.removable(a, key); err != nil {
			h.apply(engine.Leave{Controls: []string{id}, End: true, Actor: a})
			return nil, err
		}
		h.withdraw(true, id)
		return h.remove(a, "delete", key)
	})
}

// RemoveSignal takes a signal away with its readings.
func (h *Hub) RemoveSignal(ctx context.Context, a access.Actor, id string) error {
	return h.takeOut(ctx, func() ([]string, error) {
		g, ok := h.site.Signals[id]
		if !ok || access.May(a, access.Look, h.signalObject(g)) != nil {
			return nil, fault.NotFound("signal", id, site.Nearest(id, h.glass.As(h.site, a).IDs(true, false))...)
		}
		if err := access.May(a, access.Configure, h.signalObject(g)); err != nil {
			return nil, err
		}
		return h.remove(a, "delete", site.Key{Kind: "signal", ID: id})
	})
}
