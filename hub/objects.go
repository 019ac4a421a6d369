package hub

import (
	"strings"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
)

// What rights are about. Each door asks by these, so that all know the same rights.

func (h *Hub) signalObject(g site.Signal) access.Object   { return signalObject(h.site, g) }
func (h *Hub) controlObject(c site.Control) access.Object { return controlObject(h.site, c) }
func (h *Hub) settingObject(g site.Setting) access.Object { return settingObject(h.site, g) }
func (h *Hub) deviceObject(d site.Device) access.Object   { return deviceObject(h.site, d) }

func signalObject(s *site.Site, g site.Signal) access.Object {
	return access.Object{Device: g.Device, Name: g.ID, Guests: g.Guests, Place: s.Devices[g.Device].Place}
}

func controlObject(s *site.Site, c site.Control) access.Object {
	return access.Object{Device: c.Device, Name: c.ID, Guests: c.Guests, Place: s.Devices[c.Device].Place, Dangerous: c.Dangerous}
}

func settingObject(s *site.Site, g site.Setting) access.Object {
	owner, _ := site.Split(g.ID)
	o := access.Object{Name: g.ID, Guests: g.Guests}
	if _, ok := s.Place(owner); ok {
		o.Place = owner
	} else {
		o.Device, o.Place = owner, s.Devices[owner].Place
	}
	return o
}

// deviceObject is open to whoever may see one of its signals or controls.
func deviceObject(s *site.Site, d site.Device) access.Object {
	o := access.Object{Device: d.ID, Name: d.ID, Place: d.Place}
	for _, g := range s.Signals {
		if g.Device == d.ID {
			o.Parts = append(o.Parts, signalObject(s, g))
		}
	}
	for _, c := range s.Controls {
		if c.Device == d.ID {
			o.Parts = append(o.Parts, controlObject(s, c))
		}
	}
	return o
}

// objectOf is what an id names; nothing that is opened to anybody where it names nothing.
func objectOf(s *site.Site, id string) access.Object {
	if g, ok := s.Signals[id]; ok {
		return signalObject(s, g)
	}
	if c, ok := s.Controls[id]; ok {
		return controlObject(s, c)
	}
	if g, ok := s.Settings[id]; ok {
		return settingObject(s, g)
	}
	if d, ok := s.Devices[id]; ok {
		return deviceObject(s, d)
	}
	if d, ok := strings.CutSuffix(id, site.PicturesOf); ok {
		return stillObject(s.Devices[d])
	}
	return access.Object{Name: id}
}

// isThere reports whether an id stands for anything that can be shown.
func isThere(s *site.Site, id string) bool {
	_, device := s.Devices[id]
	_, place := s.Place(id)
	_, preset := s.Presets[id]
	return device || place || preset || engine.Series(s, id) != ""
}

// alertObject is what an alert is about: whoever may see that may see the alert, but for its formulas.
func alertObject(s *site.Site, a *site.Alert) access.Object {
	_, signal := s.Signals[a.Of]
	_, control := s.Controls[a.Of]
	_, device := s.Devices[a.Of]
	if signal || control || device {
		return objectOf(s, a.Of)
	}
	return access.Object{Name: "alert." + a.ID, Guests: site.GuestsNothing}
}

// placeOf is where something is.
func placeOf(s *site.Site, id string) string {
	owner, _ := site.Split(id)
	if d, ok := s.Devices[owner]; ok {
		return d.Place
	}
	if _, ok := s.Place(owner); ok {
		return owner
	}
	return ""
}

// unswitchable returns what of the ids an actor may not switch.
func unswitchable(s *site.Site, a access.Actor, ids []string) (out []string) {
	for _, id := range ids {
		if p, ok := s.Presets[id]; ok {
			if !mayApply(s, a, p) {
				out = append(out, id)
			}
		} else if access.May(a, access.Switch, objectOf(s, id)) != nil {
			out = append(out, id)
		}
	}
	return out
}
