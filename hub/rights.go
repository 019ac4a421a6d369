package hub

import (
	"slices"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/sight"
)

// locked is what an actor sees and may not switch.
func (h *Hub) locked(a access.Actor, s *shown.Snapshot) []string {
	ids := []string{}
	for _, c := range s.Controls {
		ids = append(ids, c.Config.ID)
	}
	for _, g := range s.Settings {
		ids = append(ids, g.Config.ID)
	}
	out := sight.NotSwitchable(h.site, a, ids)
	slices.Sort(out)
	return append([]string{}, out...)
}

func (h *Hub) signalObject(g site.Signal) access.Object   { return sight.OfSignal(h.site, g) }
func (h *Hub) controlObject(c site.Control) access.Object { return sight.OfControl(h.site, c) }
func (h *Hub) settingObject(g site.Setting) access.Object { return sight.OfSetting(h.site, g) }
func (h *Hub) deviceObject(d site.Device) access.Object   { return sight.OfDevice(h.site, d) }

// mayHear reports whether the person whom a route is for, where it is for one, sees something.
func (h *Hub) mayHear(route string, sees func(sight.Sight) bool) bool {
	account := h.site.Routes[route].Person
	if account == "" {
		return true
	}
	m, ok := h.people.Member(account)
	return ok && sees(h.glass.As(h.site, h.ActorOf(m, access.Person, "")))
}

// Sight is what an actor sees of the site as it is now.
func (h *Hub) Sight(a access.Actor) sight.Sight { return h.glass.As(h.Site(), a) }
