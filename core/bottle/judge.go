package bottle

import (
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/core/words"
)

// What is counted of the rules that the oracle judges by.
const (
	onInterlock = iota
	onLatch
	onMotor
	onConfirmed
	onObeyed
	onManual
	onAuto
	onPulse
	onFollowed
	onGroup
	onLongest
	onWhy
	onGone
	onCopied
)

var rules = [...]string{"interlock", "latch", "motor", "confirmed", "obeyed", "manual", "auto", "pulse", "followed",
	"group", "longest", "why", "gone", "copied"}

// look judges everything that holds over time, again and again.
func (o *oracle) look() {
	o.w.in(lookGap, o.look)
	if !o.w.hub.up {
		return
	}
	if o.w.looks != nil {
		o.w.looks(o.w)
	}
	o.looks++
	for _, g := range o.there {
		if _, c := o.look1(g); c != g.class {
			g.class = c
			for _, u := range g.users {
				o.soil(u)
			}
		}
	}
	for _, c := range o.always {
		o.soil(c)
	}
	o.settled()
	for i, x := range o.order {
		if !x.active {
			continue
		}
		for _, l := range x.locks {
			l.move(o)
		}
		for _, t := range x.tracks {
			if t.c != nil {
				t.move(o)
			}
		}
		s := o.w.hub.engine.Peek(x.id)
		if s.Service == control.InService {
			x.locked = 0
		}
		if x.cfg.What() == site.Mover && x.mayForce() {
			x.over, x.overWant = true, nil
		}
		if s.Step == control.Interlocked || s.Limit == control.Chatters || x.mayForce() {
			x.forcedAt = o.w.now
		}
		o.interlock(x, s)
		o.latch(x, s)
		o.motor(x, s)
		o.obeyed(x, s)
		o.manual(x, s)
		o.auto(x, s)
		if (o.looks+i)%120 == 0 {
			o.why(x, s)
		}
	}
	o.copied()
}

// copied: a board's copy of a setting is what the setting is, once both have heard of each other.
func (o *oracle) copied() {
	const span = time.Minute
	for _, id := range o.w.order {
		b := o.w.boards[id]
		if len(b.copies) == 0 || !o.site.Devices[id].Active() || !o.well(b, span) {
			continue
		}
		for _, k := range b.copies {
			s, ok := o.w.hub.engine.Setting(k.cfg.ID)
			if !ok || k.turned > 0 && (o.w.now-k.turned < span || k.turned < o.hubSince &&
				o.w.now-o.hubSince < 65*time.Minute) || o.w.hub.wall().Sub(s.At) < span {
				continue
			}
			o.count[onCopied]++
			if s.Value != k.value {
				o.fault("copied", k.cfg.ID, "it is %v, and the board has %v", s.Value, k.value)
			}
		}
	}
}

// forced is what an interlock surely forces: the values that are allowed, since when.
func (o *oracle) forced(x *watched) (allowed []site.Amount, since time.Duration, ok bool) {
	if !slices.ContainsFunc(x.locks, func(l *lock) bool { return l.hold }) {
		return nil, 0, false
	}
	for _, l := range x.locks {
		to := x.forces(l)
		if l.may || l.hold || !l.pure() {
			allowed = append(allowed, to)
		}
		if l.hold {
			return allowed, l.since, true
		}
	}
	return nil, 0, false
}

// forces is the value of an interlock.
func (x *watched) forces(l *lock) site.Amount {
	if l.cfg.To != nil {
		return *l.cfg.To
	}
	return x.cfg.Safe
}

// flutters reports whether the hub lately changed it as often as it may within a minute: then it may be held for up to
// an hour.
func (o *oracle) flutters(x *watched) bool {
	return x.fluttered > 0 && o.w.now-x.fluttered < time.Hour+5*time.Minute
}

// mayForce reports whether any interlock may hold.
func (x *watched) mayForce() bool {
	return slices.ContainsFunc(x.locks, func(l *lock) bool { return l.may || l.hold || !l.pure() })
}

