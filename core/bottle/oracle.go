package bottle

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// The oracle is written from what the house promises, not from how the engine keeps it. It hears what arrives at the
// hub, knows what the outputs physically are, and thinks in sets: where it cannot be sure of a value or of the instant
// at which something counts as unknown, it allows both.

// How much later than an instant something may come.
const (
	delivery = 2 * time.Second  // a want on a healthy link, at an output that obeys
	doubtful = 2 * time.Second  // around the instant at which a signal becomes stale
	lookGap  = 30 * time.Second // between two looks at everything
	calm     = 20 * time.Second // how long a link must be well to count as such
)

type oracle struct {
	w        *world
	report   Report
	site     *site.Site
	signals  map[string]*seen
	there    []*seen // those that are part of the site
	conds    map[string]*cond
	users    map[string][]*cond // by what they name
	always   []*cond            // that also change with time
	watched  map[string]*watched
	order    []*watched
	dirty    []*cond
	hubSince time.Duration
	grace    time.Duration
	pulses   map[string]int
	looks    int
	count    [len(rules)]int64 // how often each rule could be judged
	zone     *time.Location
	days     map[any][]calendar.Run // of schedules, by day
}

// seen is a signal as it must appear at the hub.
type seen struct {
	cfg     site.Signal
	board   *board
	value   formula.Value
	good    time.Duration // when the last good reading came
	ever    bool          // a good one came, in this life of the hub or kept from the one before
	session string        // of the device, that it last came through
	boot    time.Duration // of the hub
	every   time.Duration // the longest honest interval so far
	unsure  bool          // what came cannot be told: late or live
	vague   bool          // and it may be that or what was before
	class   set
	users   []*cond // what names it
}

func newOracle(w *world) *oracle {
	o := &oracle{w: w, days: map[any][]calendar.Run{}, signals: map[string]*seen{}, watched: map[string]*watched{},
		pulses: map[string]int{}}
	return o
}

func (o *oracle) fault(rule, of, format string, args ...any) {
	if len(o.report.Faults) < 5 && !slices.Contains(o.w.plan.Ignore, rule) {
		o.report.Faults = append(o.report.Faults, Fault{o.w.now, rule, of, fmt.Sprintf(format, args...)})
	}
}

// watched is what the oracle knows of a control.
type watched struct {
	id      string
	cfg     site.Control
	auto    *site.Automation
	out     *output
	door    string     // the door whose output it is
	motors  []*watched // of a door
	locks   []*lock
	permits []*tracker
	demands []*tracker // nil where it judges none
	tracks  []*tracker // both
	board   *board
	active  bool // its device takes part
	groups  []*site.Group

	hand       *site.Amount // what somebody wanted last, where nothing can have changed it since
	handAt     time.Duration
	commands   int
	changes    []time.Duration // of wants by the hub itself
	fluttered  time.Duration   // when those were last as many as may be within a minute
	was        site.Amount
	had        bool
	expects    string // what auto should come to
	expectFrom time.Duration
	locked     time.Duration // since when it is out of service; 0: it is in service
	pressed    time.Duration // when somebody last switched it at the board
	forcedAt   time.Duration // when an interlock last forced it
	limited    time.Duration // since when its limits are what they are
	leaves     bool          // it is being taken away
	lame       bool          // its output did not do what it was told, and nobody can know
	over       bool          // an interlock overruled a door: it stays until something new is wanted
	overWant   *site.Amount  // what auto came to then
	ill        time.Duration // when its output was last not as it should be
	runs       []run         // when it was physically on
}

type run struct{ from, to time.Duration }

