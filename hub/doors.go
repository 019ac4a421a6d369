package hub

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/mailbox"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/sight"
	"idleember/store"
)

// door is what the hub itself asks before a part of a kind is kept or removed, beyond what the catalogue says of it,
// and what it does after. before is what is there, or nil; e.part may be completed.
type door struct {
	// all is of kinds of which there are some that nobody made: their ids, and each of them.
	all   func(s *site.Site) (ids []string, get func(id string) any)
	fill  func(before any, e *edit) error              // completes what somebody told of a part
	may   func(a access.Actor, before, part any) error // nil: whoever may configure
	check func(a access.Actor, before any, e *edit) error
	after func(before, part any)
	gone  func(id string)
	said  func(part any) string // how the journal tells of a change; nil: by the fields that differ
	// show completes what an actor is told of a part, and reports whether they may see it; nil: whoever may configure.
	show   func(a access.Actor, part any, out *shown.AnyPart) bool
	beside bool // show needs nothing that is the loop's
}

// Long, because it is one table.
func (h *Hub) theDoors() map[string]door {
	return map[string]door{
		"hub": {
			check: func(_ access.Actor, _ any, e *edit) error { return e.part.(site.Hub).Check() },
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				v := part.(site.Hub)
				// whoever is here for a while need not know where the house is
				if a.Role != access.Owner && a.Role != access.Member {
					v.Latitude, v.Longitude = 0, 0
				}
				out.Config = v
				return access.May(a, access.Look, access.Anything) == nil
			}},
		"place": {check: func(_ access.Actor, before any, e *edit) error {
			p := e.part.(site.Place)
			if before == nil {
				for _, x := range h.site.Places {
					if strings.EqualFold(x.Name, p.Name) {
						return &fault.ExistsError{Kind: "place", ID: x.ID, Name: x.Name}
					}
				}
				p.Position = h.nextPosition()
			} else if p.Position == 0 { // as it was
				p.Position = before.(site.Place).Position
			}
			e.part = p
			return nil
		}, said: placeText, show: func(a access.Actor, part any, _ *shown.AnyPart) bool {
			return access.May(a, access.Look, access.Anything) == nil && h.glass.As(h.site, a).Place(part.(site.Place).ID)
		}},
		"broker": {check: func(_ access.Actor, before any, e *edit) error {
			b := e.part.(site.Broker)
			for id, x := range h.site.Brokers {
				if before == nil && strings.EqualFold(x.Name, b.Name) {
					return &fault.ExistsError{Kind: "broker", ID: id, Name: x.Name}
				}
			}
			if b.ClientID == "" {
				b.ClientID = "idleember-" + secret(4)
			}
			e.part = b
			return nil
		}, gone: func(id string) { delete(h.brokers, id) }, show: func(a access.Actor, part any, out *shown.AnyPart) bool {
			out.State = h.brokerState(part.(site.Broker).ID)
			return access.May(a, access.Configure, access.Anything) == nil
		}},
		"device": {
			fill: h.fillDevice,
			may: func(a access.Actor, before, part any) error {
				if before == nil {
					return access.May(a, access.Configure, access.Anything)
				}
				return access.May(a, access.Configure, h.deviceObject(before.(site.Device)))
			},
			check: func(a access.Actor, before any, e *edit) error {
				d := e.part.(site.Device)
				if before == nil {
					d.Created = h.Time().Truncate(time.Millisecond)
				}
				if err := h.checkDevice(d); err != nil {
					return err
				}
				err := h.placeFor(a, &d)
				e.part = d
				return err
			},
			gone: func(id string) {
				h.boxes.each(id, func(b *Mailbox) { b.close() })
				h.keys.drop(id)
				delete(h.speakers, id)
				h.meters.Drop(id)
			},
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				d := part.(site.Device)
				v := forActor(a, h.deviceView(d))
				out.Config, out.State = v.Config, v.State
				return access.May(a, access.Look, h.deviceObject(d)) == nil
			}},
		"signal": {
			fill: h.fillSignal,
			may: func(a access.Actor, before, part any) error {
				return h.mayChange(a, before, part.(site.Signal).Device,
					func(s any) access.Object { return h.signalObject(s.(site.Signal)) })
			},
			check: h.checkSignal,
			after: func(_, part any) { h.publishSignal(part.(site.Signal).ID) },
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				s := part.(site.Signal)
				out.State = h.signalView(s).State
				return access.May(a, access.Look, h.signalObject(s)) == nil
			}},
		"control": {
			fill: h.fillControl,
			may: func(a access.Actor, before, part any) error {
				return h.mayChange(a, before, part.(site.Control).Device,
					func(c any) access.Object { return h.controlObject(c.(site.Control)) })
			},
			check: h.checkControl,
			after: func(_, part any) { h.publishControl(part.(site.Control).ID) },
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				c := part.(site.Control)
				out.State = h.glass.As(h.site, a).Control(h.controlView(c)).State
				return access.May(a, access.Look, h.controlObject(c)) == nil
			}},
		"automation": {
			may: func(a access.Actor, _, part any) error {
				_, err := h.control(a, access.Configure, part.(*site.Automation).Control)
				return err
			},
			check: func(_ access.Actor, before any, e *edit) error {
				next := e.part.(*site.Automation)
				had, _ := before.(*site.Automation)
				next.Interlocks = slices.Clone(next.Interlocks)
				next.Identify(had)
				if err := h.checkAutomation(h.site.Controls[next.Control], next); err != nil {
					return err
				}
				_, err := h.checkRing(next.Control, next)
				return err
			},
			all: func(s *site.Site) ([]string, func(string) any) {
				return nil, func(id string) any { return automationOf(s, id) }
			},
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				next := part.(*site.Automation)
				c, err := h.control(a, access.Look, next.Control)
				if err != nil {
					return false
				}
				ring, _ := h.checkRing(c.ID, next)
				out.State = shown.AutomationState{Remarks: append(append(append([]string{}, ring...), h.warnings(c, next)...),
					h.silentInterlocks(next)...), Says: words.Texts(engine.Aloud(h.site, next))}
				return h.glass.As(h.site, a).Decided(c.ID)
			},
			after: func(_, part any) {
				h.publishControl(part.(*site.Automation).Control)
				h.publishSettings()
			}},
		"setting": {after: h.settingSaved, show: func(a access.Actor, part any, out *shown.AnyPart) bool {
			g := part.(site.Setting)
			out.State = h.settingView(g).State
			return access.May(a, access.Look, h.settingObject(g)) == nil
		}},
		"preset": {show: func(a access.Actor, part any, out *shown.AnyPart) bool {
			out.State = h.presetState(a, part.(site.Preset))
			return sight.MayApply(h.site, a, part.(site.Preset))
		}},
		"rule": {show: func(a access.Actor, part any, out *shown.AnyPart) bool {
			r := part.(*site.Rule)
			state, _ := h.engine.Rule(r.ID)
			out.State = shown.RuleState{RuleState: state,
				AloudState: shown.AloudState{Says: words.Texts(engine.RuleAloud(h.site, r))}}
			return h.audits(a) && h.glass.As(h.site, a).Rule(r)
		}},
		"group": {show: func(a access.Actor, part any, out *shown.AnyPart) bool {
			out.State = shown.AloudState{Says: words.Texts([]words.Fact{engine.GroupAloud(h.site, part.(*site.Group))})}
			return h.audits(a) && h.glass.As(h.site, a).Group(part.(*site.Group))
		}},
		"alert": {
			all: func(s *site.Site) ([]string, func(string) any) {
				all := s.AllAlerts()
				return slices.Sorted(maps.Keys(all)), func(id string) any {
					if x := all[id]; x != nil {
						return x
					}
					return nil
				}
			},
			after: func(_, _ any) { h.lookAgain() },
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				sees := h.glass.As(h.site, a)
				v, cfg := h.alertView(part.(*site.Alert).ID)
				if cfg == nil || !sees.Alert(cfg) {
					return false
				}
				out.State = sees.Told(v).State
				return true
			}},
		"route": {after: func(_, _ any) { h.tryAgain() }, show: func(a access.Actor, part any, _ *shown.AnyPart) bool {
			return h.audits(a) && h.glass.As(h.site, a).Route(part.(site.Route).ID)
		}},
		"messaging": {
			check: func(_ access.Actor, _ any, e *edit) error { return checkWordings(h.site, e.part.(site.Messaging).Say) },
			after: func(before, part any) {
				if m := part.(site.Messaging); m.Digest != before.(site.Messaging).Digest {
					h.write(store.MarkDigest(h.Time(), m.Digest))
				}
				h.tryAgain()
			},
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				out.State = shown.MessagingState{Password: h.vault.get(site.KeyOf(part), site.Password) != "",
					Signing: h.vault.get(own, SigningKey)}
				return access.May(a, access.Configure, access.Anything) == nil
			}},
		"backups": {check: h.checkBackups, beside: true, show: func(a access.Actor, _ any, out *shown.AnyPart) bool {
			if state, ok := h.states.Load("backups"); ok {
				out.State = state.(func() any)()
			}
			return access.May(a, access.Configure, access.Anything) == nil
		}},
		"rights": {
			may: func(a access.Actor, _, _ any) error { return access.May(a, access.Household, access.Anything) },
			check: func(_ access.Actor, _ any, e *edit) error {
				if err := h.site.CheckRights(e.part.(site.Rights).Lines, h.isMember); err != nil {
					return fault.Invalid("lines", "%v", err)
				}
				return nil
			},
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				out.Config = site.Rights{Lines: append([]site.Right{}, part.(site.Rights).Lines...)}
				return access.May(a, access.Household, access.Anything) == nil
			}},
		"model": {
			all: func(*site.Site) ([]string, func(string) any) {
				all := h.models()
				return slices.Sorted(maps.Keys(all)), func(id string) any {
					if m, ok := all[id]; ok {
						return m
					}
					return nil
				}
			},
			check: func(_ access.Actor, _ any, e *edit) error { return h.checkModel(e.part.(site.Model)) },
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				out.State = h.modelState(part.(site.Model).ID)
				return access.May(a, access.Configure, access.Anything) == nil
			}},
		"panel": {show: func(a access.Actor, part any, out *shown.AnyPart) bool {
			p := part.(site.Panel)
			p.Allow, p.Points = append([]string{}, p.Allow...), append([]site.Point{}, p.Points...)
			out.Config = p
			return access.May(a, access.Configure, access.Anything) == nil
		}},
		"dashboard": {
			may: func(a access.Actor, before, _ any) error {
				if err := access.May(a, access.Tend, access.Anything); err != nil {
					return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "dashboards"}}
				}
				had, ok := before.(site.Dashboard)
				switch {
				case ok && !sight.MayOpen(a, had):
					return &fault.InvalidError{Field: "id", Reason: "there is already a dashboard with the id " + had.ID +
						"; choose another"}
				case ok && !sight.MayArrange(a, had):
					return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "the dashboard " + had.Name}}
				}
				return nil
			},
			check: h.checkDashboard,
			after: func(_, part any) { h.dashboardChanged(part.(site.Dashboard).ID) },
			gone:  h.dashboardChanged,
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				d := part.(site.Dashboard)
				if !sight.MayOpen(a, d) || access.May(a, access.Look, access.Anything) != nil {
					return false
				}
				v := h.dashboardView(a, d)
				out.Config, out.State = v.Config, v.State
				return true
			},
			beside: true,
			said:   dashboardText},
		"view": {
			fill: func(before any, e *edit) error {
				if had, ok := before.(site.View); ok {
					v := e.part.(site.View)
					v.By = had.By
					e.part = v
				}
				return nil
			},
			may: func(a access.Actor, before, _ any) error {
				if had, ok := before.(site.View); ok && had.By != a.ID {
					if !had.Shared {
						return &fault.InvalidError{Field: "id", Reason: "there is already a view with the id " + had.ID +
							"; choose another"}
					}
					return access.May(a, access.Configure, access.Anything)
				}
				return access.May(a, access.Tend, access.Anything)
			},
			check: func(a access.Actor, before any, e *edit) error {
				if before == nil {
					v := e.part.(site.View)
					v.By = a.ID
					e.part = v
				}
				return nil
			},
			show: func(a access.Actor, part any, out *shown.AnyPart) bool {
				v := part.(site.View)
				out.State = shown.DashboardState{By: cmp.Or(h.nameOf(v.By), v.By), Mine: v.By == a.ID}
				return (v.Shared || v.By == a.ID) && h.Sight(a).View(v.View) && access.May(a, access.Audit, access.Anything) == nil
			},
			beside: true},
	}
}