// interlock: while one holds, its value holds. Long, because the oracle decides by itself, in one piece, so that it
// shares nothing with what it judges.
func (o *oracle) interlock(x *watched, s *engine.ControlState) {
	allowed, since, ok := o.forced(x)
	if !ok || x.leaves || s.Service != control.InService || x.cfg.Momentary != nil || o.w.now-since < delivery {
		return
	}
	if x.exclusive() || x.auto.Limits.RestartHurts {
		allowed = append(allowed, 0)
	}
	for _, l := range x.locks { // of two that come and go the one that held just now may be what it is held at
		if s.Limit == control.Chatters && l.held > 0 && o.w.now-l.held < 10*time.Second+delivery {
			allowed = append(allowed, x.forces(l))
		}
	}
	if s.Limit == control.Chatters && (o.flutters(x) && o.w.now-since < 10*time.Second+delivery ||
		x.cfg.What() == site.Mover) {
		return // held at what another one forced, because they fight
	}
	o.count[onInterlock]++
	if s.Want == nil || !slices.Contains(allowed, *s.Want) {
		o.fault("interlock", x.id, "an interlock holds since %s, but %s is wanted (%s)", clock(since), say(x, s.Want),
			s.Reason)
		return
	}
	if x.cfg.What() != site.Mover && o.w.now-since > 2*calm && !x.lame && o.w.hub.wall().Sub(s.WantAt) > 2*delivery &&
		o.healthy(x, 2*calm) && !slices.ContainsFunc(allowed, func(a site.Amount) bool { return near(x, a, x.out.actual) }) {
		o.fault("interlock", x.id, "an interlock holds since %s, but it is physically %s", clock(since), say(x,
			&x.out.actual))
	}
}

func near(x *watched, a, b site.Amount) bool { return a-b <= 1 && b-a <= 1 && (a > 0) == (b > 0) }

func say(x *watched, a *site.Amount) string {
	if a == nil {
		return "nothing"
	}
	return x.cfg.Say(*a)
}

// latch: it lets go only by a person, and nothing but a known true latches it.
func (o *oracle) latch(x *watched, s *engine.ControlState) {
	for _, l := range x.locks {
		if !l.cfg.Latch || !l.pure() {
			continue
		}
		o.count[onLatch]++
		has := slices.Contains(s.Latched, l.cfg.ID)
		if l.latched && !has && o.w.now-l.since > delivery {
			o.fault("latch", x.id, "%q was true and nobody reset it, but it is not latched", l.cfg.Name)
		}
		if has && !l.mayLatch {
			o.fault("latch", x.id, "%q is latched, but was never true", l.cfg.Name)
		}
		if !has && !l.c.is.may(yes) {
			l.mayLatch = false
		}
	}
}

// motor: a door's outputs run no longer than its travel time, and stand still when it is locked; confirmed is what a
// contact showed. Long, because the oracle decides by itself, in one piece, so that it shares nothing with what it
// judges.
func (o *oracle) motor(x *watched, s *engine.ControlState) {
	b := x.board
	if x.door != "" && x.cfg.Momentary == nil && x.out.actual > 0 {
		if m := o.watched[x.door]; m != nil {
			t := o.w.plan.Doors[x.door]
			o.count[onMotor]++
			most := time.Duration(t.TravelMS)*time.Millisecond*3/2 + 5*time.Second
			if !o.healthy(x, o.w.now-x.out.since) {
				most += b.lease*4/3 + 10*time.Second
			}
			if b.link.lossy > 0 { // beats may come where each off is lost, which is sent again ever less often
				most += 10 * time.Minute
			}
			untold := x.locked > 0 && x.out.since < x.ill // it did as it pleased, and then it was locked, told nothing
			if o.w.now-x.out.since > most && !untold && !x.out.deaf && !x.out.wrong && o.w.now > x.ill && b.lease > 0 {
				o.fault("motor", x.id, "the motor of %s is on since %s", x.door, clock(x.out.since))
			}
			if m.locked > 0 && o.w.now-m.locked > 2*calm && o.healthy(x, 2*calm) {
				o.fault("motor", x.id, "%s is out of service since %s, and its motor is on", x.door, clock(m.locked))
			}
		}
	}
	if x.cfg.What() != site.Mover || x.auto == nil || x.auto.Travel == nil || s.Phase != engine.Confirmed ||
		s.Want == nil || *s.Want == site.Stop {
		return
	}
	contact := x.auto.Travel.IsClosed
	if *s.Want == site.Open {
		contact = x.auto.Travel.IsOpen
	}
	o.count[onConfirmed]++
	if contact == "" {
		o.fault("confirmed", x.id, "%s is said to be confirmed, without a contact", say(x, s.Want))
		return
	}
	if v, _, sure := o.value(o.named(contact)); sure && !v.True() && o.w.now-o.signals[contact].good > delivery {
		o.fault("confirmed", x.id, "%s is said to be confirmed, and its contact says otherwise or nothing", say(x, s.Want))
	}
}

