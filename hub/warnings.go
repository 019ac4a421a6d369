package hub

import (
	"fmt"
	"slices"
	"strings"

	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/formula"
	"idleember/core/site"
)

// checkRing refuses automation that comes back to itself, or says so where it did before as well.
func (h *Hub) checkRing(id string, next *site.Automation) (remarks []string, err error) {
	s := h.site.Clone()
	s.Automations[id] = next
	ring := engine.Ring(s, id)
	if ring == nil {
		return nil, nil
	}
	text := ringWords(h.site, ring)
	if engine.Ring(h.site, id) == nil {
		return nil, &fault.InvalidError{Field: "automation", Reason: text +
			" Let one of them look at a reading, or at what a control is (.is) instead of what is wanted of it"}
	}
	return []string{text + " It is held when it changes too often"}, nil
}

// ringWords spells a ring out.
func ringWords(s *site.Site, ring []string) string {
	var names []string
	for _, id := range append(ring, ring[0]) {
		name := id
		if c, ok := s.Controls[id]; ok {
			name = c.Name
		} else if g, ok := s.Settings[id]; ok {
			name = g.Name
		}
		names = append(names, name)
	}
	return "This comes back to itself without a reading between, and would never come to rest: " + strings.Join(names,
		" → ") + "."
}

// warnings says what an owner should look at before heat, water or doors are left to an automation. Long, because it
// is one list of what an owner should look at.
func (h *Hub) warnings(c site.Control, a *site.Automation) (remarks []string) {
	add := func(format string, args ...any) { remarks = append(remarks, fmt.Sprintf(format, args...)) }
	for i, d := range a.Demands {
		heats := d.Kind == engine.HoldAbove && c.Dangerous
		if heats && a.Limits.LongestOnMS == 0 {
			add("%s heats and has no longest on; a sensor that lies would keep it on", c.Name)
		}
		only := site.Automation{Demands: []site.Demand{d}}
		for _, id := range signalsIn(h.site, only.Formulas) {
			s := h.site.Signals[id]
			state, known := h.engine.Signal(id)
			if heats && s.Kind == site.Number && s.Sense.Lowest == nil && s.Sense.Highest == nil {
				add("%s has no plausible range; a broken sensor that says nonsense would be believed", s.Name)
			}
			if c.Dangerous && known && s.Reports == site.Periodic && s.IntervalMS == 0 && state.Fixed == 0 {
				add("how often %s reports is not known yet; until it is, its silence is noticed after 15 min", s.Name)
			}
			if d.Floor && known && state.Fresh != engine.Live {
				add("demand %d is to protect, and %s is %s now: it cannot see", i+1, s.Name, state.Fresh)
			}
		}
	}
	if most := a.Limits.StartsAnHour; most > 0 && h.engine.Started(c.ID) > most {
		add("%s was started %d times within the last hour; with at most %d it stays off in between", c.Name,
			h.engine.Started(c.ID), most)
	}
	for _, l := range a.Interlocks {
		if a.Travel != nil && a.Travel.Pulses != "" {
			add("%s has one button: the interlock “%s” can keep it from starting, and cannot stop or hold it", c.Name, l.Name)
		}
	}
	if a.Travel != nil && a.Travel.Pulses == "" && a.Travel.IsOpen == "" && a.Travel.IsClosed == "" {
		add("%s has no end contact: where it is, is assumed", c.Name)
	}
	return remarks
}

// signalsIn are the signals that formulas name, sorted.
func signalsIn(s *site.Site, each func(func(place, text string, quantity bool))) (ids []string) {
	each(func(_, text string, _ bool) {
		f, err := formula.Parse(text, engine.Names(s))
		if err != nil {
			return
		}
		for _, id := range f.IDs {
			if _, ok := s.Signals[id]; ok && !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	})
	slices.Sort(ids)
	return ids
}

// silentInterlocks warns of interlocks that rely on a signal which reports on change, of a device that nobody would
// miss.
func (h *Hub) silentInterlocks(of *site.Automation) (remarks []string) {
	for _, l := range of.Interlocks {
		only := site.Automation{Interlocks: []site.Interlock{l}}
		for _, id := range signalsIn(h.site, only.Formulas) {
			s := h.site.Signals[id]
			if s.Reports == site.OnChange && !h.heartbeat(s.Device) {
				remarks = append(remarks, fmt.Sprintf("the interlock %s relies on %s, which reports on change only, and nothing "+
					"shows that %s is still alive; let it report something periodically",
					l.Name, s.Name, h.site.Devices[s.Device].Name))
			}
		}
	}
	return remarks
}

// heartbeat reports whether the hub would notice that a device fell silent: by its session, by asking it, or by a
// signal that is missing.
func (h *Hub) heartbeat(device string) bool {
	d := h.site.Devices[device]
	if d.Link.Kind == "" || d.Link.Spec().Heard || d.Link.Presence != nil {
		return true
	}
	signals, _ := h.site.Of(device)
	return slices.ContainsFunc(signals, func(id string) bool { return h.site.Signals[id].Reports == site.Periodic })
}
