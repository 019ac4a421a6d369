package engine

import (
	"strings"

	"idleember/core/site"
	"idleember/core/words"
)

// Aloud reads the automation of a control aloud, a line for each thing that it says.
func Aloud(s *site.Site, a *site.Automation) (lines []words.Fact) {
	c, ok := s.Controls[a.Control]
	if !ok {
		return nil
	}
	add := func(f words.Fact) { lines = append(lines, f) }
	for i, d := range a.Demands {
		add(demandAloud(s, &c, d, i == 0))
	}
	if len(a.Permits) > 0 {
		var all words.Row
		for _, p := range a.Permits {
			when := conditionAloud(p.Condition)
			if p.Name != "" {
				when = words.Of("auto.named", "Name", p.Name, "When", when)
			}
			all = append(all, when)
		}
		add(words.Of("auto.permits", "All", all))
	}
	for _, l := range a.Interlocks {
		f := words.Of("auto.forced_safe", "Name", l.Name, "When", conditionAloud(l.Condition))
		if l.To != nil && *l.To > 0 {
			f.Code = "auto.forced_on"
		}
		if l.Latch {
			f = words.Of("auto.latches", "What", f)
		}
		add(f)
	}
	m := a.Limits
	if m.LongestOnMS > 0 {
		add(words.Of("auto.longest", "Longest", site.Millis(m.LongestOnMS), "Rest", m.Rest()))
	}
	if m.ShortestOnMS > 0 {
		add(words.Of("auto.shortest_on", "For", site.Millis(m.ShortestOnMS)))
	}
	if m.ShortestOffMS > 0 {
		add(words.Of("auto.shortest_off", "For", site.Millis(m.ShortestOffMS)))
	}
	if p := a.Proof; p != nil {
		add(words.Of("auto.proof", "When", p.When, "Within", site.Millis(p.WithinMS)))
	}
	if t := a.Travel; t != nil {
		if t.Pulses != "" {
			add(words.Of("auto.pulses", "Name", called(s, t.Pulses)))
		} else {
			add(words.Of("auto.travels", "Opens", called(s, t.Opens), "Closes", called(s, t.Closes), "Time",
				site.Millis(t.TravelMS)))
		}
	}
	return lines
}

// demandAloud is when a demand asks, and what for.
func demandAloud(s *site.Site, c *site.Control, d site.Demand, first bool) words.Fact {
	when := words.Of("when.strange", "Kind", string(d.Kind))
	if k := kindOf(d.Kind); k != nil {
		when = k.aloud(s, d)
	}
	f := words.Of("auto.or", "When", when)
	if first {
		f.Code = "auto.on_" + string(c.What())
	}
	if d.To != nil {
		f = words.Of(f.Code+"_at", "To", c.Told(*d.To), "When", when)
		if first && c.What() == site.Switch {
			f.Code = "auto.on_switch"
		}
	}
	if d.Floor {
		f = words.Of("auto.floor", "What", f)
	}
	return f
}

func conditionAloud(c site.Condition) words.Fact {
	f := words.Said(c.When)
	if c.AfterMS > 0 {
		f = words.Of("when.for", "When", f, "For", site.Millis(c.AfterMS))
	}
	if c.Until != "" {
		f = words.Of("when.until", "When", f, "Until", c.Until)
	}
	return f
}

// called is the name of what a formula names, with its place, where it names one thing; else the formula.
func called(s *site.Site, formula string) string {
	id := strings.TrimSpace(formula)
	name, device := "", ""
	if g, ok := s.Signals[id]; ok {
		name, device = g.Name, g.Device
	} else if c, ok := s.Controls[id]; ok {
		name, device = c.Name, c.Device
	} else if g, ok := s.Settings[id]; ok {
		return strings.ToLower(g.Name)
	} else {
		return formula
	}
	p, ok := s.Place(s.Devices[device].Place)
	if first, _, _ := strings.Cut(strings.ToLower(p.Name), " "); !ok || strings.HasPrefix(strings.ToLower(name), first) {
		return name
	}
	return p.Name + ": " + strings.ToLower(name)
}

// RuleAloud reads a rule aloud, a line for each of its stages.
func RuleAloud(s *site.Site, r *site.Rule) (lines []words.Fact) {
	for i, g := range r.Stages {
		when := words.Said(g.When)
		if g.AfterMS > 0 {
			when = words.Of("when.for", "When", when, "For", site.Millis(g.AfterMS))
		}
		if g.If != "" {
			when = words.Of("act.if", "When", when, "If", g.If)
		}
		f := words.Of("act.when", "When", when, "Acts", ActionsAloud(s, g.Actions))
		if i > 0 {
			f.Code = "act.then"
			within := longestStage
			if g.WithinMS > 0 {
				within = site.Millis(g.WithinMS)
			}
			again := words.Of("act.again", "What", f, "Within", within)
			if g.Until != "" {
				again = words.Of("act.again_until", "What", f, "Until", g.Until, "Within", within)
			}
			f = again
		}
		lines = append(lines, f)
	}
	if r.RestMS > 0 {
		lines = append(lines, words.Of("act.rest", "For", site.Millis(r.RestMS)))
	}
	return lines
}

// ActionsAloud reads aloud what a rule or a preset does.
func ActionsAloud(s *site.Site, actions []site.Action) words.Row {
	row := make(words.Row, len(actions))
	for i, a := range actions {
		row[i] = actionAloud(s, a)
	}
	return row
}

func actionAloud(s *site.Site, a site.Action) words.Fact {
	name := a.ID
	c, known := s.Controls[a.ID]
	if known {
		name = c.Name
	}
	switch a.Kind {
	case site.DoControl:
		to := words.Amount(words.Quantity{Num: float64(a.To), Decimals: -1})
		if known {
			to = c.Told(a.To)
		}
		f := words.Of("act.control", "Name", name, "To", to)
		if a.ForMS > 0 {
			f = words.Of("act.for", "What", f, "For", site.Millis(a.ForMS))
		}
		return f
	case site.DoAuto:
		return words.Of("act.auto", "Name", name)
	case site.DoPulse:
		return words.Of("act.pulse", "Name", name)
	case site.DoSetting:
		return words.Of("act.setting", "Name", called(s, a.ID), "To", told(s.Settings[a.ID], a.To))
	case site.DoPreset:
		if p, ok := s.Presets[a.ID]; ok {
			name = p.Name
		}
		return words.Of("act.preset", "Name", name)
	case site.DoMessage:
		return words.Of("act.message", "Text", a.Text)
	}
	return words.Of("act.note", "Text", a.Text)
}

// GroupAloud reads a group aloud.
func GroupAloud(s *site.Site, g *site.Group) words.Fact {
	var all words.Row
	for _, m := range g.Members {
		name := m.Control
		if c, ok := s.Controls[m.Control]; ok {
			name = c.Name
		}
		f := words.Said(name)
		if !g.Exclusive() && m.Watts > 0 {
			f = words.Of("act.watts", "Name", name, "Watts", watts(m.Watts))
		}
		all = append(all, f)
	}
	if g.Exclusive() {
		return words.Of("act.singly", "All", all)
	}
	return words.Of("act.together", "Limit", watts(g.Limit), "All", all)
}

func watts(n float64) words.Quantity { return words.Quantity{Num: n, Unit: "W", Decimals: -1} }
