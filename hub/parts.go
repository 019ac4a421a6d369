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

// SavePreset adds or changes a preset.
func (h *Hub) SavePreset(ctx context.Context, a access.Actor, p site.Preset, check func(any) error) (view shown.Preset, err error) {
	saved, err := h.save(ctx, a, edit{part: p, check: check})
	if err == nil {
		p = saved.(site.Preset)
	}
	return shown.Preset{Version: Version(p), Config: p}, err
}

// RemovePreset takes a preset away.
func (h *Hub) RemovePreset(ctx context.Context, a access.Actor, id string) error {
	return h.drop(ctx, a, "preset", id)
}

// Rules returns all rules, by id.
func (h *Hub) Rules(ctx context.Context, a access.Actor) ([]shown.Rule, error) {
	list := []shown.Rule{}
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Audit, access.Anything); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Rules)) {
			if sees := h.sightOf(h.site, a); sees.rule(h.site.Rules[id]) {
				list = append(list, h.ruleView(id))
			}
		}
		return nil
	})
	return list, err
}

func (h *Hub) ruleView(id string) shown.Rule {
	cfg := *h.site.Rules[id]
	state, _ := h.engine.Rule(id)
	return shown.Rule{Version: Version(cfg), Config: cfg, State: state}
}

// SaveRule adds or changes a rule.
func (h *Hub) SaveRule(ctx context.Context, a access.Actor, r site.Rule, check func(any) error) (view shown.Rule, err error) {
	err = h.do(ctx, func() error {
		saved, err := h.keep(a, edit{part: &r, check: check})
		if err == nil {
			view = h.ruleView(saved.(*site.Rule).ID)
		}
		return err
	})
	return view, err
}

// RemoveRule takes a rule away.
func (h *Hub) RemoveRule(ctx context.Context, a access.Actor, id string) error {
	return h.drop(ctx, a, "rule", id)
}

// Groups returns all groups, by id.
func (h *Hub) Groups(ctx context.Context, a access.Actor) ([]shown.Group, error) {
	list := []shown.Group{}
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Audit, access.Anything); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Groups)) {
			if h.sightOf(h.site, a).group(h.site.Groups[id]) {
				list = append(list, shown.Group{Version: Version(*h.site.Groups[id]), Config: *h.site.Groups[id]})
			}
		}
		return nil
	})
	return list, err
}

// SaveGroup adds or changes a group.
func (h *Hub) SaveGroup(ctx context.Context, a access.Actor, g site.Group, check func(any) error) (view shown.Group, err error) {
	_, err = h.save(ctx, a, edit{part: &g, check: check})
	return shown.Group{Version: Version(g), Config: g}, err
}

// RemoveGroup takes a group away.
func (h *Hub) RemoveGroup(ctx context.Context, a access.Actor, id string) error {
	return h.drop(ctx, a, "group", id)
}
