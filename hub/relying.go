package hub

import (
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/store"
)

// The interval of a signal that automation relies on is fixed when that is saved: were it learnt on, a board that fails
// slowly would never be late.
const (
	shortestFixed = 5 * time.Second
	longestFixed  = 15 * time.Minute
)

// fixIntervals fixes the intervals of the signals that an automation relies on, and says where the owner should look.
func (h *Hub) fixIntervals(a access.Actor, of *site.Automation) (remarks []string) {
	for _, id := range signalsIn(h.site, of.Formulas) {
		s := h.site.Signals[id]
		state, _ := h.engine.Signal(id)
		if s.Reports != site.Periodic || s.Interval > 0 || state.Interval == 0 {
			continue
		}
		before := s
		s.Interval = min(max(state.Interval.Round(time.Second), shortestFixed), longestFixed)
		h.changeSite(func(c *site.Site) { c.Signals[id] = s }, store.SaveSignal(s))
		h.journalChange(a, id, before, s)
		if state.Interval > longestFixed {
			remarks = append(remarks, fmt.Sprintf("%s reports every %s and now counts as stale when 45 min went by; tell a longer interval on the device's page if that is meant", s.Name, state.Interval.Round(time.Second)))
		}
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

// silentInterlocks warns of interlocks that rely on a signal which reports on change, of a device that nobody would miss.
func (h *Hub) silentInterlocks(of *site.Automation) (remarks []string) {
	for _, l := range of.Interlocks {
		only := site.Automation{Interlocks: []site.Interlock{l}}
		for _, id := range signalsIn(h.site, only.Formulas) {
			s := h.site.Signals[id]
			if s.Reports == site.OnChange && !h.heartbeat(s.Device) {
				remarks = append(remarks, fmt.Sprintf("the interlock %s relies on %s, which reports on change only, and nothing shows that %s is still alive; let it report something periodically",
					l.Name, s.Name, h.site.Devices[s.Device].Name))
			}
		}
	}
	return remarks
}

// heartbeat reports whether the hub would notice that a device fell silent: by its session, by asking it, or by a signal
// that is missing.
func (h *Hub) heartbeat(device string) bool {
	d := h.site.Devices[device]
	if slices.Contains([]site.LinkKind{"", site.MQTT, site.Modbus, site.Poll}, d.Link.Kind) || d.Link.Presence != nil {
		return true
	}
	signals, _ := h.site.Of(device)
	return slices.ContainsFunc(signals, func(id string) bool { return h.site.Signals[id].Reports == site.Periodic })
}
