package site

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Names of secrets.
const (
	Password       = "password"   // that somebody else asks for
	Passphrase     = "passphrase" // by which backups are encrypted
	DeviceKey      = "key"        // the SHA-256 of a device's key, in hexadecimal
	CameraPassword = "camera_password"
)

// Catalogue lists all kinds of parts, those first that others hang on.
var Catalogue = []*Kind{
	kind[Hub]{name: "hub", prefix: "hub", alone: func(s *Site) *Hub { return &s.Hub }}.entry(),
	places(),
	kind[Broker]{name: "broker", prefix: "broker ", many: func(s *Site) map[string]Broker { return s.Brokers },
		id: func(b *Broker) *string { return &b.ID }, called: func(b Broker) string { return b.Name },
		validate: func(b Broker, _ *Site) error { return b.Validate() },
		secrets: map[string]func(Broker) Goes{Password: func(b Broker) Goes {
			return Goes{b.User != "", b.Address, b.Address + "\x00" + b.User + "\x00" + b.CA}
		}}}.entry(),
	kind[Device]{name: "device", many: func(s *Site) map[string]Device { return s.Devices },
		id: func(d *Device) *string { return &d.ID }, called: func(d Device) string { return d.Name },
		validate: func(d Device, _ *Site) error { return d.Validate() },
		mentions: func(_ *Site, d Device, _ Reads, each func(Mention)) {
			by := "the device " + d.Name
			each(Mention{Key{"place", d.Place}, Needed, by})
			if d.Link.Broker != "" && d.State != Removed {
				each(Mention{Key{"broker", d.Link.Broker}, Needed, by})
			}
		},
		secrets: map[string]func(Device) Goes{
			DeviceKey: func(Device) Goes { return Goes{Wanted: true} },
			CameraPassword: func(d Device) Goes {
				return Goes{d.Camera.Account != "", d.Camera.Host(), d.Camera.Host()}
			}}}.entry(),
	kind[Signal]{name: "signal", many: func(s *Site) map[string]Signal { return s.Signals },
		id: func(g *Signal) *string { return &g.ID }, called: func(g Signal) string { return g.Name },
		validate: func(g Signal, _ *Site) error { return g.Validate() },
		mentions: func(_ *Site, g Signal, _ Reads, each func(Mention)) {
			each(Mention{Of: Key{Thing, g.Device}, Bond: Owned})
		}}.entry(),
	kind[Control]{name: "control", many: func(s *Site) map[string]Control { return s.Controls },
		id: func(c *Control) *string { return &c.ID }, called: func(c Control) string { return c.Name },
		validate: func(c Control, _ *Site) error { return c.Validate() },
		mentions: func(_ *Site, c Control, _ Reads, each func(Mention)) {
			each(Mention{Of: Key{Thing, c.Device}, Bond: Owned})
		}}.entry(),
	kind[Setting]{name: "setting", many: func(s *Site) map[string]Setting { return s.Settings },
		id: func(g *Setting) *string { return &g.ID }, called: func(g Setting) string { return g.Name },
		validate: func(g Setting, s *Site) error { return g.Validate(s) },
		mentions: func(s *Site, g Setting, _ Reads, each func(Mention)) {
			of := Key{Kind: Thing}
			of.ID, _ = Split(g.ID)
			if _, ok := s.Place(of.ID); ok {
				of.Kind = "place"
			}
			each(Mention{Of: of, Bond: Owned})
		}}.entry(),
	kind[*Automation]{name: "automation", many: func(s *Site) map[string]*Automation { return s.Automations },
		id:     func(a **Automation) *string { return &(*a).Control },
		filled: func(a *Automation) *Automation { a.Identify(nil); return a },
		validate: func(a *Automation, s *Site) error {
			c, ok := s.Controls[a.Control]
			if !ok {
				return fmt.Errorf("there is no control %s", a.Control)
			}
			return a.Validate(s, c)
		},
		formulas: (*Automation).Formulas, mentions: (*Site).automationMentions}.entry(),
	kind[*Group]{name: "group", prefix: "group.", many: func(s *Site) map[string]*Group { return s.Groups },
		id: func(g **Group) *string { return &(*g).ID }, called: func(g *Group) string { return g.Name },
		validate: (*Group).Validate,
		without: func(g *Group, gone func(Key) bool) (*Group, bool, bool) {
			left := *g
			left.Members = slices.DeleteFunc(slices.Clone(g.Members), func(m GroupMember) bool {
				return gone(Key{Thing, m.Control})
			})
			return &left, len(left.Members) < len(g.Members), len(left.Members) >= 2
		}}.entry(),
	kind[Preset]{name: "preset", prefix: "preset.", many: func(s *Site) map[string]Preset { return s.Presets },
		id: func(p *Preset) *string { return &p.ID }, called: func(p Preset) string { return p.Name },
		validate: Preset.Validate,
		mentions: func(_ *Site, p Preset, _ Reads, each func(Mention)) {
			actionMentions(p.Actions, "the preset "+p.Name, each)
		},
		without: func(p Preset, gone func(Key) bool) (Preset, bool, bool) {
			had := len(p.Actions)
			p.Actions = actionsLeft(p.Actions, gone)
			return p, len(p.Actions) < had, len(p.Actions) > 0
		}}.entry(),
	kind[*Rule]{name: "rule", prefix: "rule.", many: func(s *Site) map[string]*Rule { return s.Rules },
		id: func(r **Rule) *string { return &(*r).ID }, called: func(r *Rule) string { return r.Name },
		validate: (*Rule).Validate,
		formulas: (*Rule).Formulas, mentions: (*Site).ruleMentions, without: (*Rule).without}.entry(),
	kind[*Alert]{name: "alert", prefix: "alert.", many: func(s *Site) map[string]*Alert { return s.Alerts },
		id: func(a **Alert) *string { return &(*a).ID }, called: func(a *Alert) string { return a.Name },
		validate: (*Alert).Validate,
		formulas: (*Alert).Formulas,
		mentions: func(s *Site, a *Alert, reads Reads, each func(Mention)) {
			if a.Of != "" {
				each(Mention{Of: Key{Thing, a.Of}, Bond: Owned})
			}
			s.settingsIn(a.Formulas, "the alert "+a.Name, reads, each)
		}}.entry(),
	kind[Route]{name: "route", prefix: "route.", many: func(s *Site) map[string]Route { return s.Routes },
		id: func(r *Route) *string { return &r.ID }, called: func(r Route) string { return r.Name },
		validate: func(r Route, _ *Site) error { return r.Validate() },
		mentions: func(_ *Site, r Route, _ Reads, each func(Mention)) {
			if r.Person != "" {
				each(Mention{Of: Key{Member, r.Person}, Bond: Owned})
			}
			if r.Via == ByMQTT && r.Broker != "" {
				each(Mention{Key{"broker", r.Broker}, Needed, "the notifications " + r.Name})
			}
		},
		without: func(r Route, gone func(Key) bool) (Route, bool, bool) {
			had := len(r.Places)
			r.Places = slices.DeleteFunc(slices.Clone(r.Places), func(id string) bool { return gone(Key{Thing, id}) })
			return r, len(r.Places) < had, had == 0 || len(r.Places) > 0 // without a place it would be of all
		}}.entry(),
	kind[Panel]{name: "panel", prefix: "panel", alone: func(s *Site) *Panel { return &s.Panel }, validate: Panel.Validate,
		without: func(p Panel, gone func(Key) bool) (Panel, bool, bool) {
			had := len(p.Points)
			p.Points = slices.DeleteFunc(slices.Clone(p.Points), func(x Point) bool { return gone(Key{Thing, x.ID}) })
			return p, len(p.Points) < had, true
		}}.entry(),
	kind[Messaging]{name: "messaging", prefix: "hub.messaging", alone: func(s *Site) *Messaging { return &s.Messaging },
		validate: func(m Messaging, _ *Site) error { return m.Validate() },
		without: func(m Messaging, gone func(Key) bool) (Messaging, bool, bool) {
			left := map[string]string{}
			for id, text := range m.Say {
				if !gone(Key{Thing, id}) && !gone(Key{"dashboard", id}) {
					left[id] = text
				}
			}
			changed := len(left) < len(m.Say)
			if changed {
				m.Say = left
			}
			return m, changed, true
		},
		secrets: map[string]func(Messaging) Goes{Password: func(x Messaging) Goes {
			m := x.Mail
			return Goes{m.Account != "", m.Host, fmt.Sprintf("%s\x00%d\x00%s\x00%s\x00%s", m.Host, m.Port, m.Account, m.Security,
				m.CA)}
		}}}.entry(),
	kind[Backups]{name: "backups", prefix: "hub.backups", idle: true, alone: func(s *Site) *Backups { return &s.Backups },
		validate: func(b Backups, _ *Site) error { return b.Validate() },
		secrets: map[string]func(Backups) Goes{
			Passphrase: func(Backups) Goes { return Goes{Wanted: true} },
			Password: func(b Backups) Goes {
				e := b.Elsewhere
				return Goes{e.Account != "", e.Address, fmt.Sprintf("%s\x00%s\x00%s\x00%s", e.Via, e.Address, e.Bucket, e.Account)}
			}}}.entry(),
	kind[Rights]{name: "rights", prefix: "hub.rights", idle: true, alone: func(s *Site) *Rights { return &s.Rights },
		without: func(r Rights, gone func(Key) bool) (Rights, bool, bool) {
			had := len(r.Lines)
			r.Lines = slices.DeleteFunc(slices.Clone(r.Lines), func(l Right) bool {
				return gone(Key{Member, l.Who}) || gone(Key{Thing, strings.TrimSuffix(l.Of, PicturesOf)})
			})
			return r, len(r.Lines) < had, true
		}}.entry(),
	kind[Model]{name: "model", prefix: "model ", idle: true, many: func(s *Site) map[string]Model { return s.Models },
		id: func(m *Model) *string { return &m.ID }, called: func(m Model) string { return m.Name },
		validate: func(m Model, _ *Site) error { return m.Validate() }}.entry(),
	kind[Dashboard]{name: "dashboard", prefix: "dashboard.", idle: true,
		many: func(s *Site) map[string]Dashboard { return s.Dashboards },
		id:   func(d *Dashboard) *string { return &d.ID }, called: func(d Dashboard) string { return d.Name },
		validate: func(d Dashboard, _ *Site) error { return d.Validate() },
		mentions: func(_ *Site, d Dashboard, _ Reads, each func(Mention)) {
			if d.Shared == Private { // a shared one is everybody's
				each(Mention{Of: Key{Member, d.By}, Bond: Owned})
			}
		},
		without: func(d Dashboard, gone func(Key) bool) (Dashboard, bool, bool) {
			left, changed := d.Without(func(id string) bool { return gone(Key{Thing, id}) || gone(Key{"preset", id}) })
			return left, changed, true
		}}.entry(),
	kind[View]{name: "view", prefix: "view ", idle: true, many: func(s *Site) map[string]View { return s.Views },
		id: func(v *View) *string { return &v.ID }, called: func(v View) string { return v.Name },
		validate: func(v View, _ *Site) error { return v.Validate() },
		mentions: func(_ *Site, v View, _ Reads, each func(Mention)) {
			if !v.Shared {
				each(Mention{Of: Key{Member, v.By}, Bond: Owned})
			}
		}}.entry(),
}

