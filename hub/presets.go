package hub

import (
	"context"
	"maps"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/sight"
)

func (h *Hub) settingsAndPresets(a access.Actor, out *shown.Snapshot) {
	for _, id := range slices.Sorted(maps.Keys(h.site.Settings)) {
		if g := h.site.Settings[id]; access.May(a, access.Look, h.settingObject(g)) == nil {
			out.Settings = append(out.Settings, h.settingView(g))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(h.site.Presets)) {
		if p := h.site.Presets[id]; sight.MayApply(h.site, a, p) {
			out.Presets = append(out.Presets, shown.Preset{Version: shown.Version(p), Config: p,
				State: h.presetState(a, p)})
		}
	}
}

// presetState reads a preset aloud, where whoever asks sees all that it sets.
func (h *Hub) presetState(a access.Actor, p site.Preset) shown.AloudState {
	if !h.glass.As(h.site, a).Actions(p.Actions) {
		return shown.AloudState{Says: []words.Text{}}
	}
	return shown.AloudState{Says: words.Texts(engine.ActionsAloud(h.site, p.Actions))}
}

// ApplyPreset applies a preset, until a time where that is not zero.
func (h *Hub) ApplyPreset(ctx context.Context, a access.Actor, id string, until time.Time) error {
	return h.do(ctx, func() error {
		p, ok := h.site.Presets[id]
		if !ok {
			return fault.NotFound("preset", id, site.Nearest(id, slices.Sorted(maps.Keys(h.site.Presets)))...)
		}
		if !sight.MayApply(h.site, a, p) {
			return &access.Denied{Actor: a, Action: access.Switch, Object: access.Object{Name: "the preset " + p.Name}}
		}
		if p.Ends && until.IsZero() {
			return &fault.InvalidError{Field: "until", Reason: p.Name + " needs an end; tell until when it holds"}
		}
		if !until.IsZero() && !until.After(h.Time()) {
			return fault.Invalid("until", "the end lies in the past; choose a later one")
		}
		h.apply(engine.Apply{Preset: id, Until: until, Actor: a})
		return nil
	})
}