// mayChange asks whether an actor may change what is of a device, or add something to it.
func (h *Hub) mayChange(a access.Actor, before any, device string, object func(any) access.Object) error {
	if before != nil {
		return access.May(a, access.Configure, object(before))
	}
	return access.May(a, access.Configure, h.deviceObject(h.site.Devices[device]))
}

func (h *Hub) audits(a access.Actor) bool { return access.May(a, access.Audit, access.Anything) == nil }

// may asks whether an actor may keep or remove a part.
func (h *Hub) may(a access.Actor, k *site.Kind, before, part any) error {
	if f := h.doors[k.Name].may; f != nil {
		return f(a, before, part)
	}
	return access.May(a, access.Configure, access.Anything)
}

// refers refuses a part that newly names what is not there.
func (h *Hub) refers(before, part any) error {
	reads := func(string) []string { return nil } // formulas say themselves what is wrong with them
	had := map[site.Key]bool{}
	if before != nil {
		h.site.Mentions(before, reads, func(m site.Mention) { had[m.Of] = true })
	}
	var err error
	h.site.Mentions(part, reads, func(m site.Mention) {
		of := m.Of
		if err != nil || m.Bond == site.Loose || had[of] || of.Kind == site.Member || of.Kind == site.Thing &&
			h.site.Has(strings.TrimSuffix(of.ID, ".")) || of.ID == "hub" {
			return
		}
		if k := site.KindOf(of.Kind); k == nil || k.Get(h.site, of.ID) == nil {
			err = fault.Invalid(site.KeyOf(part).Kind, "there is no %s %q; add it first", of.Kind, site.Clip(of.ID, 60))
		}
	})
	return err
}

func (h *Hub) nextPosition() (n int) {
	for _, p := range h.site.Places {
		n = max(n, p.Position+1)
	}
	return n
}

// settingSaved begins the history of a new setting with the value that it has at first, and tells who has a copy of it.
func (h *Hub) settingSaved(before, part any) {
	g := part.(site.Setting)
	if s, ok := h.engine.Setting(g.ID); ok && before == nil {
		h.settingKept(h.now(), g, s.Value)
	}
	h.live.Publish("setting", h.settingView(g), h.settingObject(g))
	device, _ := site.Split(g.ID)
	for _, m := range h.engine.Mirrors(device) {
		if m.Setting == g.ID {
			h.later(func(error) { h.boxes.each(device, func(b *Mailbox) { b.put(func(b *mailbox.Box) { b.Mirror(m) }) }) })
		}
	}
}
