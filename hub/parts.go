package hub

import (
	"context"
	"maps"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
)

// mayApply reports whether an actor may apply a preset: by its role, and because everything in it may be switched by them.
func mayApply(s *site.Site, a access.Actor, p site.Preset) bool {
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
	return ranks[a.Role] >= ranks[need] && len(unswitchable(s, a, sets)) == 0
}

func (h *Hub) settingsAndPresets(a access.Actor, out *Snapshot) {
	for _, id := range slices.Sorted(maps.Keys(h.site.Settings)) {
		if g := h.site.Settings[id]; access.May(a, access.Look, h.settingObject(g)) == nil {
			out.Settings = append(out.Settings, h.settingView(g))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(h.site.Presets)) {
		if p := h.site.Presets[id]; mayApply(h.site, a, p) {
			out.Presets = append(out.Presets, shown.Preset{Version: Version(p), Config: p})
		}
	}
}

// ApplyPreset applies a preset, until a time where that is not zero.
func (h *Hub) ApplyPreset(ctx context.Context, a access.Actor, id string, until time.Time) error {
	return h.do(ctx, func() error {
		p, ok := h.site.Presets[id]
		if !ok {
			return &NotFoundError{"preset", id, site.Nearest(id, slices.Sorted(maps.Keys(h.site.Presets)))}
		}
		if !mayApply(h.site, a, p) {
			return &access.Denied{Actor: a, Action: access.Switch, Object: access.Object{Name: "the preset " + p.Name}}
		}
		if p.Ends && until.IsZero() {
			return &InvalidError{"until", p.Name + " needs an end; tell until when it holds"}
		}
		if !until.IsZero() && !until.After(h.Time()) {
			return &InvalidError{"until", "the end lies in the past; choose a later one"}
		}
		h.apply(engine.Apply{Preset: id, Until: until, Actor: a})
		return nil
	})
}