// edited takes the site anew. What the oracle knew of interlocks that are still there stays. Long, because the oracle
// decides by itself, in one piece, so that it shares nothing with what it judges.
func (o *oracle) edited() {
	o.site = o.w.hub.site
	o.zone = o.site.Hub.Location()
	old := o.watched
	oldConds := o.conds
	o.conds, o.users, o.always, o.watched, o.dirty = map[string]*cond{}, map[string][]*cond{}, nil, map[string]*watched{},
		nil
	o.there = o.there[:0]
	for _, id := range sorted(o.site.Signals) {
		g := o.signals[id]
		if g == nil {
			g = &seen{every: o.w.plan.Every[id]}
			o.signals[id] = g
		}
		g.cfg = o.site.Signals[id]
		g.board = o.w.boards[g.cfg.Device]
		o.there = append(o.there, g)
	}
	names := engine.Names(o.site)
	for _, id := range sorted(o.site.Controls) {
		x := old[id]
		if x == nil {
			x = &watched{id: id, out: o.w.output(id)}
		}
		before := x.locks
		changed := x.auto != o.site.Automations[id]
		x.cfg, x.auto, x.locks, x.permits, x.demands, x.groups = o.site.Controls[id], o.site.Automations[id], nil, nil, nil,
			nil
		if changed {
			x.hand, x.expects, x.limited = nil, "", o.w.now
		}
		for door, t := range o.w.plan.Doors {
			if t.Opens == id || t.Closes == id || t.Pulses == id {
				x.door = door
			}
		}
		if x.auto != nil {
			for _, l := range x.auto.Interlocks {
				k := &lock{of: x, cfg: l, tracker: tracker{c: o.cond(l.Condition, names, oldConds), born: o.w.now}}
				for _, b := range before {
					switch {
					case b.cfg.ID != l.ID:
					case b.cfg.Condition == l.Condition && b.cfg.Latch == l.Latch:
						cfg, c := k.cfg, k.c
						*k = *b
						k.cfg, k.c = cfg, c
						if !b.wasPure { // what it named is gone: what that latched nobody judged
							k.may, k.mayTrue, k.mayLatch = true, true, l.Latch
						}
					default: // it holds until the new release is seen, and a latch stays one
						k.may, k.mayTrue, k.mayLatch, k.latched = b.may || b.hold, true, b.mayLatch && l.Latch, b.latched && l.Latch
					}
				}
				k.lock, k.wasPure = k, k.pure()
				k.c.users = append(k.c.users, &k.tracker)
				x.locks = append(x.locks, k)
			}
			for _, p := range x.auto.Permits {
				x.permits = append(x.permits, o.tracking(p.Condition, names, oldConds))
			}
			for i := range x.auto.Demands {
				x.demands = append(x.demands, o.demand(&x.auto.Demands[i], names, oldConds))
			}
		}
		x.tracks = nil
		for _, t := range slices.Concat(x.permits, x.demands) {
			if t != nil {
				door := o.w.plan.Doors[id]
				t.own = t.c != nil && slices.ContainsFunc([]string{id, door.Opens, door.Closes, door.Pulses},
					func(of string) bool { return of != "" && t.c.names(of) })
				x.tracks = append(x.tracks, t)
			}
		}
		x.board, x.active = o.w.boards[x.cfg.Device], o.site.Devices[x.cfg.Device].Active()
		for _, l := range x.locks {
			if !x.active {
				l.hold = false
				l.move(o)
			}
		}
		o.watched[id] = x
	}
	for _, g := range o.site.Groups {
		for _, m := range g.Members {
			if x := o.watched[m.Control]; x != nil {
				x.groups = append(x.groups, g)
			}
		}
	}
	o.order = nil
	for _, id := range sorted(o.watched) {
		o.order = append(o.order, o.watched[id])
	}
	for _, x := range o.order {
		door := o.w.plan.Doors[x.id]
		x.motors = x.motors[:0]
		for _, id := range []string{door.Opens, door.Closes, door.Pulses} {
			if m := o.watched[id]; m != nil {
				x.motors = append(x.motors, m)
			}
		}
	}
	for _, g := range o.there {
		g.users = o.users[g.cfg.ID]
	}
	for _, c := range o.conds {
		o.dirty = append(o.dirty, c)
		c.dirty = true
	}
}

