package hub

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

// Taking away begins with the safe value: the hub wants it, waits for the device to say so, and withdraws what it wants. What
// a device did not confirm is told.

// makeSafe begins to take controls away: they go to their safe value, or stay where an interlock forces them if stay says so,
// and it waits until their devices say so. The sentences that it returns tell what could not be confirmed. Whoever called
// ends it with withdraw, or with keepOn where they stay after all.
func (h *Hub) makeSafe(ctx context.Context, a access.Actor, stay bool, controls ...string) (remarks []string, err error) {
	longest := time.Duration(0)
	err = h.do(ctx, func() error {
		for _, id := range controls {
			if c, ok := h.site.Controls[id]; ok && h.site.Devices[c.Device].Active() {
				longest = max(longest, c.ConfirmAfter+time.Second)
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

// withdraw ends what is wanted of controls that were made safe. Of those that are removed while their device goes on, it says
// which nobody confirmed: then the hub is silent for a while, so that the board falls back.
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

// ReplaceKey is for another board in the place of the old one: it makes its controls safe and gives the device a new key.
// The old key is void at once; ids and history stay.
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
func (h *Hub) SetState(ctx context.Context, a access.Actor, id string, state site.State, stay bool) (view Device, remarks []string, err error) {
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
			return &InvalidError{"state", d.Name + " was removed; give it a new key to bring it back"}
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
	h.changeSite(func(s *site.Site) { s.Devices[d.ID] = d }, store.SaveDevice(d))
	h.journal(h.Time(), a, action, d.ID, "", "", "")
	h.publishDevice(d.ID)
	if !d.Active() {
		h.later(func(error) { h.boxes.each(d.ID, func(b *Mailbox) { b.close() }) })
	}
}

// RemoveDevice takes a device away, with its history or keeping it. A removed device whose history was kept can be deleted
// with it later.
func (h *Hub) RemoveDevice(ctx context.Context, a access.Actor, id string, history, stay bool) (remarks []string, err error) {
	controls, err := h.controlsOf(ctx, a, id)
	if err == nil {
		remarks, err = h.makeSafe(ctx, a, stay, controls...)
	}
	if err != nil {
		return nil, err
	}
	var series []string
	err = h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, id)
		if err != nil {
			return err
		}
		h.withdraw(false, controls...)
		if history {
			d.State = site.Removed
			h.keepState(a, d)
			return nil
		}
		signals, controls := h.site.Of(id)
		series = append(signals, id)
		for _, c := range controls {
			series = append(series, c+".is", c+".want", c+".mode")
		}
		for g := range h.site.Settings {
			if owner, _ := site.Split(g); owner == id {
				series = append(series, g)
			}
		}
		h.boxes.each(id, func(b *Mailbox) { b.close() })
		h.keys.drop(id)
		h.take(a, id, func(s *site.Site) {
			delete(s.Devices, id)
			for _, g := range signals {
				delete(s.Signals, g)
			}
			for _, c := range controls {
				delete(s.Controls, c)
			}
		}, store.DropDevice(id))
		h.write(store.DropStills(id, h.Time().AddDate(100, 0, 0)), store.DropSecret(cameraPassword(id)))
		h.journal(h.Time(), a, "delete", id, d.Name, "", "with its history")
		delete(h.traffic, id)
		h.meters.drop(id)
		return nil
	})
	if err == nil {
		err = h.dropSeries(ctx, series...)
	}
	return remarks, err
}

// take takes a device, signal or control out of the site with all that speaks of it, so that something that is later made under
// its id inherits nothing: nobody's rights, no alert, no place on a dashboard, and nothing that a wall may switch.
func (h *Hub) take(a access.Actor, id string, out func(*site.Site), drop store.Change) {
	var gone []store.Change
	alerts := h.site.Alerts
	h.changeSite(func(s *site.Site) { out(s); gone = forget(s, id) }, drop)
	h.write(gone...)
	for _, key := range slices.Sorted(maps.Keys(alerts)) {
		if h.site.Alerts[key] == nil {
			object := "alert." + key
			h.writeState(store.AddEntry(h.Time(), a, "remove", object, "alert", "", "it was about "+id, versionOf(object, plain(alerts[key]))))
		}
	}
	h.write(store.DropNotes(id))
	of := func(x string) bool { return speaksOf(x, id) }
	if lines := slices.DeleteFunc(slices.Clone(h.site.Rights), func(l site.Right) bool { return of(l.Of) }); len(lines) < len(h.site.Rights) {
		h.setRights(lines)
	}
	h.boards.mu.Lock()
	for key, d := range h.boards.all {
		if left, changed := d.Without(of); changed {
			h.boards.all[key] = left
			h.write(store.SaveDashboard(left))
		}
	}
	h.boards.mu.Unlock()
	h.people.mu.Lock()
	for sum, x := range h.people.passes {
		w := wallOf(x)
		left := slices.DeleteFunc(slices.Clone(w.Switches), of)
		if x.Kind != "wall" || len(left) == len(w.Switches) {
			continue
		}
		w.Switches = left
		x.Wall = raw(Wall{Dashboard: w.Dashboard, Switches: w.Switches, DimFrom: w.DimFrom, DimUntil: w.DimUntil})
		h.people.passes[sum] = x
		h.write(store.SavePass(x))
	}
	h.people.mu.Unlock()
	h.lookAgain()
}

// speaksOf reports whether an id, or a series of one, is of a device, signal or control.
func speaksOf(x, id string) bool { return x == id || strings.HasPrefix(x, id+".") }

// forget takes everything out of a site that speaks of a device, signal or control: panel points, automation, settings, alerts,
// places in groups, actions. What is left of groups and presets is kept where it still makes sense. Formulas that name it
// are unknown from then on, and say so.
func forget(s *site.Site, id string) (writes []store.Change) {
	of := func(x string) bool { return speaksOf(x, id) }
	var points []site.Point
	for _, pt := range s.Panel.Points {
		if !of(pt.ID) {
			points = append(points, pt)
		}
	}
	s.Panel.Points = points
	writes = append(writes, store.SavePanel(s.Panel))
	for c := range s.Automations {
		if of(c) {
			delete(s.Automations, c)
			writes = append(writes, store.DropPart("automation", c))
		}
	}
	for g := range s.Settings {
		if of(g) {
			delete(s.Settings, g)
			writes = append(writes, store.DropPart("setting", g))
		}
	}
	for key, x := range s.Alerts {
		if of(x.Of) {
			delete(s.Alerts, key)
			writes = append(writes, store.DropPart("alert", key))
		}
	}
	for key, g := range s.Groups {
		left := *g
		left.Members = slices.DeleteFunc(slices.Clone(g.Members), func(m site.GroupMember) bool { return of(m.Control) })
		switch {
		case len(left.Members) == len(g.Members):
		case len(left.Members) < 2:
			delete(s.Groups, key)
			writes = append(writes, store.DropPart("group", key))
		default:
			s.Groups[key] = &left
			writes = append(writes, store.SaveGroup(&left))
		}
	}
	acts := func(list []site.Action) []site.Action {
		return slices.DeleteFunc(slices.Clone(list), func(x site.Action) bool {
			return of(x.ID) && x.Kind != site.DoMessage && x.Kind != site.DoNote && x.Kind != site.DoPreset
		})
	}
	for key, p := range s.Presets {
		if left := acts(p.Actions); len(left) == 0 {
			delete(s.Presets, key)
			writes = append(writes, store.DropPart("preset", key))
		} else if len(left) < len(p.Actions) {
			p.Actions = left
			s.Presets[key] = p
			writes = append(writes, store.SavePreset(p))
		}
	}
	for key, r := range s.Rules {
		changed := *r
		changed.Stages = slices.Clone(r.Stages)
		differs := false
		for i, g := range r.Stages {
			left := acts(g.Actions)
			differs = differs || len(left) < len(g.Actions)
			changed.Stages[i].Actions = left
			changed.Off = changed.Off || len(left) == 0 // it has nothing to do any more
		}
		if differs {
			s.Rules[key] = &changed
			writes = append(writes, store.SaveRule(&changed))
		}
	}
	return writes
}

// dropSeries deletes all readings of some series.
func (h *Hub) dropSeries(ctx context.Context, series ...string) error {
	var changes []store.Change
	for _, name := range series {
		changes = append(changes, store.DropSeries(name))
	}
	if err := h.store.Do(ctx, changes...); err != nil {
		return &StoreError{err}
	}
	return nil
}

// RemoveControl takes a control away. Its history stays in the journal.
func (h *Hub) RemoveControl(ctx context.Context, a access.Actor, id string, stay bool) (remarks []string, err error) {
	err = h.ask(ctx, func() error {
		c, err := h.control(a, access.Configure, id)
		if _, by := h.linksOf(id); err == nil && by != "" {
			return &InvalidError{"id", fmt.Sprintf("%s moves %s; take it out of that first", c.Name, h.site.Controls[by].Name)}
		}
		return err
	})
	if err == nil {
		remarks, err = h.makeSafe(ctx, a, stay, id)
	}
	if err != nil {
		return nil, err
	}
	err = h.do(ctx, func() error {
		c, err := h.control(a, access.Configure, id)
		if err != nil {
			return err
		}
		h.withdraw(true, id)
		h.take(a, id, func(s *site.Site) { delete(s.Controls, id) }, store.DropControl(id))
		h.journal(h.Time(), a, "delete", id, c.Name, "", "")
		return nil
	})
	if err == nil {
		err = h.dropSeries(ctx, id+".is", id+".want", id+".mode")
	}
	return remarks, err
}

// reliedOnBy names the interlock that relies on a signal, "" where none does.
func (h *Hub) reliedOnBy(id string) string {
	for _, c := range slices.Sorted(maps.Keys(h.site.Automations)) {
		for _, l := range h.site.Automations[c].Interlocks {
			only := site.Automation{Interlocks: []site.Interlock{l}}
			if slices.Contains(signalsIn(h.site, only.Formulas), id) {
				return fmt.Sprintf("the interlock “%s” of %s", l.Name, h.site.Controls[c].Name)
			}
		}
	}
	return ""
}

// RemoveSignal takes a signal away with its readings.
func (h *Hub) RemoveSignal(ctx context.Context, a access.Actor, id string) error {
	err := h.do(ctx, func() error {
		g, ok := h.site.Signals[id]
		if !ok || access.May(a, access.Look, h.signalObject(g)) != nil {
			return &NotFoundError{"signal", id, site.Nearest(id, h.ids(a, true, false))}
		}
		if err := access.May(a, access.Configure, h.signalObject(g)); err != nil {
			return err
		}
		if lock := h.reliedOnBy(id); lock != "" {
			return &InvalidError{"id", fmt.Sprintf("%s is what %s relies on; without it nobody could know, and it would hold for ever. Change that first", g.Name, lock)}
		}
		h.take(a, id, func(s *site.Site) { delete(s.Signals, id) }, store.DropSignal(id))
		h.journal(h.Time(), a, "delete", id, g.Name, "", "with its history")
		return nil
	})
	if err != nil {
		return err
	}
	return h.dropSeries(ctx, id)
}
