package engine

import (
	"maps"
	"slices"
	"strings"

	"idleember/core/formula"
	"idleember/core/site"
)

// edge says that what is wanted of one thing follows what is wanted of another.
type edge struct {
	to   string
	sign formula.Sign
}

// Ring returns the ids of controls and settings of which each follows the one before and the first follows the last,
// without a reading between them, in such a way that it cannot come to rest: an odd number of them goes against the one
// before. It begins with of; nil: there is none. Controls that support each other, as mutual permits do, come to rest
// and are none.
//
// An unstable ring is a cycle of negative sign in the signed graph of influences (R. Thomas, On the relation between
// the logical structure of systems and their ability to generate multiple steady states or sustained oscillations,
// 1981).
func Ring(s *site.Site, of string) []string {
	edges := influences(s)
	type state struct {
		id      string
		against bool
	}
	from := map[state]state{}
	first := state{of, false}
	queue := []state{first}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, e := range edges[at.id] {
			for _, sign := range []formula.Sign{formula.With, formula.Against} {
				if e.sign&sign == 0 {
					continue
				}
				next := state{e.to, at.against != (sign == formula.Against)}
				if _, seen := from[next]; seen || next == first {
					continue
				}
				from[next] = at
				if next.id == of { // back, and against itself
					ring := []string{}
					for x := at; ; x = from[x] {
						ring = append(ring, x.id)
						if x == first {
							slices.Reverse(ring)
							return ring
						}
					}
				}
				queue = append(queue, next)
			}
		}
	}
	return nil
}

// influences are the edges from what is wanted of a control, and from settings, to what follows that at once. Long,
// because it is one case for each kind.
func influences(s *site.Site) map[string][]edge {
	edges := map[string][]edge{}
	add := func(text, to string, sign formula.Sign) {
		for _, id := range slices.Sorted(maps.Keys(formula.Signs(text))) {
			with := formula.Signs(text)[id]
			base := id
			if _, ok := s.Settings[id]; !ok {
				at := strings.LastIndexByte(id, '.')
				if strings.Count(id, ".") != 2 || !slices.Contains([]string{"want", "phase", "limit"}, id[at+1:]) {
					continue // a signal, or what a device says
				}
				base = id[:at]
				if id[at+1:] != "want" {
					with = formula.Either
				}
			}
			edges[base] = append(edges[base], edge{to, with.Then(sign)})
		}
	}
	condition := func(c site.Condition, to string, sign formula.Sign) {
		add(c.When, to, sign)
		add(c.Until, to, sign.Flip())
	}
	for _, id := range sorted(s.Automations) {
		a, c := s.Automations[id], s.Controls[id]
		towards := func(to site.Amount) formula.Sign {
			switch {
			case c.Words() != nil:
				return formula.Either
			case to == 0:
				return formula.Against
			}
			return formula.With
		}
		for _, d := range a.Demands {
			to := c.Full()
			if d.To != nil {
				to = *d.To
			}
			if k, ok := kindOf(d.Kind).(conditioned); ok {
				condition(k.condition(d), id, towards(to))
			} else {
				for _, text := range []string{d.Of, d.Target, d.Daylight, d.Hours} {
					add(text, id, formula.Either)
				}
			}
		}
		for _, p := range a.Permits {
			condition(p.Condition, id, formula.With)
		}
		for _, l := range a.Interlocks {
			to := c.Safe
			if l.To != nil {
				to = *l.To
			}
			condition(l.Condition, id, towards(to))
		}
		if t := a.Travel; t != nil {
			edges[id] = append(edges[id], edge{t.Opens, formula.With}, edge{t.Closes, formula.Against})
		}
	}
	for _, id := range sorted(s.Rules) {
		if s.Rules[id].Off {
			continue
		}
		for _, g := range s.Rules[id].Stages {
			for _, x := range g.Actions {
				sign := formula.Either
				of := s.Controls[x.ID]
				switch {
				case x.Kind == site.DoControl && of.Words() == nil && x.To == 0:
					sign = formula.Against
				case x.Kind == site.DoControl && of.Words() == nil:
					sign = formula.With
				case x.Kind != site.DoSetting && x.Kind != site.DoControl:
					continue
				}
				add(g.When, x.ID, sign)
			}
		}
	}
	return edges
}