// demand is what must be true for a demand; nil: the oracle judges none of this kind.
func (o *oracle) demand(d *site.Demand, names formula.Names, old map[string]*cond) *tracker {
	switch d.Kind {
	case engine.HoldAbove, engine.HoldBelow:
		return o.tracking(hold(d), names, old)
	case engine.Whenever:
		return o.tracking(d.Condition, names, old)
	case engine.Scheduled:
		return &tracker{schedule: d.Schedule}
	}
	return nil
}

// hold is the condition of holding a quantity: on a dead band away from the setpoint, off at it.
func hold(d *site.Demand) site.Condition {
	c := site.Condition{AfterMS: d.AfterMS, SettleMS: d.SettleMS}
	if d.Kind == engine.HoldAbove {
		c.When, c.Until = fmt.Sprintf("%s < (%s) - %g", d.Of, d.Target, d.Band), fmt.Sprintf("%s >= (%s)", d.Of, d.Target)
	} else {
		c.When, c.Until = fmt.Sprintf("%s > (%s) + %g", d.Of, d.Target, d.Band), fmt.Sprintf("%s <= (%s)", d.Of, d.Target)
	}
	return c
}

// starts is a hub that comes up.
func (o *oracle) starts() {
	o.hubSince = o.w.now
	o.grace = o.w.now + 5*time.Minute + 30*time.Second
	for _, c := range o.conds { // nobody looked meanwhile
		c.flashed(o.w.now)
	}
	o.edited()
	for _, x := range o.watched {
		x.hand = nil
		x.had = false
		x.changes = nil
		for _, t := range x.tracks {
			t.must = 0
		}
	}
	for _, s := range o.signals {
		if !s.ever {
			s.value = formula.Unknown
		}
	}
}

// killed is a hub that goes away: what it learnt in the last moment may be lost.
func (o *oracle) killed() {
	for _, x := range o.watched {
		for _, l := range x.locks {
			if l.hold && o.w.now-l.since < 3*time.Second {
				l.hold, l.may, l.latched = false, true, false
			}
		}
	}
	for _, s := range o.signals {
		if o.w.now-s.good < 3*time.Second {
			s.unsure, s.vague = true, true
		}
	}
	for _, c := range o.conds { // what the last reading ended may go on, for a hub that never kept it
		if c.lostAt > 0 && o.w.now-c.lostAt < 3*time.Second {
			c.mayFalse, c.endMay, c.weighed = c.lost[0], c.lost[1], false
		}
	}
}

// arrives is a reading that the hub hears.
func (o *oracle) arrives(s *sensor, v float64, stamp time.Time) {
	g := s.seen
	if g == nil {
		return
	}
	if !stamp.IsZero() && o.w.hub.wall().Sub(stamp) > 3*time.Minute {
		return // of the past
	}
	if _, c := o.look1(g); c != g.class { // it may have been missed until now
		g.class = c
		for _, u := range g.users {
			o.weigh(u)
		}
	}
	if sense := &g.cfg.Sense; sense.Highest != nil && (v > *sense.Highest || v < *sense.Lowest) {
		return // bad; the last good one counts until it is too old
	}
	if !stamp.IsZero() {
		g.unsure, g.vague = true, true
	} else {
		g.value, g.unsure, g.vague = valueOf(s.reading(v)), false, false
	}
	g.good, g.ever, g.session, g.boot = o.w.now, true, s.b.link.session, o.w.hub.booted
	_, g.class = o.look1(g)
	for _, c := range g.users {
		o.soil(c)
	}
}

func (o *oracle) soil(c *cond) {
	if !c.dirty {
		c.dirty = true
		o.dirty = append(o.dirty, c)
	}
}

