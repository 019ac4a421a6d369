package hub

import (
	"context"
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
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

func seriesKind(c site.Control) site.ValueKind {
	switch c.What() {
	case site.Switch:
		return site.OnOff
	case site.Level:
		return site.Number
	}
	return site.Text
}

// linksOf returns the settings that the demands of a control aim at, and the mover whose output it is.
func (h *Hub) linksOf(id string) (settings []string, movedBy string) {
	settings = h.site.AimedAt(id)
	for mover, a := range h.site.Automations {
		if t := a.Travel; t != nil && slices.Contains([]string{t.Opens, t.Closes, t.Pulses}, id) {
			movedBy = mover
		}
	}
	return settings, movedBy
}

// Why explains a control.
func (h *Hub) Why(ctx context.Context, a access.Actor, id string) (engine.Why, error) {
	var why engine.Why
	err := h.ask(ctx, func() error {
		if _, err := h.control(a, access.Look, id); err != nil {
			return err
		}
		if why, _ = h.engine.Why(h.now(), id); !h.sightOf(h.site, a).decided(id) {
			why = engine.Why{Reason: closedWords}
		}
		return nil
	})
	return why, err
}

// Next returns what will run until a time, soonest first.
func (h *Hub) Next(ctx context.Context, a access.Actor, until time.Time) ([]engine.Upcoming, error) {
	list := []engine.Upcoming{}
	err := h.ask(ctx, func() error {
		now := h.Time()
		for _, u := range h.engine.Next(now, earlier(until, now.Add(32*24*time.Hour))) {
			if c, ok := h.site.Controls[u.ID]; ok && access.May(a, access.Look, h.controlObject(c)) == nil && h.sightOf(h.site, a).decided(u.ID) {
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

// AutomationView is the automation of a control, empty where it has none.
type AutomationView struct {
	Version string          `json:"version"`
	Config  site.Automation `json:"config"`
}

// Automation returns what the hub decides of a control.
func (h *Hub) Automation(ctx context.Context, a access.Actor, id string) (AutomationView, error) {
	var view AutomationView
	err := h.ask(ctx, func() error {
		c, err := h.control(a, access.Look, id)
		if err != nil {
			return err
		}
		if !h.sightOf(h.site, a).decided(id) {
			return &access.Denied{Actor: a, Action: access.Look, Object: access.Object{Name: "what decides " + c.Name}}
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
		ring, err := h.checkRing(id, &next)
		if err != nil {
			return err
		}
		if _, err := h.keep(a, edit{part: &next}); err != nil {
			return err
		}
		remarks = append(append(ring, h.warnings(c, &next)...), h.silentInterlocks(&next)...)
		view = h.automationView(id)
		if before.HasAuto() && !next.HasAuto() {
			remarks = append(remarks, c.Name+" is brought to its safe value, "+c.Say(c.Safe)+", and stays there until somebody wants something else")
		}
		return nil
	})
	return view, remarks, err
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
