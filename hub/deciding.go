package hub

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// ValueOf is an amount of a control as everybody outside sees it: on/off, a number, or a word.
func ValueOf(c site.Control, a site.Amount) reading.Value {
	switch c.What() {
	case site.Switch:
		return reading.OnOff(a != 0)
	case site.Level:
		return reading.Number(float64(a))
	}
	return reading.Text(c.Say(a))
}

// AmountOf is the reverse of ValueOf. It also takes words such as "on" and "40 %".
func AmountOf(c site.Control, v reading.Value) (site.Amount, error) {
	a, err := c.AmountOf(v.String())
	if err == nil {
		err = c.Check(a)
	}
	if err != nil {
		return 0, &InvalidError{"to", err.Error()}
	}
	return a, nil
}

func seriesKind(c site.Control) site.Kind {
	switch c.What() {
	case site.Switch:
		return site.OnOff
	case site.Level:
		return site.Number
	}
	return site.Text
}

func settingKind(g site.Setting) site.Kind {
	switch g.Kind {
	case site.SetOnOff:
		return site.OnOff
	case site.SetChoice:
		return site.Text
	}
	return site.Number
}

// linksOf returns the settings that the demands of a control aim at, and the mover whose output it is.
func (h *Hub) linksOf(id string) (settings []string, movedBy string) {
	if a := h.site.Automations[id]; a != nil {
		for _, d := range a.Demands {
			for _, text := range []string{d.Target, d.Hours} {
				text = strings.TrimSpace(text)
				if _, ok := h.site.Settings[text]; ok && !slices.Contains(settings, text) {
					settings = append(settings, text)
				}
			}
		}
	}
	for mover, a := range h.site.Automations {
		if t := a.Travel; t != nil && slices.Contains([]string{t.Opens, t.Closes, t.Pulses}, id) {
			movedBy = mover
		}
	}
	return settings, movedBy
}

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

func (h *Hub) settingObject(g site.Setting) access.Object {
	guests := g.Guests
	if guests == "" {
		guests = site.GuestsNothing
	}
	device, _ := site.Split(g.ID)
	return access.Object{Device: device, Name: g.ID, Guests: guests}
}

func (h *Hub) settingView(g site.Setting) Setting {
	owner, _ := site.Split(g.ID)
	v := Setting{Version: Version(g), Config: g, Locked: h.lockedBy(g.ID)}
	if d, ok := h.site.Devices[owner]; ok {
		v.Place = d.Place
	} else if _, ok := h.site.Place(owner); ok {
		v.Place = owner
	}
	if s, ok := h.engine.Setting(g.ID); ok {
		v.Value, v.Rev, v.At, v.By, v.Until, v.Before, v.Copy = s.Value, s.Rev, instant(s.At), s.By.Name, instant(s.Until), s.Before, s.Copy
	}
	v.Text = g.Say(v.Value)
	return v
}

// PresetView is a preset as those see it who may apply it.
type PresetView struct {
	Version string      `json:"version"`
	Config  site.Preset `json:"config"`
}

// mayApply reports whether an actor may apply a preset.
func mayApply(a access.Actor, p site.Preset) bool {
	ranks := map[access.Role]int{access.Guest: 1, access.Member: 2, access.Owner: 3}
	need := access.Role(p.Role)
	if need == "" {
		need = access.Member
	}
	return a.Kind == access.TheHub || a.Kind == access.Panel || ranks[a.Role] >= ranks[need]
}