// places are in the order in which they were made.
func places() *Kind {
	k := kind[Place]{name: "place", prefix: "place ", id: func(p *Place) *string { return &p.ID },
		called:   func(p Place) string { return p.Name },
		validate: func(p Place, _ *Site) error { return p.Validate() }}.entry()
	k.ids = func(s *Site) (ids []string) {
		for _, p := range s.Places {
			ids = append(ids, p.ID)
		}
		slices.Sort(ids)
		return ids
	}
	k.get = func(s *Site, id string) any {
		if p, ok := s.Place(id); ok {
			return p
		}
		return nil
	}
	k.put = func(s *Site, part any) {
		p := part.(Place)
		if i := slices.IndexFunc(s.Places, func(x Place) bool { return x.ID == p.ID }); i >= 0 {
			s.Places[i] = p
		} else {
			s.Places = append(s.Places, p)
		}
		slices.SortFunc(s.Places, func(a, b Place) int {
			return cmp.Or(cmp.Compare(a.Position, b.Position), cmp.Compare(a.ID, b.ID))
		})
	}
	k.drop = func(s *Site, id string) {
		s.Places = slices.DeleteFunc(s.Places, func(p Place) bool { return p.ID == id })
	}
	return k
}

// settingsIn mentions the settings that formulas name.
func (s *Site) settingsIn(formulas func(func(place, text string, quantity bool)), by string, reads Reads,
	each func(Mention)) {
	formulas(func(_, text string, _ bool) {
		for _, id := range reads(text) {
			if _, ok := s.Settings[id]; ok {
				each(Mention{Key{Thing, id}, Held, by})
			}
		}
	})
}