// applied hears the effects of an input before they are let out. Long, because the oracle decides by itself, in one
// piece, so that it shares nothing with what it judges.
func (o *oracle) applied(in engine.Input, effects []engine.Effect) {
	o.report.Effects = max(o.report.Effects, len(effects))
	changedSite := false
	switch in.(type) {
	case engine.SiteChanged, engine.Restored:
		changedSite = true
		for _, b := range o.w.boards {
			b.online = o.w.hub.engine.Online(b.id)
		}
	case engine.ClockSet: // what goes by the time of day may have been otherwise for a moment between two looks
		for _, c := range o.always {
			o.soil(c)
		}
		for _, x := range o.order {
			x.expects = ""
		}
	}
	for _, e := range effects {
		switch e := e.(type) {
		case engine.DeviceChanged:
			if b := o.w.boards[e.State.ID]; b != nil {
				b.online = e.State.Online
			}
		case engine.Journal:
			if r := o.site.Rules[strings.TrimPrefix(e.Object, "rule.")]; r != nil && e.Action == "rule" {
				for _, g := range r.Stages {
					o.acts(g.Actions)
				}
			}
		}
	}
	o.settled() // what arrived counts for what it brings about
	if changedSite {
		for _, c := range o.conds {
			o.soil(c)
		}
	}
	if len(effects) > 5000 && !changedSite {
		o.fault("bounded", "", "one input had %d effects", len(effects))
	}
	if a, ok := in.(engine.Apply); ok {
		o.acts(o.site.Presets[a.Preset].Actions)
	}
	for _, e := range effects {
		switch e := e.(type) {
		case engine.ControlChanged:
			if x := o.watched[e.State.ID]; x != nil && (e.State.Step == control.Interlocked ||
				e.State.Limit == control.Chatters || x.mayForce()) {
				x.forcedAt = o.w.now
			}
			now := o.w.hub.engine.Peek(e.State.ID)
			flash := now != nil && !equal(now.Want, e.State.Want) // it was something else for an instant
			for _, suffix := range []string{"", ".is", ".want", ".mode", ".phase"} {
				for _, c := range o.users[e.State.ID+suffix] {
					if flash {
						c.flashed(o.w.now)
					}
					o.soil(c)
				}
			}
		case engine.DeviceChanged:
			for _, g := range o.there {
				if g.cfg.Device == e.State.ID {
					for _, c := range g.users {
						o.soil(c)
					}
				}
			}
		case engine.SettingChanged:
			for _, c := range o.users[e.State.ID] {
				for _, t := range c.users { // what it was for an instant before nobody sees
					if l := t.lock; l != nil {
						l.may, l.mayLatch, l.born = true, l.mayLatch || l.cfg.Latch, o.w.now
						continue
					}
					t.must, t.born = 0, o.w.now
				}
				o.soil(c)
			}
		}
	}
	if r, ok := in.(engine.Report); ok {
		o.reported(r, effects)
	}
}

func equal(a, b *site.Amount) bool { return a == b || a != nil && b != nil && *a == *b }

// acts is what presets and rules do: of what they touch nobody knows any more what people want.
func (o *oracle) acts(list []site.Action) {
	for _, a := range list {
		if x := o.watched[a.ID]; x != nil {
			x.hand = nil
			x.commands++
		}
	}
}

// settled is called when all effects of an input are out.
func (o *oracle) settled() {
	for len(o.dirty) > 0 {
		c := o.dirty[len(o.dirty)-1]
		o.dirty = o.dirty[:len(o.dirty)-1]
		c.dirty = false
		o.weigh(c)
	}
}

// commands is a person who wants something.
func (o *oracle) commands(id string, to site.Amount, until time.Time) {
	if t := o.w.plan.Doors[id]; t.Pulses != "" && to == site.Stop {
		return // it cannot be stopped
	}
	if x := o.watched[id]; x != nil {
		x.commands++
		x.hand = nil
		x.over = x.over && x.mayForce()
		if until.IsZero() && x.cfg.Momentary == nil {
			x.hand, x.handAt = &to, o.w.now
		}
	}
}