func (h *Hub) settingsAndPresets(a access.Actor, out *Snapshot) {
	for _, id := range slices.Sorted(maps.Keys(h.site.Settings)) {
		if g := h.site.Settings[id]; access.May(a, access.Look, h.settingObject(g)) == nil {
			out.Settings = append(out.Settings, h.settingView(g))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(h.site.Presets)) {
		if p := h.site.Presets[id]; mayApply(a, p) {
			out.Presets = append(out.Presets, PresetView{Version(p), p})
		}
	}
}

// settingChanged keeps a setting's value, as state and as history.
func (h *Hub) settingChanged(now engine.Now, s engine.SettingState) {
	g := h.site.Settings[s.ID]
	h.writeState(store.SaveState(s.ID, s))
	v := reading.Value{Kind: settingKind(g), Num: float64(s.Value)}
	if v.Kind == site.Text {
		v = reading.Text(g.Say(s.Value))
	}
	h.write(store.AddReading(s.ID, store.Reading{T: now.Wall.UnixMilli(), Value: v}, nil))
	h.live.publish("setting", h.settingView(g), h.settingObject(g))
}

// message keeps a message to people in the outbox and tells those who look on.
func (h *Hub) message(at time.Time, m engine.Message) {
	by := m.By
	if by == "" {
		by = "the hub"
	}
	h.writeState(store.AddMessage(at, m.Object, m.Text, m.Grave, by))
	h.journal(at, access.HubActor(), "message", m.Object, "", m.Text, "")
	h.live.publish("message", store.Remark{At: at, Object: m.Object, Text: m.Text, Grave: m.Grave, By: by}, access.Object{Name: m.Object, Guests: site.GuestsNothing})
}

// fillWindow brings the engine what the store holds of a span that a formula looks back on.
func (h *Hub) fillWindow(need formula.Need) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	in, err := h.past(ctx, need)
	if err != nil {
		h.log.Error("a formula's past could not be read", "id", need.ID, "error", err)
		return
	}
	h.enqueue(func() { h.apply(in) })
}

// past reads what the store holds of a span until now, and what held before it.
func (h *Hub) past(ctx context.Context, need formula.Need) (engine.History, error) {
	from := time.Now().Add(-need.Span - need.Span/30 - time.Minute)
	in := engine.History{ID: need.ID, Span: need.Span, From: from}
	for r, err := range h.store.Readings(ctx, need.ID, site.Number, from, time.Now(), true) {
		if err != nil {
			return in, err
		}
		if r.Quality == reading.Good && r.Value.Kind != site.Text {
			in.Samples = append(in.Samples, engine.Sample{At: time.UnixMilli(r.T), Value: r.Value.Num})
		}
	}
	return in, nil
}

// switchable returns a control that the actor may switch now.
func (h *Hub) switchable(a access.Actor, id string) (site.Control, error) {
	c, err := h.control(a, access.Switch, id)
	if err != nil {
		return c, err
	}
	if s, _ := h.engine.Control(id); s.Service != control.InService {
		return c, &InvalidError{"id", c.Name + " is out of service since " + s.ServiceAt.In(h.site.Hub.Location()).Format("2006-01-02 15:04") + "; an owner can put it back"}
	}
	if _, by := h.linksOf(id); by != "" {
		return c, &InvalidError{"id", fmt.Sprintf("%s is moved by %s; switch that", c.Name, h.site.Controls[by].Name)}
	}
	return c, nil
}

// Switch wants a value of a control by hand, until a time where that is not zero. When it returns without an error the want
// is on the disk and on its way; it is not yet confirmed.
func (h *Hub) Switch(ctx context.Context, a access.Actor, id string, to reading.Value, until time.Time) (Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		amount, err := AmountOf(c, to)
		if err != nil {
			return err
		}
		if !until.IsZero() && !until.After(time.Now()) {
			return &InvalidError{"until", "the end lies in the past; choose a later one"}
		}
		h.apply(engine.Command{Control: id, To: amount, Until: until, Actor: a})
		return nil
	})
}

// ToAuto gives a control back to the hub.
func (h *Hub) ToAuto(ctx context.Context, a access.Actor, id string) (Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		if !h.site.Automations[id].HasAuto() {
			return &InvalidError{"mode", c.Name + " has no automation; an owner can give it some on the Control page"}
		}
		h.apply(engine.ToAuto{Control: id, Actor: a})
		return nil
	})
}