// automationMentions: without its signal nobody could know of an interlock, and it would hold for ever.
func (s *Site) automationMentions(a *Automation, reads Reads, each func(Mention)) {
	name := s.Controls[a.Control].Name
	each(Mention{Of: Key{Thing, a.Control}, Bond: Owned})
	s.settingsIn(a.Formulas, "the automation of "+name, reads, each)
	for _, l := range a.Interlocks {
		only := Automation{Interlocks: []Interlock{l}}
		only.Formulas(func(_, text string, _ bool) {
			for _, id := range reads(text) {
				if _, ok := s.Signals[id]; ok {
					each(Mention{Key{Thing, id}, Needed, fmt.Sprintf("the interlock “%s” of %s, which relies on it", l.Name, name)})
				}
			}
		})
	}
	if t := a.Travel; t != nil {
		for _, id := range []string{t.Opens, t.Closes, t.Pulses} {
			if id != "" {
				each(Mention{Key{Thing, id}, Needed, name + ", which it moves"})
			}
		}
	}
}

func (s *Site) ruleMentions(r *Rule, reads Reads, each func(Mention)) {
	by := "the rule " + r.Name
	s.settingsIn(r.Formulas, by, reads, each)
	for _, g := range r.Stages {
		actionMentions(g.Actions, by, each)
	}
}

func actionMentions(list []Action, by string, each func(Mention)) {
	for _, x := range list {
		switch x.Kind {
		case DoPreset:
			each(Mention{Key{"preset", x.ID}, Held, by})
		case DoSetting:
			each(Mention{Key{Thing, x.ID}, Held, by})
		}
	}
}

// actionsLeft are those that are about nothing that is gone.
func actionsLeft(list []Action, gone func(Key) bool) []Action {
	return slices.DeleteFunc(slices.Clone(list), func(x Action) bool {
		switch x.Kind {
		case DoControl, DoAuto, DoPulse, DoSetting:
			return gone(Key{Thing, x.ID})
		case DoPreset:
			return gone(Key{"preset", x.ID})
		}
		return false
	})
}

// without is switched off where a stage has nothing to do any more.
func (r *Rule) without(gone func(Key) bool) (*Rule, bool, bool) {
	left, changed := *r, false
	left.Stages = slices.Clone(r.Stages)
	for i, g := range r.Stages {
		acts := actionsLeft(g.Actions, gone)
		changed = changed || len(acts) < len(g.Actions)
		left.Stages[i].Actions = acts
		left.Off = left.Off || len(acts) == 0
	}
	return &left, changed, true
}
