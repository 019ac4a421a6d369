package engine

import (
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// The hub's own doing is bounded: whatever goes round in a circle, at once or through readings and reports, is held.

const (
	turnsAnInput   = 4           // changes of one control that one input may bring about
	roundsAnInput  = 100         // decisions on one control that one input may bring about
	firstDamping   = time.Minute // how long a control is held that chatters
	longestDamping = time.Hour   // and at most, when it goes on and on
	fightFor       = 10 * time.Second
	levelStep      = 5 * time.Second // between two steps of a level that stays running
	most           = 60              // changes a minute that an owner can allow
)

// doing is what the hub did with a control by itself of late.
type doing struct {
	input   uint64 // of which turns are counted
	turns   int
	rounds  int                 // decisions
	changes [most]time.Duration // when it changed it, a ring
	n       int
	until   time.Duration // it is held until then
	to      site.Amount
	forced  bool          // by an interlock
	holds   time.Duration // when one last held
	other   time.Duration // since when one forces something else; 0: none does
	stepped time.Duration // when a running level was last changed
}

// Damping is how a control is held that chattered.
type Damping struct {
	Until  time.Time     `json:"until"`
	For    time.Duration `json:"for"` // for how long this time
	To     site.Amount   `json:"to"`
	Forced bool          `json:"forced,omitempty"` // by an interlock
}

// enough counts a decision, and reports whether one input has brought about too many of them.
func (e *Engine) enough(x *controlled) bool {
	d := e.doing(x)
	d.rounds++
	return d.rounds > roundsAnInput
}

// doing is what the hub did with a control, with nothing counted yet of this input where it is the first that comes to
// it.
func (e *Engine) doing(x *controlled) *doing {
	d := &x.doing
	if d.input != e.inputs {
		d.input, d.turns, d.rounds = e.inputs, 0, 0
	}
	return d
}

// chatters counts a change that is about to be made, and holds the control where the hub made too many.
func (e *Engine) chatters(x *controlled, dec control.Decision) bool {
	if dec.Step == control.ByHand && x.How == HowPerson && x.mover != nil || dec.Step == control.Leaving ||
		x.moves != nil || dec.Limit == control.Chatters {
		return false
	}
	if x.cfg.What() == site.Level && (*x.Want > 0) == (dec.Value > 0) {
		x.doing.stepped = e.now.Mono
		return false
	}
	return e.count(x)
}

// count notes that the hub does something with a control, and reports whether that is once too often.
func (e *Engine) count(x *controlled) bool {
	d, limit := e.doing(x), x.auto.MostChanges()
	d.turns++
	if d.turns > 2*turnsAnInput { // even held it changes: it stays as it is until something else happens
		return true
	}
	oldest := d.changes[(d.n-limit+2*most)%most]
	if d.turns > turnsAnInput || d.n >= limit && e.now.Mono-oldest < time.Minute {
		e.damp(x)
		return true
	}
	d.changes[d.n%most] = e.now.Mono
	if d.n++; d.n >= 2*most {
		d.n -= most
	}
	return false
}

// held reports whether a control is held because it chattered.
func (e *Engine) held(x *controlled) bool { return e.now.Mono < x.doing.until }

// damp holds a control: at what an interlock forces, else at its safe value.
func (e *Engine) damp(x *controlled) {
	span := firstDamping
	if last := x.Damped; last != nil && e.now.Wall.Sub(last.Until) < longestDamping {
		span = min(2*last.For, longestDamping)
	}
	to := x.cfg.Safe
	_, value, forced := control.Forced(&x.facts)
	switch {
	case forced && e.held(x) && x.doing.forced: // of two interlocks that fight, which counts is for eases to say
		to = x.doing.to
	case forced:
		to = value
	}
	x.doing.until, x.doing.to, x.doing.forced, x.doing.holds, x.doing.n = e.now.Mono+span, to, forced, e.now.Mono, 0
	x.Damped = &Damping{e.now.Wall.Add(span), span, to, forced}
	e.emit(Journal{Actor: access.HubActor(), Action: "chatters", Object: x.ID, Before: wanted(x), After: x.cfg.Say(to),
		Reason: words.Of("want.chatters", "N", x.auto.MostChanges(), "For", span)})
	e.mark(x)
}

// eases lets what an interlock forced on a control that chatters be forced for as long as one holds and a minute more,
// so that one that comes and goes cannot switch it to and fro; then the safe value holds. Of two interlocks that fight,
// the other one's value counts at once where it is the safe one, else when it was forced for a while. It tells when to
// look again.
func (e *Engine) eases(x *controlled) (next time.Duration) {
	d := &x.doing
	if !d.forced || !e.held(x) {
		return 0
	}
	if _, to, forced := control.Forced(&x.facts); forced {
		d.holds = e.now.Mono
		switch {
		case to == d.to:
			d.other = 0
			return 0
		case d.other == 0:
			d.other = e.now.Mono
		}
		if end := d.other + fightFor; e.now.Mono < end && to != x.cfg.Safe {
			return end
		}
		e.holdAt(x, to, true)
		return 0
	}
	d.other = 0
	if end := d.holds + firstDamping; e.now.Mono < end {
		return end
	}
	e.holdAt(x, x.cfg.Safe, false)
	return 0
}

// holdAt changes what a control that chatters is held at.
func (e *Engine) holdAt(x *controlled, to site.Amount, forced bool) {
	x.doing.to, x.doing.forced, x.doing.holds = to, forced, e.now.Mono
	x.Damped = &Damping{x.Damped.Until, x.Damped.For, to, forced}
	x.unkept = true
}

// pace leaves a running level where it was changed just now, and keeps what an interlock forced while a control is
// held.
func (e *Engine) pace(x *controlled, dec *control.Decision) {
	if e.now.Mono < x.doing.until && dec.Step == control.Interlocked && !x.doing.forced {
		e.holdAt(x, dec.Value, true)
	}
	if dec.Step != control.Demanding || x.cfg.What() != site.Level || x.Want == nil || *x.Want == 0 || dec.Value == 0 ||
		*x.Want == dec.Value {
		return
	}
	if next := x.doing.stepped + levelStep; x.doing.stepped > 0 && e.now.Mono < next {
		dec.Value = *x.Want
		if dec.Next == 0 || next < dec.Next {
			dec.Next = next
		}
	}
}

// calmed ends what holds a control, because a person told it anew.
func (x *controlled) calmed() {
	x.doing, x.Damped = doing{}, nil
}