// ResetInterlocks lets latched interlocks of a control go whose condition is over.
func (h *Hub) ResetInterlocks(ctx context.Context, a access.Actor, id string) (Control, error) {
	return h.command(ctx, a, id, func(c site.Control) error {
		s, _ := h.engine.Control(id)
		if len(s.Latched) == 0 {
			return nil
		}
		h.apply(engine.Reset{Control: id, Actor: a})
		if s, _ = h.engine.Control(id); len(s.Latched) > 0 {
			return &InvalidError{"id", fmt.Sprintf("the interlock %s of %s still holds; it can be reset when its cause is over", strings.Join(s.Latched, ", "), c.Name)}
		}
		return nil
	})
}

func (h *Hub) command(ctx context.Context, a access.Actor, id string, f func(site.Control) error) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		c, err := h.switchable(a, id)
		if err == nil {
			err = f(c)
		}
		if err == nil {
			view = h.controlView(c)
		}
		return err
	})
	return view, err
}

// Serve takes a control out of service for repairs, or puts it back.
func (h *Hub) Serve(ctx context.Context, a access.Actor, id string, service control.Service) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		c, err := h.control(a, access.Configure, id)
		if err != nil {
			return err
		}
		h.apply(engine.Serve{Control: id, Service: service, Actor: a})
		view = h.controlView(c)
		return nil
	})
	return view, err
}