// obeyed: a healthy output is what is wanted.
func (o *oracle) obeyed(x *watched, s *engine.ControlState) {
	const span = 40 * time.Second
	if x.cfg.Momentary != nil || x.cfg.What() == site.Mover || s.Service != control.InService || x.lame || !o.healthy(x,
		span) {
		return
	}
	if s.Want == nil {
		if x.auto.HasAuto() && o.w.now-o.hubSince > time.Minute {
			o.fault("decided", x.id, "it has automation, and nothing is wanted of it (mode %q, %q)", s.Mode, s.Reason)
		}
		return
	}
	o.count[onObeyed]++
	if o.w.hub.wall().Sub(s.WantAt) > span && !near(x, *s.Want, x.out.actual) {
		o.fault("obeyed", x.id, "%s is wanted since %s, and it is physically %s (%s)", say(x, s.Want),
			s.WantAt.Format("15:04:05"), say(x, &x.out.actual), s.Reason)
	}
}

// manual: a person's value holds where nothing is above it.
func (o *oracle) manual(x *watched, s *engine.ControlState) {
	if x.board == nil || !x.board.online {
		x.hand = nil // what becomes of it while away is another matter
	}
	if x.hand == nil || x.over || s.Spent == control.NoEffect || s.Service != control.InService || x.mayForce() ||
		len(x.groups) > 0 || x.auto != nil && x.auto.Limits != (site.RunLimits{}) {
		return
	}
	if x.cfg.Dangerous || x.auto != nil && x.auto.HandMS > 0 {
		x.hand = nil // its end is another matter
		return
	}
	if o.damped(x, s) { // as an interlock let go of it
		return
	}
	o.count[onManual]++
	if s.Want == nil || *s.Want != *x.hand {
		o.fault("manual", x.id, "%s was wanted by somebody at %s, but %s is wanted (%s)", say(x, x.hand), clock(x.handAt),
			say(x, s.Want), s.Reason)
	}
}

// damped is a control that changes too often: it is held at its safe value, or for a little longer at what an interlock
// forced.
func (o *oracle) damped(x *watched, s *engine.ControlState) bool {
	return s.Limit == control.Chatters && o.flutters(x) && (s.Want != nil && *s.Want == x.cfg.Safe || x.forcedAt > 0 &&
		o.w.now-x.forcedAt < 2*time.Minute)
}

// auto: what auto must come to, once that is sure for long enough. Long, because the oracle decides by itself, in one
// piece, so that it shares nothing with what it judges.
func (o *oracle) auto(x *watched, s *engine.ControlState) {
	want, what := o.expected(x, s)
	if what != x.expects {
		x.expects, x.expectFrom = what, o.w.now
	}
	if what == "" {
		return
	}
	for _, t := range x.tracks {
		x.expectFrom = max(x.expectFrom, t.turned)
	}
	for _, m := range x.motors {
		if m.locked > 0 || m.leaves {
			return // what moves it takes no part
		}
	}
	if x.over {
		if x.overWant == nil {
			x.overWant = &want
		}
		x.over = *x.overWant == want
		return
	}
	if s.Spent == control.NoEffect {
		return // it was switched off because of that
	}
	if o.damped(x, s) {
		return
	}
	if s.Limit == control.Chatters && x.cfg.What() == site.Mover {
		return // how often a door was driven is for its motor to tell
	}
	settle := 30 * time.Second
	if x.auto.SettleMS > 0 {
		settle = site.Millis(x.auto.SettleMS)
	}
	wait := settle + site.Millis(x.auto.Limits.ShortestOnMS) + 30*time.Second
	if o.w.now-x.expectFrom < wait || x.forcedAt > 0 && o.w.now-x.forcedAt < wait || o.w.now < o.grace ||
		o.w.now-o.hubSince < wait {
		return
	}
	if s.Limit == control.ShortestOn && o.w.hub.wall().Sub(s.RunAt) <= site.Millis(x.auto.Limits.ShortestOnMS) {
		return // it was switched on by hand for an instant
	}
	if want != 0 && (x.auto.Limits != (site.RunLimits{}) || len(x.groups) > 0 || !o.w.hub.engine.Online(x.cfg.Device)) {
		return
	}
	o.count[onAuto]++
	if s.Want == nil || *s.Want != want {
		o.fault("auto", x.id, "%s since %s, so %s is to be wanted, but it is %s (%s)", what, clock(x.expectFrom), say(x,
			&want), say(x, s.Want), s.Reason)
	}
}

