package sight

import (
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
)

// WallActor is what stands before a wall: it sees what the dashboard shows and switches what was chosen, as far as its
// maker may. Its id is the dashboard.
func WallActor(s *site.Site, w shown.Wall, maker access.Actor, from string) access.Actor {
	a := access.Actor{Kind: access.Wall, ID: w.Dashboard, Name: "the wall " + w.Name, Role: access.Guest, From: from,
		Switches: w.Switches, Maker: &maker}
	if d, ok := s.Dashboards[w.Dashboard]; ok {
		a.Sees = d.About()
		for _, t := range d.Tiles {
			if t.Kind == site.TileStill {
				a.Sees = append(a.Sees, StillsOf(t.Of[0]))
			}
		}
	}
	for _, id := range slices.Clone(a.Sees) {
		aimed := s.AimedAt(id)
		a.Sees = append(a.Sees, aimed...)
		if slices.Contains(w.Switches, id) {
			a.Switches = append(a.Switches[:len(a.Switches):len(a.Switches)], aimed...)
		}
	}
	a.Sees = slices.DeleteFunc(a.Sees, func(id string) bool { return access.May(maker, access.Look, Of(s, id)) != nil })
	not := NotSwitchable(s, maker, a.Switches)
	a.Switches = slices.DeleteFunc(slices.Clone(a.Switches), func(id string) bool { return slices.Contains(not, id) })
	return a
}

// MayHang says why an actor may not hang a wall up, or nil.
func MayHang(s *site.Site, a access.Actor, w shown.Wall) error {
	d, ok := s.Dashboards[w.Dashboard]
	switch {
	case !ok || !MayOpen(a, d):
		return fault.NotFound("dashboard", w.Dashboard)
	case !MayArrange(a, d):
		return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "the dashboard " + d.Name}}
	}
	if err := site.CheckName("name", w.Name); err != nil {
		return err
	}
	for _, at := range []string{w.DimFrom, w.DimUntil} {
		if _, err := time.Parse("15:04", at); at != "" && err != nil {
			return fault.Invalid("dim_from", "%q is no time of day; write it as 22:00", at)
		}
	}
	if (w.DimFrom == "") != (w.DimUntil == "") {
		return fault.Invalid("dim_until", "tell both from when and until when it dims, or neither")
	}
	about := d.About()
	for _, id := range w.Switches {
		if !slices.Contains(about, id) {
			return &fault.InvalidError{Field: "switches", Reason: id +
				" is not on the dashboard; a wall can only switch what it shows"}
		}
	}
	if not := NotSwitchable(s, a, w.Switches); len(not) > 0 {
		return &access.Denied{Actor: a, Action: access.Switch, Object: access.Object{Name: strings.Join(not, ", ")}}
	}
	if a.Role != access.Owner {
		for _, id := range w.Switches {
			if s.Controls[id].Dangerous {
				return &fault.InvalidError{Field: "switches", Reason: s.Controls[id].Name +
					" is marked as dangerous; only an owner may put it on a wall"}
			}
		}
	}
	return nil
}

// MayTakeDown says why an actor may not take the walls of a dashboard down, or nil.
func MayTakeDown(s *site.Site, a access.Actor, dashboard string) error {
	d, ok := s.Dashboards[dashboard]
	switch {
	case !ok || !MayOpen(a, d):
		return fault.NotFound("dashboard", dashboard)
	case !MayArrange(a, d):
		return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "the dashboard " + d.Name}}
	}
	return nil
}
