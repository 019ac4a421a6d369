package hub

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// lockedBy says why a setting cannot be changed now: all controls that aim at it are by hand.
func (h *Hub) lockedBy(id string) string {
	var names []string
	for _, control := range slices.Sorted(maps.Keys(h.site.Automations)) {
		if aims, _ := h.linksOf(control); !slices.Contains(aims, id) {
			continue
		}
		s, _ := h.engine.Control(control)
		if s.Mode != engine.Manual {
			return ""
		}
		names = append(names, h.site.Controls[control].Name)
	}
	if len(names) == 0 {
		return ""
	}
	return strings.Join(names, " and ") + " is by hand; put it in auto to change this"
}

func (h *Hub) settingView(g site.Setting) shown.Setting {
	owner, _ := site.Split(g.ID)
	v := shown.SettingState{Locked: h.lockedBy(g.ID)}
	if d, ok := h.site.Devices[owner]; ok {
		v.Place = d.Place
	} else if _, ok := h.site.Place(owner); ok {
		v.Place = owner
	}
	if s, ok := h.engine.Setting(g.ID); ok {
		v.Value, v.Rev, v.At, v.By, v.Until, v.Before, v.Copy = s.Value, s.Rev, instant(s.At), s.By.Name, instant(s.Until),
			s.Before, s.Copy
	}
	v.Text = g.Say(v.Value)
	return shown.Setting{Version: shown.Version(g), Config: g, State: v}
}

// settingChanged keeps a setting's value, as state and as history.
func (h *Hub) settingChanged(now engine.Now, s engine.SettingState) {
	g := h.site.Settings[s.ID]
	h.remember(engine.SettingChanged{State: s})
	h.settingKept(now, g, s.Value)
	h.live.Publish("setting", h.settingView(g), h.settingObject(g))
}

func (h *Hub) settingKept(now engine.Now, g site.Setting, value site.Amount) {
	v := reading.Value{Kind: g.SeriesKind(), Num: float64(value)}
	if v.Kind == site.Text {
		v = reading.Text(g.Say(value))
	}
	h.writeReadings(store.AddReading(g.ID, store.Reading{T: now.Wall.UnixMilli(), Value: v}, nil))
}

// Set changes the value of a setting, until a time where that is not zero.
func (h *Hub) Set(ctx context.Context, a access.Actor, id, value string, until time.Time) (shown.Setting, error) {
	var view shown.Setting
	err := h.do(ctx, func() error {
		g, err := h.setting(a, access.Switch, id)
		if err != nil {
			return err
		}
		if why := h.lockedBy(id); why != "" && a.Kind != access.TheHub {
			return &fault.InvalidError{Field: "value", Reason: why}
		}
		amount, err := g.AmountOf(value)
		if err != nil {
			return fault.Invalid("value", "%v", err)
		}
		if !until.IsZero() && !until.After(h.Time()) {
			return fault.Invalid("until", "the end lies in the past; choose a later one")
		}
		h.apply(engine.Set{Setting: id, To: amount, Until: until, Actor: a})
		view = h.settingView(g)
		return nil
	})
	return view, err
}

func (h *Hub) setting(a access.Actor, action access.Action, id string) (site.Setting, error) {
	g, ok := h.site.Settings[id]
	if !ok || access.May(a, access.Look, h.settingObject(g)) != nil {
		var ids []string
		for id, g := range h.site.Settings {
			if access.May(a, access.Look, h.settingObject(g)) == nil {
				ids = append(ids, id)
			}
		}
		slices.Sort(ids)
		return g, fault.NotFound("setting", id, site.Nearest(id, ids)...)
	}
	return g, access.May(a, action, h.settingObject(g))
}

func (h *Hub) publishSettings() {
	for _, id := range slices.Sorted(maps.Keys(h.site.Settings)) {
		g := h.site.Settings[id]
		h.live.Publish("setting", h.settingView(g), h.settingObject(g))
	}
}