// wavered reports whether a condition names what is wanted of a control that was changed within a time: within one
// input it may have been wanted for an instant, which counts until it has settled.
func (o *oracle) wavered(c *cond, within time.Duration) bool {
	return slices.ContainsFunc([]*told{c.when, c.until}, func(f *told) bool {
		return f != nil && slices.ContainsFunc(f.ids, func(id named) bool {
			y := o.watched[id.control]
			return id.want && y != nil && len(y.changes) > 0 && o.w.now-y.changes[len(y.changes)-1] < within
		})
	})
}

// expected is what auto surely comes to, and why; "" where that is not sure. Long, because the oracle decides by
// itself, in one piece, so that it shares nothing with what it judges.
func (o *oracle) expected(x *watched, s *engine.ControlState) (want site.Amount, what string) {
	if slices.ContainsFunc(x.locks, func(l *lock) bool { return !l.pure() }) {
		return 0, "" // it may have been overruled for an instant
	}
	if !x.auto.HasAuto() || s.Mode != engine.Auto || s.Service != control.InService || x.mayForce() ||
		len(x.demands) == 0 {
		return 0, ""
	}
	permit := yes
	for _, p := range x.permits {
		switch {
		case p.own || p.settle > 0 && o.wavered(p.c, p.settle+lookGap):
			return 0, ""
		case p.must == no:
			permit = no
		case p.must == yes && permit == yes:
		case permit != no && p.must == nobody:
			permit = nobody
		case permit != no:
			return 0, ""
		}
	}
	if permit == nobody {
		return 0, ""
	}
	sum := no
	var to site.Amount
	for i, t := range x.demands {
		d := &x.auto.Demands[i]
		if t == nil || t.own {
			return 0, ""
		}
		must := t.must
		if t.schedule != nil {
			if !o.w.hub.trusted {
				return 0, ""
			}
			on, sure := o.scheduled(t.schedule, o.w.hub.wall())
			switch {
			case !sure:
				return 0, ""
			case on:
				must = yes
			default:
				must = no
			}
		}
		if permit == no && !d.Floor {
			must = no
		}
		switch {
		case must == 0:
			return 0, ""
		case must == yes:
			v := x.cfg.Full()
			if d.To != nil {
				v = *d.To
			}
			if sum != yes || v > to {
				to = v
			}
			sum = yes
		case must == nobody && sum == no:
			sum = nobody
		}
	}
	switch sum {
	case yes:
		return to, "a demand is true"
	case nobody:
		if x.auto.Fallback != nil {
			return *x.auto.Fallback, "a demand is unknown"
		}
		return x.cfg.Safe, "a demand is unknown"
	}
	return x.auto.Idle, "no demand is true"
}

// wanted judges a want as it is let out.
func (o *oracle) wanted(e engine.Want) {
	x := o.watched[e.Control]
	if x == nil {
		return
	}
	s, _ := o.w.hub.engine.Control(e.Control)
	if e.Pulse != "" {
		if e.Value > 0 {
			o.pulse(x, &s, e)
		}
		return
	}
	if x.had && x.was != e.Value {
		x.changes = append(x.changes, o.w.now)
		if n, most := len(x.changes), x.auto.MostChanges(); n >= most && o.w.now-x.changes[n-most] <= time.Minute {
			x.fluttered = o.w.now
		}
		if n := len(x.changes); n > 40 && o.w.now-x.changes[n-41] < time.Minute {
			o.fault("bounded", x.id, "more than 40 changes in a minute (%s)", s.Reason)
		} else if n > 64 {
			x.changes = slices.Clone(x.changes[n-41:])
		}
	}
	x.lame = x.lame && (o.w.now < x.ill || x.was == e.Value)
	x.had, x.was = true, e.Value
}

