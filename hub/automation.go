package hub

import (
	"context"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/sight"
)

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
func (h *Hub) Why(ctx context.Context, a access.Actor, id string) (shown.Why, error) {
	var why shown.Why
	err := h.ask(ctx, func() error {
		if _, err := h.control(a, access.Look, id); err != nil {
			return err
		}
		w, _ := h.engine.Why(h.now(), id)
		if !h.glass.As(h.site, a).Decided(id) {
			w = engine.Why{Reason: sight.Closed}
		}
		why = shown.WhyOf(w)
		return nil
	})
	return why, err
}

// Next returns what will run until a time, soonest first.
func (h *Hub) Next(ctx context.Context, a access.Actor, until time.Time) ([]shown.Upcoming, error) {
	list := []shown.Upcoming{}
	err := h.ask(ctx, func() error {
		now := h.Time()
		for _, u := range h.engine.Next(now, earlier(until, now.Add(32*24*time.Hour))) {
			if c, ok := h.site.Controls[u.ID]; ok && access.May(a, access.Look, h.controlObject(c)) == nil && h.glass.As(h.site,
				a).Decided(u.ID) {
				list = append(list, upcoming(u))
			} else if g, ok := h.site.Settings[u.ID]; ok && access.May(a, access.Look, h.settingObject(g)) == nil {
				list = append(list, upcoming(u))
			}
		}
		slices.SortStableFunc(list, func(a, b shown.Upcoming) int { return a.At.Compare(b.At) })
		return nil
	})
	return list, err
}

func upcoming(u engine.Upcoming) shown.Upcoming {
	return shown.Upcoming{At: u.At, ID: u.ID, What: words.TextOf(u.What), Ends: u.Ends}
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// automationOf is the automation of a control, empty where it has none, nil where there is no control.
func automationOf(s *site.Site, id string) any {
	if a := s.Automations[id]; a != nil {
		return a
	}
	if _, ok := s.Controls[id]; ok {
		return &site.Automation{Control: id}
	}
	return nil
}

// checkAutomation says what is wrong with the automation of a control.
func (h *Hub) checkAutomation(c site.Control, next *site.Automation) error {
	if err := engine.CheckAutomation(h.site, c, next); err != nil {
		return fault.Invalid("automation", "%v", err)
	}
	if _, by := h.linksOf(c.ID); by != "" && len(next.Demands) > 0 {
		return fault.Invalid("demands", "%s is moved by %s; only that can have demands", c.Name, h.site.Controls[by].Name)
	}
	return engine.CheckFormulas(h.site, next.Formulas)
}

// TryAutomation says what a control would be by an automation that is not in force (nil: by its own), with values in
// the place of those that are, at a time (zero: now). Nothing changes.
func (h *Hub) TryAutomation(ctx context.Context, a access.Actor, id string, draft *site.Automation,
	values map[string]reading.Value, at time.Time) (shown.Tried, error) {
	var out shown.Tried
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
		tried, _ := h.engine.Try(now, s, id, values)
		out = shown.Tried{Want: words.TextOf(tried.Want), Why: shown.WhyOf(tried.Why), Uses: map[string]words.Text{}}
		for key, value := range tried.Uses {
			out.Uses[key] = words.TextOf(value)
		}
		return nil
	})
	return out, err
}

// tellReasons tells those who look on of reasons whose numbers have changed.
func (h *Hub) tellReasons() {
	for id := range h.site.Automations {
		s, ok := h.engine.Control(id)
		if ok && !h.engine.Reason(h.now(), id).Equal(s.Reason) {
			h.publishControl(id)
		}
	}
}

// amountOf is the reverse of ValueOf. It also takes words such as "on" and "40 %".
func amountOf(c site.Control, v reading.Value) (site.Amount, error) {
	a, err := c.AmountOf(v.String())
	if err == nil {
		err = c.Check(a)
	}
	if err != nil {
		return 0, fault.Invalid("to", "%v", err)
	}
	return a, nil
}
