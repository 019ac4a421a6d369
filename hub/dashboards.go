package hub

import (
	"fmt"
	"slices"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/live"
	"idleember/sight"
)

// dashboard is one as it is now.
func (h *Hub) dashboard(id string) (site.Dashboard, bool) {
	d, ok := h.Site().Dashboards[id]
	return d, ok
}

func (h *Hub) dashboardView(a access.Actor, d site.Dashboard) shown.Dashboard {
	v := shown.Dashboard{Version: shown.Version(d), Config: h.Sight(a).Dashboard(d), State: shown.DashboardState{By: d.By,
		Mine: sight.MayArrange(a, d)}}
	if m, ok := h.people.Member(d.By); ok {
		v.State.By = m.Name
	}
	return v
}

// checkDashboard puts back what whoever saves it does not see of it.
func (h *Hub) checkDashboard(a access.Actor, before any, e *edit) error {
	d := e.part.(site.Dashboard)
	had, ok := before.(site.Dashboard)
	if ok {
		d = d.WithHidden(had, h.glass.As(h.site, a).Dashboard(had))
		d.By = had.By
	} else {
		d.By = a.ID
	}
	if d.Tiles == nil {
		d.Tiles = []site.Tile{}
	}
	e.part = d
	if err := d.Validate(); err != nil { // with what others have on it
		return fault.Invalid("dashboard", "%v", err)
	}
	if e.again { // of what it shows some may be gone since
		return nil
	}
	return h.names(a, d, had)
}

// names says what of a dashboard that was not there before names nothing.
func (h *Hub) names(a access.Actor, d, before site.Dashboard) error {
	had, sees := before.About(), h.glass.As(h.site, a)
	for _, t := range d.Tiles {
		one := site.Dashboard{Tiles: []site.Tile{t}}
		for _, id := range one.About() {
			if !slices.Contains(had, id) && (!isThere(h.site, id) || h.site.Presets[id].ID == "" && !sees.Sees(id)) {
				return fault.Invalid("tiles", "the tile %s names %q, which is not there, or not open to you", t.ID, site.Clip(id,
					60))
			}
		}
		for _, text := range one.Formulas() {
			if slices.Contains(before.Formulas(), text) {
				continue
			}
			if _, err := formula.Parse(text, engine.Names(h.site)); err != nil {
				return fault.Invalid("tiles", "the tile %s: %s", t.ID, err)
			}
			if !sees.Formulas(text) {
				return fault.Invalid("tiles", "the tile %s: %q names what is not there, or not open to you", t.ID, site.Clip(text,
					60))
			}
		}
	}
	return nil
}

func dashboardText(part any) string {
	d := part.(site.Dashboard)
	return fmt.Sprintf("%s, %d tiles, shared with %s", d.Name, len(d.Tiles),
		map[site.Sharing]string{site.Private: "nobody", site.Household: "the household",
			site.Everybody: "everybody"}[d.Shared])
}

// freeID makes an id of a name that is not taken.
func freeID(name string, taken func(id string) bool) (string, error) {
	id, err := site.Slug(name)
	if err != nil {
		return "", err
	}
	for n, base := 2, id[:min(len(id), 36)]; ; n++ {
		if !taken(id) {
			return id, nil
		}
		id = fmt.Sprintf("%s_%d", base, n)
	}
}

// dashboardChanged tells whoever has the dashboard open.
func (h *Hub) dashboardChanged(id string) {
	h.later(func(err error) {
		if err == nil {
			h.live.Add(&live.Event{Kind: "dashboard", Object: access.Anything, Tailor: func(a access.Actor, data any) any {
				if d, ok := h.dashboard(id); ok && !sight.MayOpen(a, d) {
					return nil
				}
				return data
			}}, map[string]string{"id": id})
		}
	})
}

// isThere reports whether an id stands for anything that can be shown.
func isThere(s *site.Site, id string) bool {
	_, device := s.Devices[id]
	_, place := s.Place(id)
	_, preset := s.Presets[id]
	return device || place || preset || engine.Series(s, id) != ""
}