// pulse: none without a cause, none twice, none where an interlock or a lock holds.
func (o *oracle) pulse(x *watched, s *engine.ControlState, e engine.Want) {
	o.count[onPulse]++
	o.pulses[e.Pulse]++
	if n := o.pulses[e.Pulse]; n > max(1, x.cfg.Momentary.Times) {
		o.fault("pulse", x.id, "pulse %s came %d times", e.Pulse, n)
	}
	for _, y := range []*watched{x, o.watched[x.door]} {
		if y == nil {
			continue
		}
		for _, l := range y.locks {
			o.weigh(l.c) // what the same input changed counts
			l.move(o)
		}
		if _, since, ok := o.forced(y); ok && o.w.now-since > delivery && y.cfg.What() != site.Mover {
			o.fault("pulse", x.id, "a pulse, though an interlock of %s holds since %s", y.id, clock(since))
		}
		if y.locked > 0 && o.w.now > y.locked {
			o.fault("pulse", x.id, "a pulse, though %s is out of service since %s", y.id, clock(y.locked))
		}
	}
	if m := o.watched[x.door]; m != nil {
		ms, _ := o.w.hub.engine.Control(m.id)
		if ms.Hand != nil && !m.auto.HasFloor() && ms.HandBy.Kind != access.TheHub && m.commands == 0 {
			o.fault("pulse", x.id, "a pulse for %s, which is manual, and nobody asked for it", m.id)
		}
		m.commands = 0
	}
}

// reported: what is locked is never followed, and nothing is followed that no hand did.
func (o *oracle) reported(r engine.Report, effects []engine.Effect) {
	x := o.watched[r.Control]
	if x == nil || x.out == nil {
		return
	}
	s, _ := o.w.hub.engine.Control(r.Control)
	if !slices.ContainsFunc(effects, func(e engine.Effect) bool {
		j, ok := e.(engine.Journal)
		return ok && j.Object == r.Control && j.Actor.Kind == access.Device && j.Action == "switch"
	}) {
		return
	}
	o.count[onFollowed]++
	switch {
	case x.locked > 0:
		o.fault("followed", x.id, "it is out of service, and what was switched at the board is followed")
	case x.out.b.link.sick > 0 && o.w.now-x.out.b.link.sick < 2*time.Minute: // messages that were doubled or mixed up
	case x.out.b.link.lost > 0 && o.w.now-x.out.b.link.lost < 65*time.Minute: // what was done before was heard only now
	case x.out.pressed == 0 || o.w.now-x.out.pressed > 2*time.Minute:
		if !x.out.wrong && !x.out.deaf && o.w.now > x.ill+time.Minute {
			o.fault("followed", x.id, "%s is followed, and nobody switched it at the board", say(x, s.Hand))
		}
	}
}

// physical hears of an output that changed.
func (o *oracle) physical(out *output, was site.Amount) {
	x := o.watched[out.id]
	if x == nil {
		return
	}
	now := o.w.now
	if was == 0 && out.actual > 0 {
		x.runs = append(x.runs, run{now, never})
		if len(x.runs) > 60 {
			x.runs = slices.Clone(x.runs[20:])
		}
		o.together(x)
		o.longest(x)
	} else if n := len(x.runs); was > 0 && out.actual == 0 && n > 0 {
		o.longest(x)
		x.runs[n-1].to = now
	}
}

// hands reports whether somebody meddled with an output of late, so that it may be on against the hub's will.
func (o *oracle) meddled(x *watched) bool {
	if !x.active { // nobody hears what is done at its board
		return true
	}
	if l := x.board.link; x.pressed > 0 && (x.pressed > x.board.beat || l.lost > 0 && o.w.now-l.lost < 65*time.Minute &&
		o.w.now-x.pressed < 65*time.Minute) {
		return true // nobody could hear of it yet
	}
	// a broker elsewhere kept its session: it says so within the hour
	if x.pressed > 0 && x.pressed < o.hubSince && o.w.now-o.hubSince < 65*time.Minute {
		return true
	}
	return x.lame || x.pressed > 0 && o.w.now-x.pressed < 3*time.Minute || x.out.deaf || x.out.wrong ||
		x.out.late > time.Second || o.w.now < x.ill+time.Minute
}

