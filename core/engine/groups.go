package engine

import (
	"slices"
	"time"

	"idleember/core/control"
	"idleember/core/site"
)

// group is a number of controls that exclude each other or share a power budget.
type group struct {
	cfg     *site.Group
	members []*controlled
	watts   []float64
	started time.Duration // when one of them last went on
	ever    bool
}

func (e *Engine) buildGroup(cfg *site.Group) {
	g := &group{cfg: cfg}
	g.started, g.ever = e.started[cfg.ID]
	for _, m := range cfg.Members {
		if x := e.controls[m.Control]; x != nil {
			g.members = append(g.members, x)
			g.watts = append(g.watts, m.Watts)
			x.groups = append(x.groups, g)
		}
	}
}

// shared lets the other members of a control's groups be looked at again, because it went on or off.
func (e *Engine) shared(x *controlled) {
	for _, g := range x.groups {
		for _, o := range g.members {
			if o != x {
				e.mark(o)
			}
		}
	}
}

// ranks says how strong a decision is among the members of a group.
var ranks = map[control.Step]int{control.Interlocked: 3, control.ByHand: 2, control.Protected: 2}

func (x *controlled) rankOf(d *control.Decision) int {
	if d.Limit == control.Chatters && x.doing.forced { // it is held at what an interlock forced
		return ranks[control.Interlocked]
	}
	return ranks[d.Step]
}

// share keeps a control off where a group does not let it be on now. Long, because it is one decision in its order,
// and each case names the next.
func (e *Engine) share(x *controlled, d *control.Decision) {
	last := x.blocked
	x.blocked = ""
	if len(x.groups) == 0 {
		return
	}
	desires, rank := d.Has && d.Value > 0, x.rankOf(d)
	if desires != x.desires || rank != x.rank {
		x.desires, x.rank = desires, rank
		e.shared(x)
	}
	if !d.Has && x.Is != nil && *x.Is > 0 && x.Service == control.InService {
		e.exclude(x, d)
	}
	if !desires {
		return
	}
	for _, g := range x.groups { // those that the same input made want something come in the owner's order
		for _, o := range g.members {
			if o != x && o.marked {
				own, _ := e.consider(o)
				o.desires, o.rank = own.Has && own.Value > 0, o.rankOf(&own)
			}
		}
	}
	for _, g := range x.groups {
		if o, next := g.blocks(e, x); o != nil {
			d.Keep(0, control.Shared)
			if x.rank == 3 && o.rank == 3 && o.desires && g.cfg.Exclusive() {
				d.Limit = control.Overruled
			}
			x.blocked = o.ID
			if next > 0 && (d.Next == 0 || next < d.Next) {
				d.Next = next
			}
			return
		}
	}
	// One that chatters, and that its group switched off, is not on again at once: what fights over it would not come to
	// rest.
	if end := x.offSince + fightFor; e.held(x) && x.Want != nil && *x.Want == 0 && x.ran && e.now.Mono < end &&
		(x.dec.Limit == control.Shared || x.dec.Limit == control.Overruled) {
		x.blocked = last
		d.Keep(0, x.dec.Limit)
		d.Next = sooner(d.Next, end)
	}
}

// exclude tells a control to be off that its board has on without anybody wanting it, where another one is to be on.
func (e *Engine) exclude(x *controlled, d *control.Decision) {
	for _, g := range x.groups {
		for _, o := range g.members {
			if g.cfg.Exclusive() && o != x && (o.desires || o.Want != nil && *o.Want > 0) {
				d.Has, d.Step, d.Value, d.Limit, x.blocked = true, control.Idle, 0, control.Shared, o.ID
				return
			}
		}
	}
}

// running reports whether a control draws power, or may do so for all that the hub knows.
func (x *controlled) running() bool {
	return x.Want != nil && *x.Want > 0 || x.Is != nil && *x.Is > 0 || x.MayRun
}

// before reports whether a member comes before another one: by the strength of its decision, then where one runs
// already, then in the owner's order.
func (g *group) before(a, b *controlled) bool {
	if a.rank != b.rank {
		return a.rank > b.rank
	}
	if g.cfg.Exclusive() && a.rank < ranks[control.Interlocked] { // of two that are forced on the owner's order wins
		ra, rb := a.Want != nil && *a.Want > 0, b.Want != nil && *b.Want > 0
		if ra != rb {
			return ra
		}
	}
	return slices.Index(g.members, a) < slices.Index(g.members, b)
}

// blocks returns a member because of which x must not be on now, and when to look again, 0: when something changes.
// Long, because it is one decision in its order, and each case names the next.
func (g *group) blocks(e *Engine, x *controlled) (o *controlled, next time.Duration) {
	pause := site.Millis(g.cfg.PauseMS)
	on := x.Want != nil && *x.Want > 0
	if g.cfg.Exclusive() {
		for _, o := range g.members {
			if o == x {
				continue
			}
			// somebody repairs it, and the hub cannot end that
			beyond := o.Service == control.OutSilent && o.Is != nil && *o.Is > 0
			if o.desires && g.before(o, x) || !on && o.running() || beyond {
				return o, 0
			}
			if end := o.offSince + pause; !on && o.Want != nil && o.ran && e.now.Mono < end {
				return o, end
			}
		}
		return nil, 0
	}
	used, drawn := 0.0, 0.0
	var last *controlled
	for i, o := range g.members {
		switch {
		case o == x:
			used += g.watts[i]
			drawn += g.watts[i]
			continue
		case o.desires && g.before(o, x):
			used += g.watts[i]
			last = o
		}
		if o.running() {
			drawn += g.watts[i]
			if last == nil {
				last = o
			}
		}
	}
	switch {
	case x.rank == 3: // an interlock that forces on takes what it needs; the others give way
		return nil, 0
	case used > g.cfg.Limit:
		return last, 0
	case on:
		return nil, 0
	case drawn > g.cfg.Limit:
		return last, 0
	}
	if end := g.started + pause; g.ever && pause > 0 && e.now.Mono < end {
		for _, o := range g.members {
			if o != x && o.running() {
				return o, end
			}
		}
	}
	return nil, 0
}

// begin notes that a member went on.
func (e *Engine) begin(x *controlled) {
	for _, g := range x.groups {
		g.started, g.ever = e.now.Mono, true
		e.started[g.cfg.ID] = e.now.Mono
	}
}