// Set changes the value of a setting, until a time where that is not zero.
func (h *Hub) Set(ctx context.Context, a access.Actor, id, value string, until time.Time) (Setting, error) {
	var view Setting
	err := h.do(ctx, func() error {
		g, err := h.setting(a, access.Switch, id)
		if err != nil {
			return err
		}
		if why := h.lockedBy(id); why != "" && a.Kind != access.TheHub {
			return &InvalidError{"value", why}
		}
		amount, err := g.AmountOf(value)
		if err != nil {
			return &InvalidError{"value", err.Error()}
		}
		if !until.IsZero() && !until.After(time.Now()) {
			return &InvalidError{"until", "the end lies in the past; choose a later one"}
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
		return g, &NotFoundError{"setting", id, site.Nearest(id, ids)}
	}
	return g, access.May(a, action, h.settingObject(g))
}

// ApplyPreset applies a preset, until a time where that is not zero.
func (h *Hub) ApplyPreset(ctx context.Context, a access.Actor, id string, until time.Time) error {
	return h.do(ctx, func() error {
		p, ok := h.site.Presets[id]
		if !ok {
			return &NotFoundError{"preset", id, site.Nearest(id, slices.Sorted(maps.Keys(h.site.Presets)))}
		}
		if !mayApply(a, p) {
			return &access.Denied{Actor: a, Action: access.Switch, Object: access.Object{Name: "the preset " + p.Name}}
		}
		if !until.IsZero() && !until.After(time.Now()) {
			return &InvalidError{"until", "the end lies in the past; choose a later one"}
		}
		h.apply(engine.Apply{Preset: id, Until: until, Actor: a})
		return nil
	})
}

// Why explains a control.
func (h *Hub) Why(ctx context.Context, a access.Actor, id string) (engine.Why, error) {
	var why engine.Why
	err := h.ask(ctx, func() error {
		if _, err := h.control(a, access.Look, id); err != nil {
			return err
		}
		why, _ = h.engine.Why(h.now(), id)
		return nil
	})
	return why, err
}

// Next returns what will run until a time, soonest first.
func (h *Hub) Next(ctx context.Context, a access.Actor, until time.Time) ([]engine.Upcoming, error) {
	list := []engine.Upcoming{}
	err := h.ask(ctx, func() error {
		now := time.Now()
		for _, u := range h.engine.Next(now, earlier(until, now.Add(32*24*time.Hour))) {
			if c, ok := h.site.Controls[u.ID]; ok && access.May(a, access.Look, h.controlObject(c)) == nil {
				list = append(list, u)
			} else if g, ok := h.site.Settings[u.ID]; ok && access.May(a, access.Look, h.settingObject(g)) == nil {
				list = append(list, u)
			}
		}
		slices.SortStableFunc(list, func(a, b engine.Upcoming) int { return a.At.Compare(b.At) })
		return nil
	})
	return list, err
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// Checked is what the hub thinks of a formula.
type Checked struct {
	OK     bool      `json:"ok"`
	Kind   site.Kind `json:"kind,omitempty"`
	Unit   string    `json:"unit,omitempty"`
	Value  string    `json:"value,omitempty"` // what it comes to now
	Reason string    `json:"reason,omitempty"`
	From   int       `json:"from"` // what is wrong, in characters
	To     int       `json:"to"`
}

// CheckFormula reads a formula and says what it comes to now.
func (h *Hub) CheckFormula(ctx context.Context, a access.Actor, text string) (Checked, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return Checked{}, err
	}
	f, err := formula.Parse(text, engine.Names(h.Site()))
	if err != nil {
		return wrong(err), nil
	}
	var windows []*formula.Window
	for _, need := range f.Needs {
		in, err := h.past(ctx, need)
		if err != nil {
			return Checked{}, err
		}
		w := formula.NewWindow(need.Span)
		w.Known(in.From)
		for _, s := range in.Samples {
			w.Add(s.At, s.Value)
		}
		windows = append(windows, w)
	}
	out := Checked{OK: true, Kind: f.Kind, Unit: f.Unit}
	err = h.ask(ctx, func() error {
		out.Value = sayValue(h.engine.Evaluate(h.now(), f, windows))
		return nil
	})
	return out, err
}

func wrong(err error) Checked {
	out := Checked{Reason: err.Error()}
	if fe, ok := err.(*formula.Error); ok {
		out.From, out.To = fe.From, fe.To
	}
	return out
}

func sayValue(v formula.Value) string {
	switch {
	case !v.Known:
		return "unknown"
	case v.Kind == site.OnOff && v.Num != 0:
		return "true"
	case v.Kind == site.OnOff:
		return "false"
	case v.Kind == site.Text:
		return v.Text
	}
	return reading.Number(v.Num).String()
}

// formulasOf checks all formulas of a part of a site.
func formulasOf(s *site.Site, each func(func(place, text string, quantity bool))) (err error) {
	each(func(place, text string, quantity bool) {
		if err != nil {
			return
		}
		parse := formula.Condition
		if quantity {
			parse = formula.Quantity
		}
		if _, e := parse(text, engine.Names(s)); e != nil {
			err = &InvalidError{place, fmt.Sprintf("%s, “%s”: %s", place, text, e)}
		}
	})
	return err
}

// AutomationView is the automation of a control, empty where it has none.
type AutomationView struct {
	Version string          `json:"version"`
	Config  site.Automation `json:"config"`
}

// Automation returns what the hub decides of a control.
func (h *Hub) Automation(ctx context.Context, a access.Actor, id string) (AutomationView, error) {
	var view AutomationView
	err := h.ask(ctx, func() error {
		if _, err := h.control(a, access.Look, id); err != nil {
			return err
		}
		view = h.automationView(id)
		return nil
	})
	return view, err
}

func (h *Hub) automationView(id string) AutomationView {
	cfg := site.Automation{Control: id}
	if have := h.site.Automations[id]; have != nil {
		cfg = *have
	}
	return AutomationView{Version(cfg), cfg}
}

// checkAutomation says what is wrong with the automation of a control.
func (h *Hub) checkAutomation(c site.Control, next *site.Automation) error {
	if err := next.Validate(h.site, c); err != nil {
		return &InvalidError{"automation", err.Error()}
	}
	if _, by := h.linksOf(c.ID); by != "" && len(next.Demands) > 0 {
		return &InvalidError{"demands", fmt.Sprintf("%s is moved by %s; only that can have demands", c.Name, h.site.Controls[by].Name)}
	}
	return formulasOf(h.site, next.Formulas)
}

// SaveAutomation changes what the hub decides of a control. Where the change takes away auto, the safe value comes first.
func (h *Hub) SaveAutomation(ctx context.Context, a access.Actor, id string, change func(*site.Automation) error) (view AutomationView, remarks []string, err error) {
	err = h.do(ctx, func() error {
		c, err := h.control(a, access.Configure, id)
		if err != nil {
			return err
		}
		before := h.automationView(id).Config
		next := before
		if err := change(&next); err != nil {
			return err
		}
		next.Control = id
		if err := h.checkAutomation(c, &next); err != nil {
			return err
		}
		if reflect.DeepEqual(next, site.Automation{Control: id}) {
			h.changeSite(func(s *site.Site) { delete(s.Automations, id) }, store.DropPart("automation", id))
		} else {
			h.changeSite(func(s *site.Site) { s.Automations[id] = &next }, store.SaveAutomation(&next))
		}
		h.journalChange(a, id, before, next)
		view = h.automationView(id)
		h.publishControl(id)
		h.publishSettings()
		if before.HasAuto() && !next.HasAuto() {
			remarks = append(remarks, c.Name+" is brought to its safe value, "+c.Say(c.Safe)+", and stays there until somebody wants something else")
		}
		return nil
	})
	return view, remarks, err
}

func (h *Hub) publishSettings() {
	for _, id := range slices.Sorted(maps.Keys(h.site.Settings)) {
		g := h.site.Settings[id]
		h.live.publish("setting", h.settingView(g), h.settingObject(g))
	}
}

// part is a kind of configuration with ids of its own that is kept as a whole.
type part[T any] struct {
	kind     string
	of       func(*site.Site) map[string]T
	validate func(*site.Site, T) error
	save     func(T) store.Change
}

var (
	settingPart = part[site.Setting]{"setting", func(s *site.Site) map[string]site.Setting { return s.Settings },
		func(s *site.Site, g site.Setting) error { return g.Validate(s) }, store.SaveSetting}
	presetPart = part[site.Preset]{"preset", func(s *site.Site) map[string]site.Preset { return s.Presets },
		func(s *site.Site, p site.Preset) error { return p.Validate(s) }, store.SavePreset}
	rulePart = part[*site.Rule]{"rule", func(s *site.Site) map[string]*site.Rule { return s.Rules },
		func(s *site.Site, r *site.Rule) error {
			if err := r.Validate(s); err != nil {
				return err
			}
			return formulasOf(s, r.Formulas)
		}, store.SaveRule}
	groupPart = part[*site.Group]{"group", func(s *site.Site) map[string]*site.Group { return s.Groups },
		func(s *site.Site, g *site.Group) error { return g.Validate(s) }, store.SaveGroup}
)

// keep saves a part after checking it.
func keep[T any](h *Hub, a access.Actor, p part[T], id, name string, next T, check func(any) error) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	if err := checkName("name", name); err != nil {
		return err
	}
	before, had := p.of(h.site)[id]
	if had {
		if err := check(plain(before)); err != nil {
			return err
		}
	}
	if p.kind != "setting" {
		if err := site.CheckSlug(id); err != nil {
			return &InvalidError{"id", err.Error()}
		}
	} else if !had && (h.site.Signals[id].ID != "" || h.site.Controls[id].ID != "") {
		return &InvalidError{"id", "there is already a signal or control with the id " + id + "; choose another"}
	}
	if err := p.validate(h.site, next); err != nil {
		if invalid, ok := err.(*InvalidError); ok {
			return invalid
		}
		return &InvalidError{p.kind, err.Error()}
	}
	h.changeSite(func(s *site.Site) { p.of(s)[id] = next }, p.save(next))
	object := id
	if p.kind != "setting" {
		object = p.kind + "." + id
	}
	if had {
		h.journalChange(a, object, plain(before), plain(next))
	} else {
		h.journal(time.Now(), a, "add", object, "", p.kind, "")
	}
	return nil
}

// plain is a record itself, also where it is kept by pointer.
func plain(v any) any { return reflect.Indirect(reflect.ValueOf(v)).Interface() }

// drop takes a part away.
func drop[T any](h *Hub, a access.Actor, p part[T], id string) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	if _, ok := p.of(h.site)[id]; !ok {
		return &NotFoundError{p.kind, id, site.Nearest(id, slices.Sorted(maps.Keys(p.of(h.site))))}
	}
	if user := h.userOf(p.kind, id); user != "" {
		return &InvalidError{"id", fmt.Sprintf("%s is used by %s; change that first", id, user)}
	}
	h.changeSite(func(s *site.Site) { delete(p.of(s), id) }, store.DropPart(p.kind, id))
	object := id
	if p.kind != "setting" {
		object = p.kind + "." + id
	}
	h.journal(time.Now(), a, "remove", object, p.kind, "", "")
	return nil
}

