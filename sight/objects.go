package sight

import (
	"slices"
	"strings"

	"idleember/core/access"
	"idleember/core/site"
)

// What rights are about. Each door asks by these, so that all know the same rights.

func OfSignal(s *site.Site, g site.Signal) access.Object {
	return access.Object{Device: g.Device, Name: g.ID, Guests: g.Guests, Place: s.Devices[g.Device].Place}
}

func OfControl(s *site.Site, c site.Control) access.Object {
	return access.Object{Device: c.Device, Name: c.ID, Guests: c.Guests, Place: s.Devices[c.Device].Place,
		Dangerous: c.Dangerous}
}

func OfSetting(s *site.Site, g site.Setting) access.Object {
	owner, _ := site.Split(g.ID)
	o := access.Object{Name: g.ID, Guests: g.Guests}
	if _, ok := s.Place(owner); ok {
		o.Place = owner
	} else {
		o.Device, o.Place = owner, s.Devices[owner].Place
	}
	return o
}

// OfDevice is open to whoever may see one of its signals or controls.
func OfDevice(s *site.Site, d site.Device) access.Object {
	o := access.Object{Device: d.ID, Name: d.ID, Place: d.Place}
	for _, g := range s.Signals {
		if g.Device == d.ID {
			o.Parts = append(o.Parts, OfSignal(s, g))
		}
	}
	for _, c := range s.Controls {
		if c.Device == d.ID {
			o.Parts = append(o.Parts, OfControl(s, c))
		}
	}
	return o
}

// Of is what an id names; nothing that is opened to anybody where it names nothing.
func Of(s *site.Site, id string) access.Object {
	if g, ok := s.Signals[id]; ok {
		return OfSignal(s, g)
	}
	if c, ok := s.Controls[id]; ok {
		return OfControl(s, c)
	}
	if g, ok := s.Settings[id]; ok {
		return OfSetting(s, g)
	}
	if d, ok := s.Devices[id]; ok {
		return OfDevice(s, d)
	}
	if d, ok := strings.CutSuffix(id, site.PicturesOf); ok {
		return OfStills(s.Devices[d])
	}
	return access.Object{Name: id}
}

// OfAlert is what an alert is about: whoever may see that may see the alert, but for its formulas.
func OfAlert(s *site.Site, a *site.Alert) access.Object {
	_, signal := s.Signals[a.Of]
	_, control := s.Controls[a.Of]
	_, device := s.Devices[a.Of]
	if signal || control || device {
		return Of(s, a.Of)
	}
	return access.Object{Name: "alert." + a.ID, Guests: site.GuestsNothing}
}

// PlaceOf is where something is.
func PlaceOf(s *site.Site, id string) string {
	owner, _ := site.Split(id)
	if d, ok := s.Devices[owner]; ok {
		return d.Place
	}
	if _, ok := s.Place(owner); ok {
		return owner
	}
	return ""
}

// NotSwitchable returns what of the ids an actor may not switch.
func NotSwitchable(s *site.Site, a access.Actor, ids []string) (out []string) {
	for _, id := range ids {
		if p, ok := s.Presets[id]; ok {
			if !MayApply(s, a, p) {
				out = append(out, id)
			}
		} else if access.May(a, access.Switch, Of(s, id)) != nil {
			out = append(out, id)
		}
	}
	return out
}

// About is what a line of the journal or a note is about: a thing, or something of it.
func About(s *site.Site, object string) access.Object {
	for id := object; id != ""; {
		if o := Of(s, id); o.Device != "" || o.Place != "" {
			return o
		}
		if _, ok := s.Place(id); ok {
			return access.Object{Place: id}
		}
		i := strings.LastIndexAny(id, ". ")
		id = id[:max(i, 0)]
	}
	return access.Object{}
}

// MayOpen reports whether an actor may look at a dashboard.
func MayOpen(a access.Actor, d site.Dashboard) bool {
	switch {
	case a.Kind == access.Wall:
		return a.ID == d.ID
	case d.By == a.ID || a.Kind == access.TheHub:
		return true
	case a.Role == access.Guest:
		return d.Shared == site.Everybody
	}
	return d.Shared != site.Private
}

// MayArrange reports whether an actor may change a dashboard: who made it, and an owner where it is shared.
func MayArrange(a access.Actor, d site.Dashboard) bool {
	return access.May(a, access.Tend, access.Anything) == nil && (d.By == a.ID || d.Shared != site.Private &&
		a.Role == access.Owner)
}

// MayApply reports whether an actor may apply a preset: by its role, and because everything in it may be switched by
// them.
func MayApply(s *site.Site, a access.Actor, p site.Preset) bool {
	ranks := map[access.Role]int{access.Guest: 1, access.Member: 2, access.Owner: 3}
	need := access.Role(p.Role)
	if need == "" {
		need = access.Member
	}
	if a.Kind == access.Wall {
		return slices.Contains(a.Switches, p.ID)
	}
	if a.Kind == access.TheHub || a.Kind == access.Panel {
		return true
	}
	sets := []string{}
	for _, x := range p.Actions {
		sets = append(sets, x.ID)
	}
	return ranks[a.Role] >= ranks[need] && len(NotSwitchable(s, a, sets)) == 0
}

func OfStills(d site.Device) access.Object {
	o := access.Object{Device: d.ID, Name: StillsOf(d.ID), Place: d.Place, Guests: site.GuestsNothing, Private: true}
	if d.Camera.Guests != "" {
		o.Guests = d.Camera.Guests
	}
	return o
}

// StillsOf names the pictures of a device, which may be open where the device is not.
func StillsOf(device string) string { return device + site.PicturesOf }