// pressed is a hand at a board.
func (o *oracle) pressed(out *output) {
	if x := o.watched[out.id]; x != nil {
		x.hand, x.pressed, x.ill = nil, o.w.now, max(x.ill, o.w.now)
	}
}

func (o *oracle) locks(id string) {
	if x := o.watched[id]; x != nil && x.locked == 0 {
		x.locked = o.w.now
	}
}

func (o *oracle) unlocks(id string) {
	x := o.watched[id]
	if x == nil {
		return
	}
	x.locked, x.limited = 0, o.w.now
	for _, of := range []string{id, x.door} { // a door does not go on by itself
		if m := o.watched[of]; m != nil && m.cfg.What() == site.Mover {
			m.hand = nil
		}
	}
}

func (o *oracle) resets(id string) {
	if x := o.watched[id]; x != nil {
		for _, l := range x.locks {
			// what held it otherwise may be long over
			if l.latched && !l.past(o, l.c.surely[yes], max(0, site.Millis(l.cfg.AfterMS)-doubtful)) {
				l.hold, l.everTrue = false, false
			}
			l.latched = false
		}
	}
}

// loses is a link on which something was lost: an output that cannot answer may have fallen back, and nobody can know.
func (o *oracle) loses(b *board) {
	for _, out := range b.outputs {
		if x := o.watched[out.id]; x != nil && !x.cfg.Answers {
			x.lame = true
		}
	}
}

// gone judges what was taken away, when its board had the time to fall back: it is at its safe value. Long, because
// the oracle decides by itself, in one piece, so that it shares nothing with what it judges.
func (o *oracle) gone(controls []string) {
	since := o.w.now
	for _, id := range controls {
		out := o.w.output(id)
		if out == nil || !o.site.Devices[out.cfg.Device].Active() || out.cfg.What() == site.Mover {
			continue
		}
		l := out.b.link
		x := o.watched[id]
		if out.b.lease == 0 && (x != nil && x.locked > 0 || !l.connected || l.lost > 0 && since-l.lost < time.Minute) {
			continue // it is told nothing, or hears nothing, and falls back from nothing; the answer says so
		}
		o.w.in(2*time.Minute+30*time.Second, func() {
			_, there := o.site.Controls[id]
			if there && o.site.Devices[out.cfg.Device].Active() {
				return // it came back
			}
			if x != nil && x.ill > since {
				return // it did not do as it was told, or did the opposite where it fell back
			}
			o.count[onGone]++
			if b := out.b; b.on && out.actual != out.cfg.Safe && out.since < since+time.Minute && out.pressed < since &&
				out.pressed <= b.beat && !out.deaf && !out.wrong {
				o.fault("gone", id, "it was taken away at %s, and is physically %s", clock(since), out.cfg.Say(out.actual))
			}
		})
	}
}

func (o *oracle) leaves(controls []string, ends bool) {
	for _, id := range controls {
		if x := o.watched[id]; x != nil {
			x.leaves, x.hand, x.expects = !ends, nil, ""
		}
	}
}

// happens makes what is disturbed count as ill until that is over.
func (o *oracle) happens(h *Happening) {
	for _, x := range o.watched {
		device, _ := site.Split(x.id)
		switch h.Kind {
		case OutputDeaf, OutputLate, OutputWrong:
			if x.id == h.Of {
				x.ill = max(x.ill, o.w.now+h.For+6*time.Minute)
				x.lame = !x.cfg.Answers
			}
		case DoorJams:
			if x.id == h.Of || x.door == h.Of {
				x.ill = max(x.ill, o.w.now+h.For)
			}
		case Disabled, Enabled, Replaced:
			if device == h.Of || h.Kind == Enabled {
				x.hand = nil
				x.ill = max(x.ill, o.w.now)
			}
		case GivenBack:
			if x.id == h.Of {
				x.hand = nil
			}
		case ClockOff:
			x.hand = nil
		}
	}
}