// userOf names what uses a setting or preset, "" where nothing does.
func (h *Hub) userOf(kind, id string) string {
	uses := func(each func(func(place, text string, quantity bool))) (found bool) {
		each(func(_, text string, _ bool) {
			if f, err := formula.Parse(text, engine.Names(h.site)); err == nil && slices.Contains(f.IDs, id) {
				found = true
			}
		})
		return found
	}
	acts := func(list []site.Action) bool {
		return slices.ContainsFunc(list, func(x site.Action) bool { return string(x.Kind) == kind && x.ID == id })
	}
	for _, c := range slices.Sorted(maps.Keys(h.site.Automations)) {
		if kind == "setting" && uses(h.site.Automations[c].Formulas) {
			return "the automation of " + c
		}
	}
	for _, r := range slices.Sorted(maps.Keys(h.site.Rules)) {
		rule := h.site.Rules[r]
		if kind == "setting" && uses(rule.Formulas) || slices.ContainsFunc(rule.Stages, func(g site.Stage) bool { return acts(g.Actions) }) {
			return "the rule " + rule.Name
		}
	}
	for _, p := range slices.Sorted(maps.Keys(h.site.Presets)) {
		if acts(h.site.Presets[p].Actions) {
			return "the preset " + h.site.Presets[p].Name
		}
	}
	return ""
}

