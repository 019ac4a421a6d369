package engine

import (
	"time"

	"idleember/core/access"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/core/words"
)

type setting struct {
	SettingState
	wake uint64
}

// SettingState is the value of a setting.
type SettingState struct {
	ID     string       `json:"id"`
	Value  site.Amount  `json:"value"`
	Rev    int64        `json:"rev"`
	At     time.Time    `json:"at,omitzero"` // when it was last changed; zero: the default
	By     access.Actor `json:"by,omitzero"`
	Until  time.Time    `json:"until,omitzero"` // then Before holds again
	Before *site.Amount `json:"before,omitempty"`
	Copy   *site.Amount `json:"copy,omitempty"` // what the device that mirrors it says
}

// Setting returns the state of a setting.
func (e *Engine) Setting(id string) (SettingState, bool) {
	g := e.settings[id]
	if g == nil {
		return SettingState{}, false
	}
	return g.SettingState, true
}

func (e *Engine) setSetting(id string, to site.Amount, until time.Time, by access.Actor) {
	g := e.settings[id]
	if g == nil {
		return
	}
	cfg := e.site.Settings[id]
	before := cfg.Say(g.Value)
	switch {
	case until.IsZero():
		g.Before = nil
	case g.Before == nil:
		was := g.Value
		g.Before = &was
	}
	g.Value, g.At, g.By, g.Until = to, e.now.Wall, by, until
	g.Rev++
	var reason words.Fact
	if !until.IsZero() {
		reason = words.Of("want.until", "Until", e.local(until))
	}
	e.emit(Journal{Actor: by, Action: "set", Object: id, Before: before, After: cfg.Say(to), Reason: reason})
	e.settingChanged(g)
}

func (e *Engine) settingChanged(g *setting) {
	e.settingPoint(g)
	e.emit(SettingChanged{g.SettingState})
	if cfg := e.site.Settings[g.ID]; cfg.Mirror != "" {
		e.emit(mirrorOf(cfg, g.SettingState))
	}
}

// settingPoint gives the point of a setting its value and waits for its end.
func (e *Engine) settingPoint(g *setting) {
	if !g.Until.IsZero() {
		g.wake = e.wakeAt(e.mono(g.Until), wakeSetting, g.ID)
	}
	p := e.points[g.ID]
	if p == nil {
		return
	}
	p.ever, p.heard = true, e.now.Mono
	v := settingValue(e.site.Settings[g.ID], g.Value)
	e.set(p, v)
	if v.Kind != site.Text {
		e.sample(p, e.now.Wall, v.Num)
	}
}

func settingValue(cfg site.Setting, a site.Amount) formula.Value {
	switch cfg.Kind {
	case site.SetOnOff:
		return formula.Bool(a != 0)
	case site.SetChoice:
		return formula.Text(cfg.Say(a))
	}
	return formula.Number(float64(a))
}

func (e *Engine) settingDue(w wake) {
	g := e.settings[w.id]
	if g == nil || g.wake != w.seq || g.Until.IsZero() {
		return
	}
	if e.now.Wall.Before(g.Until) {
		g.wake = e.wakeAt(e.mono(g.Until), wakeSetting, g.ID)
		return
	}
	cfg := e.site.Settings[g.ID]
	back := cfg.Default
	if g.Before != nil {
		back = *g.Before
	}
	was := g.Value
	g.Value, g.Until, g.Before, g.At, g.By = back, time.Time{}, nil, e.now.Wall, access.HubActor()
	g.Rev++
	e.emit(Journal{Actor: access.HubActor(), Action: "set", Object: g.ID, Before: cfg.Say(was), After: cfg.Say(back),
		Reason: words.Of("setting.over")})
	e.settingChanged(g)
}

// mirrored takes what a device says of its copy of a setting. Of two changes the newer one wins; where both sides
// changed since they last agreed, that is told.
func (e *Engine) mirrored(in Mirrored) {
	g := e.settings[in.Setting]
	if g == nil {
		return
	}
	cfg := e.site.Settings[in.Setting]
	device, _ := site.Split(in.Setting)
	if cfg.Mirror == "" || !e.site.Devices[device].Active() {
		return
	}
	value := in.Value
	g.Copy = &value
	changed := e.now.Wall.Add(-in.Age)
	back := func() {
		e.emit(mirrorOf(cfg, g.SettingState))
		e.emit(SettingChanged{g.SettingState})
	}
	conflict := func(lost, won site.Amount, whose string) {
		e.emit(Journal{Actor: e.deviceActor(device), Action: "conflict", Object: g.ID, Before: cfg.Say(lost),
			After: cfg.Say(won), Reason: words.Of("setting.conflict_" + whose)})
		e.emit(Message{Object: g.ID, Text: words.Of("setting.both", "Name", cfg.Name, "Won", told(cfg, won), "Lost",
			told(cfg, lost))})
	}
	switch apart := in.Based != g.Rev; {
	case in.Value == g.Value && !apart:
		e.emit(SettingChanged{g.SettingState})
		return
	case in.Value == g.Value, cfg.Check(in.Value) != nil, in.Age < 0, apart && in.Age == 0:
		back() // a copy that was not changed is no change, however new
		return
	case apart && !changed.After(g.At):
		if in.Age > 0 {
			conflict(in.Value, g.Value, "the hub's")
		}
		back()
		return
	case apart:
		conflict(g.Value, in.Value, "the device's")
	}
	e.setSetting(in.Setting, in.Value, time.Time{}, e.deviceActor(device))
}