// value is what an id may be for the hub now.
func (o *oracle) value(n named) (v formula.Value, unknown bool, sure bool) {
	if n.signal != nil {
		v, c := o.look1(n.signal)
		switch c {
		case only(yes):
			return v, false, true
		case only(nobody):
			return formula.Unknown, true, true
		}
		return v, true, false
	}
	if n.setting != "" {
		s, _ := o.w.hub.engine.Setting(n.setting)
		return formula.Number(float64(s.Value)), false, true
	}
	var a *site.Amount
	if s := o.w.hub.engine.Peek(n.control); s != nil && n.want {
		a = s.Want
	} else if s != nil {
		a = s.Is
	}
	if a == nil {
		return formula.Unknown, true, true
	}
	return formula.Bool(*a != 0), false, true
}

// look1 says whether a signal is surely known, surely unknown, or perhaps either.
func (o *oracle) look1(g *seen) (formula.Value, set) {
	h := o.w.hub
	if !g.ever || g.unsure && o.w.now-g.good > time.Hour {
		return formula.Unknown, only(nobody)
	}
	age := o.w.now - g.good
	link := g.board.link
	switch {
	case g.unsure:
		return g.value, only(yes) | only(nobody)
	case g.boot == h.booted && !g.board.online:
		if g.cfg.Reports == site.Periodic && age < 3*time.Minute { // what still comes counts
			return g.value, only(yes) | only(nobody)
		}
		return formula.Unknown, only(nobody)
	case !link.connected || g.session != link.session:
		return g.value, only(yes) | only(nobody)
	case g.cfg.Reports == site.OnChange && g.boot != h.booted:
		return formula.Unknown, only(nobody)
	case g.cfg.Reports == site.OnChange:
		return g.value, only(yes)
	}
	short, long := 3*g.cfg.Interval(), 3*g.cfg.Interval() // where it is told
	if g.cfg.IntervalMS == 0 {
		short, long = min(3*g.every, 3*time.Minute)*8/10, max(3*g.every*12/10, 15*time.Minute)
	}
	switch {
	case g.boot != h.booted:
		return g.value, only(yes) | only(nobody)
	case age < short-doubtful:
		return g.value, only(yes)
	case age > long+doubtful:
		return formula.Unknown, only(nobody)
	}
	return g.value, only(yes) | only(nobody)
}

// healthy reports whether a control's board, its link, its output and the hub have been well for a while, so that it
// must be physically what is wanted.
func (o *oracle) healthy(x *watched, span time.Duration) bool {
	b, out := x.board, x.out
	return out != nil && o.well(b, span) && (!b.fallen || b.lease == 0) && (b.fell == 0 || o.w.now-b.fell > span) &&
		o.w.now-x.ill > span && !out.deaf && !out.wrong && out.late < time.Second && x.active
}

// well reports whether a board, its link and the hub have been well for a while.
func (o *oracle) well(b *board, span time.Duration) bool {
	l, h := b.link, o.w.hub
	return h.up && o.w.now-o.hubSince > span && b.on && l.connected && o.w.now-l.since > span && l.broken == 0 &&
		o.w.now-l.sick > span && (l.lost == 0 || o.w.now-l.lost > 65*time.Minute) &&
		l.lossy == 0 && l.doubles == 0 && l.reorders == 0 && l.delay < time.Second && h.slow == 0 && h.commits == 0
}

func (o *oracle) tracking(cfg site.Condition, names formula.Names, old map[string]*cond) *tracker {
	c := o.cond(cfg, names, old)
	t := &tracker{c: c, after: site.Millis(cfg.AfterMS), settle: site.Millis(cfg.SettleMS), born: o.w.now}
	c.users = append(c.users, t)
	return t
}

func (x *watched) exclusive() bool {
	for _, g := range x.groups {
		if g.Exclusive() {
			return true
		}
	}
	return false
}

func valueOf(v reading.Value) formula.Value {
	if v.Kind == site.OnOff {
		return formula.Bool(v.On())
	}
	return formula.Number(v.Num)
}