// SaveSetting adds or changes a setting. check is asked with what it is before, where it is there.
func (h *Hub) SaveSetting(ctx context.Context, a access.Actor, g site.Setting, check func(any) error) (view Setting, err error) {
	err = h.do(ctx, func() error {
		if err := keep(h, a, settingPart, g.ID, g.Name, g, check); err != nil {
			return err
		}
		view = h.settingView(g)
		h.live.publish("setting", view, h.settingObject(g))
		return nil
	})
	return view, err
}

// RemoveSetting takes a setting away that nothing uses.
func (h *Hub) RemoveSetting(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, settingPart, id) })
}

// SavePreset adds or changes a preset.
func (h *Hub) SavePreset(ctx context.Context, a access.Actor, p site.Preset, check func(any) error) (view PresetView, err error) {
	err = h.do(ctx, func() error { return keep(h, a, presetPart, p.ID, p.Name, p, check) })
	return PresetView{Version(p), p}, err
}

// RemovePreset takes a preset away.
func (h *Hub) RemovePreset(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, presetPart, id) })
}

// RuleView is a rule with its state.
type RuleView struct {
	Version string           `json:"version"`
	Config  site.Rule        `json:"config"`
	State   engine.RuleState `json:"state"`
}

// Rules returns all rules, by id.
func (h *Hub) Rules(ctx context.Context, a access.Actor) ([]RuleView, error) {
	list := []RuleView{}
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Audit, access.Anything); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Rules)) {
			list = append(list, h.ruleView(id))
		}
		return nil
	})
	return list, err
}

func (h *Hub) ruleView(id string) RuleView {
	cfg := *h.site.Rules[id]
	state, _ := h.engine.Rule(id)
	return RuleView{Version(cfg), cfg, state}
}

// SaveRule adds or changes a rule.
func (h *Hub) SaveRule(ctx context.Context, a access.Actor, r site.Rule, check func(any) error) (view RuleView, err error) {
	err = h.do(ctx, func() error {
		if err := keep(h, a, rulePart, r.ID, r.Name, &r, check); err != nil {
			return err
		}
		view = h.ruleView(r.ID)
		return nil
	})
	return view, err
}

// RemoveRule takes a rule away.
func (h *Hub) RemoveRule(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, rulePart, id) })
}