// together: exclusive outputs and power budgets hold at every instant. Long, because the oracle decides by itself, in
// one piece, so that it shares nothing with what it judges.
func (o *oracle) together(x *watched) {
	for _, g := range x.groups {
		o.count[onGroup]++
		used, forced, meddled := 0.0, 0.0, o.meddled(x)
		other := ""
		for _, m := range g.Members {
			y := o.watched[m.Control]
			if y == nil || y.out == nil {
				continue
			}
			if y.out.actual > 0 {
				used += m.Watts
				meddled = meddled || o.meddled(y)
				if l := y.out.b.link; l.lost > 0 && o.w.now-l.lost < 65*time.Minute {
					meddled = true // what it was told, or what it said of that, may have come in another order
				} else if y.pressed > 0 && y.pressed < l.since && o.w.now-l.since < delivery {
					meddled = true // somebody switched it while its board was away, and it says so just now
				}
				if y != x {
					other = y.id
				}
				s, _ := o.w.hub.engine.Control(y.id)
				if y.mayForce() || s.Step == control.Interlocked {
					forced += m.Watts
				}
			}
		}
		switch {
		case meddled:
		case g.Exclusive() && other != "":
			o.fault("exclusive", x.id, "it went on while %s was on", other)
		case !g.Exclusive() && used > g.Limit+0.5 && forced == 0:
			o.fault("budget", x.id, "it went on, and %g W of %g are drawn", used, g.Limit)
		}
	}
}

// longest: in any window of longest on and rest an output is on for the longest on at most. Long, because the oracle
// decides by itself, in one piece, so that it shares nothing with what it judges.
func (o *oracle) longest(x *watched) {
	if x.auto == nil || x.auto.Limits.LongestOnMS == 0 || x.out == nil || x.mayForce() || x.locked > 0 {
		return
	}
	most, rest := site.Millis(x.auto.Limits.LongestOnMS), site.Millis(x.auto.Limits.RestMS)
	begin := max(o.w.now-most-rest, x.limited)
	total := time.Duration(0)
	for _, r := range x.runs {
		total += max(0, min(r.to, o.w.now)-max(r.from, begin))
	}
	if x.pressed > 0 && (o.w.now-o.hubSince < most+rest || x.board.link.sick > 0 &&
		o.w.now-x.board.link.sick < most+rest) {
		return // somebody switched it while no hub could hear of it
	}
	if x.pressed > 0 && x.pressed < o.hubSince && x.board.link.since < o.hubSince &&
		o.w.now-o.hubSince < time.Hour+most+rest {
		return // and its board, on a broker elsewhere, had no cause to say it again before the hour
	}
	if x.forcedAt > 0 && o.w.now-x.forcedAt < most+rest+lookGap {
		return // that time counts, and is not bound
	}
	if l := x.board.link; l.lost > 0 && o.w.now-l.lost < most+rest {
		return // it may have been told off again and again, by a link that lost it
	}
	o.count[onLongest]++
	slack := 15 * time.Second
	b := x.board
	if !o.healthy(x, most+rest) {
		slack += b.lease * 2
	}
	if total > most+slack && o.w.now > x.limited+most && (x.ill == 0 || o.w.now > x.ill+most+rest) && !o.meddled(x) &&
		b.lease > 0 {
		o.fault("longest on", x.id, "it was on for %s within %s; at most %s is allowed", total.Round(time.Second), (most +
			rest).Round(time.Second), most)
	}
}

// why: each sentence is true of the numbers that it states.
func (o *oracle) why(x *watched, s *engine.ControlState) {
	w, ok := o.w.hub.engine.Why(o.w.hub.time(), x.id)
	if !ok {
		return
	}
	for _, line := range append([]words.Fact{w.Reason}, w.Lines...) {
		o.count[onWhy]++
		if text := line.String(); strings.Contains(text, "unknown is") || strings.Contains(text, "<no value>") {
			o.fault("why", x.id, "%q", text)
		}
		for f := range line.Parts() {
			is, known := f.Value("Is").(words.Quantity)
			to, also := f.Value("To").(words.Quantity)
			if !known || !also {
				continue
			}
			lies := false
			switch f.Code {
			case "demand.above", "demand.above_soon":
				lies = is.Num <= to.Num
			case "demand.below", "demand.below_soon":
				lies = is.Num >= to.Num
			case "demand.at":
				lies = is.Num != to.Num
			}
			if a, b := words.English.Quantity(is), words.English.Quantity(to); lies || a == b && is.Num != to.Num {
				o.fault("why", x.id, "%q", line)
			}
		}
	}
}
