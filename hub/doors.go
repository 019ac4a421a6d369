package hub

import (
	"fmt"
	"slices"
	"strings"

	"idleember/core/access"
	"idleember/core/mailbox"
	"idleember/core/site"
)

// door is what the hub itself asks before a part of a kind is kept or removed, beyond what the catalogue says of it, and what it
// does after. before is what is there, or nil; e.part may be completed.
type door struct {
	may   func(a access.Actor, before, part any) error // nil: whoever may configure
	check func(a access.Actor, before any, e *edit) error
	after func(before, part any)
	gone  func(id string)
	said  func(part any) string // how the journal tells of a change; nil: by the fields that differ
	// show completes what an actor is told of a part, and reports whether they may see it; nil: whoever may configure.
	show   func(a access.Actor, part any, out *Shown) bool
	beside bool // show needs nothing that is the loop's
}

func (h *Hub) theDoors() map[string]door {
	return map[string]door{
		"hub": {check: func(_ access.Actor, _ any, e *edit) error { return checkHub(e.part.(site.Hub)) }},
		"place": {check: func(_ access.Actor, before any, e *edit) error {
			p := e.part.(site.Place)
			if before == nil {
				for _, x := range h.site.Places {
					if strings.EqualFold(x.Name, p.Name) {
						return &ExistsError{"place", x.ID, x.Name}
					}
				}
				p.Position = h.nextPosition()
			} else if p.Position == 0 { // as it was
				p.Position = before.(site.Place).Position
			}
			e.part = p
			return nil
		}, said: placeText, show: func(a access.Actor, part any, _ *Shown) bool {
			return access.May(a, access.Look, access.Anything) == nil && h.sightOf(h.site, a).place(part.(site.Place).ID)
		}},
		"broker": {check: func(_ access.Actor, _ any, e *edit) error {
			b := e.part.(site.Broker)
			if b.ClientID == "" {
				b.ClientID = "idleember-" + secret(4)
			}
			e.part = b
			return nil
		}, gone: func(id string) { delete(h.brokers, id) }},
		"device": {
			may: func(a access.Actor, before, part any) error {
				if before == nil {
					return access.May(a, access.Configure, access.Anything)
				}
				return access.May(a, access.Configure, h.deviceObject(before.(site.Device)))
			},
			check: func(a access.Actor, before any, e *edit) error {
				d := e.part.(site.Device)
				if had, ok := before.(site.Device); ok {
					d.Created = had.Created
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
				delete(h.traffic, id)
				h.meters.drop(id)
			}},
		"signal": {
			may: func(a access.Actor, _, part any) error {
				return access.May(a, access.Configure, h.signalObject(part.(site.Signal)))
			},
			check: func(_ access.Actor, _ any, e *edit) error {
				s := e.part.(site.Signal)
				s.New = false // whoever edits it has looked at it
				e.part = s
				return checkSignal(s)
			}},
		"control": {
			may: func(a access.Actor, _, part any) error {
				return access.May(a, access.Configure, h.controlObject(part.(site.Control)))
			},
			after: func(_, part any) { h.publishControl(part.(site.Control).ID) }},
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
			after: func(_, part any) {
				h.publishControl(part.(*site.Automation).Control)
				h.publishSettings()
			}},
		"setting": {after: h.settingSaved, show: func(a access.Actor, part any, out *Shown) bool {
			g := part.(site.Setting)
			out.State = h.settingView(g).State
			return access.May(a, access.Look, h.settingObject(g)) == nil
		}},
		"preset": {show: func(a access.Actor, part any, _ *Shown) bool { return mayApply(h.site, a, part.(site.Preset)) }},
		"rule": {show: func(a access.Actor, part any, out *Shown) bool {
			r := part.(*site.Rule)
			state, _ := h.engine.Rule(r.ID)
			out.State = state
			return h.audits(a) && h.sightOf(h.site, a).rule(r)
		}},
		"group": {show: func(a access.Actor, part any, _ *Shown) bool {
			return h.audits(a) && h.sightOf(h.site, a).group(part.(*site.Group))
		}},
		"alert": {after: func(_, _ any) { h.lookAgain() }},
		"route": {after: func(_, _ any) { h.tryAgain() }, show: func(a access.Actor, part any, _ *Shown) bool {
			return h.audits(a) && h.sightOf(h.site, a).route(part.(site.Route).ID)
		}},
		"messaging": {
			check: func(_ access.Actor, _ any, e *edit) error { return checkWordings(h.site, e.part.(site.Messaging).Say) },
			after: func(before, part any) {
				if m := part.(site.Messaging); m.Digest != before.(site.Messaging).Digest {
					h.write(markDigest(h.Time(), m.Digest))
				}
				h.tryAgain()
			}},
		"backups": {check: h.checkBackups},
		"rights": {
			may: func(a access.Actor, _, _ any) error { return access.May(a, access.Household, access.Anything) },
			check: func(_ access.Actor, _ any, e *edit) error {
				if err := h.site.CheckRights(e.part.(site.Rights).Lines, h.isMember); err != nil {
					return &InvalidError{"lines", err.Error()}
				}
				return nil
			}},
		"model": {check: func(_ access.Actor, _ any, e *edit) error { return h.checkModel(e.part.(site.Model)) }},
		"dashboard": {
			may: func(a access.Actor, before, _ any) error {
				if err := access.May(a, access.Tend, access.Anything); err != nil {
					return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "dashboards"}}
				}
				had, ok := before.(site.Dashboard)
				switch {
				case ok && !mayOpen(a, had):
					return &InvalidError{"id", "there is already a dashboard with the id " + had.ID + "; choose another"}
				case ok && !mayArrange(a, had):
					return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "the dashboard " + had.Name}}
				}
				return nil
			},
			check: h.checkDashboard,
			after: func(_, part any) { h.boardChanged(part.(site.Dashboard).ID) },
			gone:  h.boardChanged,
			show: func(a access.Actor, part any, out *Shown) bool {
				d := part.(site.Dashboard)
				if !mayOpen(a, d) || access.May(a, access.Look, access.Anything) != nil {
					return false
				}
				v := h.dashboardView(a, d)
				out.Config, out.State = v.Config, v.State
				return true
			},
			beside: true,
			said:   boardText},
	}
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
		if err != nil || m.Bond == site.Loose || had[of] || of.Kind == site.Member || of.Kind == site.Thing && h.site.Has(strings.TrimSuffix(of.ID, ".")) || of.ID == "hub" {
			return
		}
		if k := site.KindOf(of.Kind); k == nil || k.Get(h.site, of.ID) == nil {
			err = &InvalidError{site.KeyOf(part).Kind, fmt.Sprintf("there is no %s %q; add it first", of.Kind, clip(of.ID, 60))}
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
	h.live.publish("setting", h.settingView(g), h.settingObject(g))
	device, _ := site.Split(g.ID)
	for _, m := range h.engine.Mirrors(device) {
		if m.Setting == g.ID {
			h.later(func(error) { h.boxes.each(device, func(b *Mailbox) { b.put(func(b *mailbox.Box) { b.Mirror(m) }) }) })
		}
	}
}