// GroupView is a group of controls.
type GroupView struct {
	Version string     `json:"version"`
	Config  site.Group `json:"config"`
}

// Groups returns all groups, by id.
func (h *Hub) Groups(ctx context.Context, a access.Actor) ([]GroupView, error) {
	list := []GroupView{}
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Audit, access.Anything); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Groups)) {
			list = append(list, GroupView{Version(*h.site.Groups[id]), *h.site.Groups[id]})
		}
		return nil
	})
	return list, err
}

// SaveGroup adds or changes a group.
func (h *Hub) SaveGroup(ctx context.Context, a access.Actor, g site.Group, check func(any) error) (view GroupView, err error) {
	err = h.do(ctx, func() error { return keep(h, a, groupPart, g.ID, g.Name, &g, check) })
	return GroupView{Version(g), g}, err
}

// RemoveGroup takes a group away.
func (h *Hub) RemoveGroup(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, groupPart, id) })
}

// Messages returns the newest messages to people, newest first.
func (h *Hub) Messages(ctx context.Context, a access.Actor, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	return h.store.Messages(ctx, limit)
}

// Notes returns the newest notes, newest first.
func (h *Hub) Notes(ctx context.Context, a access.Actor, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	return h.store.Notes(ctx, limit)
}

// FormulaWord is something that a formula can name.
type FormulaWord struct {
	Text string `json:"text"`
	Kind string `json:"kind"` // signal, control, setting, function, word
	Says string `json:"says"`
	Unit string `json:"unit,omitempty"`
}

// FormulaWords returns everything that a formula can name.
func (h *Hub) FormulaWords(_ context.Context, a access.Actor) ([]FormulaWord, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return nil, err
	}
	s := h.Site()
	list := []FormulaWord{}
	for _, id := range slices.Sorted(maps.Keys(s.Signals)) {
		list = append(list, FormulaWord{id, "signal", s.Signals[id].Name, s.Signals[id].Unit})
	}
	for _, id := range slices.Sorted(maps.Keys(s.Controls)) {
		c := s.Controls[id]
		list = append(list, FormulaWord{id + ".is", "control", c.Name + ": what it is", ""}, FormulaWord{id + ".want", "control", c.Name + ": what is wanted", ""})
		if s.Automations[id].HasAuto() {
			list = append(list, FormulaWord{id + ".mode", "control", c.Name + `: "auto" or "manual"`, ""})
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Settings)) {
		list = append(list, FormulaWord{id, "setting", s.Settings[id].Name, s.Settings[id].Unit})
	}
	for _, f := range formula.Functions {
		list = append(list, FormulaWord{f.Name + "(" + f.Arguments + ")", "function", f.Does, ""})
	}
	for _, f := range formula.Words {
		list = append(list, FormulaWord{f.Name, "word", f.Does, ""})
	}
	return list, nil
}

// TryAutomation says what a control would be by an automation that is not in force (nil: by its own), with values in the
// place of those that are, at a time (zero: now). Nothing changes.
func (h *Hub) TryAutomation(ctx context.Context, a access.Actor, id string, draft *site.Automation, values map[string]reading.Value, at time.Time) (engine.Tried, error) {
	var out engine.Tried
	err := h.ask(ctx, func() error {
		c, err := h.control(a, access.Configure, id)
		if err != nil {
			return err
		}
		s := h.site
		if draft != nil {
			next := *draft
			next.Control = id
			if err := h.checkAutomation(c, &next); err != nil {
				return err
			}
			s = h.site.Clone()
			s.Automations[id] = &next
		}
		now := h.now()
		if !at.IsZero() {
			now.Wall = at
		}
		out, _ = h.engine.Try(now, s, id, values)
		return nil
	})
	return out, err
}

// tellReasons tells those who look on of reasons whose numbers have changed.
func (h *Hub) tellReasons() {
	for id := range h.site.Automations {
		s, ok := h.engine.Control(id)
		if ok && h.engine.Reason(h.now(), id) != s.Reason {
			h.publishControl(id)
		}
	}
}
