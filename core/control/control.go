// Package control decides what a control should be. It is pure: what the engine knows comes in as Facts, and the same
// facts give the same Decision. Time is that of a clock that never jumps.
package control

import (
	"time"

	"idleember/core/site"
)

// Tri is a condition that may be unknown.
type Tri int8

// The values of a condition.
const (
	Unknown Tri = iota
	False
	True
)

// Demanded is what a demand of auto comes to now.
type Demanded struct {
	Is Tri
	To site.Amount
}

// Service says whether a control is out of service.
type Service string

// A Silent control is told nothing at all; a Safe one is kept at its safe value.
const (
	InService  Service = ""
	OutSilent  Service = "silent"
	OutAndSafe Service = "safe"
)

// Facts are what a decision looks at.
type Facts struct {
	Now    time.Duration
	Config *site.Control
	Auto   *site.Automation // nil: there is none

	Service    Service
	Leaving    bool         // it is being taken away
	Stays      bool         // and its owner chose that what an interlock forces stays
	Interlocks []Tri        // of Auto.Interlocks: whether they hold; unknown forces as true does
	Hand       *site.Amount // by hand; nil: auto, or never told anything
	ByPreset   bool         // a preset set it
	Permits    []Tri
	Demands    []Demanded

	Grace     bool          // shortly after a start: what is not known yet leaves things as they are
	SettledAt time.Duration // auto counts on its readings from then on

	Last      *site.Amount  // what is wanted now
	OnSince   time.Duration // since when Last has not been 0
	OffSince  time.Duration // since when it has
	Used      time.Duration // for how long it was on before OnSince since it last was off for a whole rest
	RestUntil time.Duration
	Starts    []time.Duration // when it was last switched on, oldest first
	Spent     Limit           // why it stays off until somebody tells it anew; NoLimit: it does not

	DampedUntil time.Duration // until then it is held, because it chattered
	DampedTo    site.Amount
	// DampedForced says that this is what an interlock forced: then it stays so, whatever else is forced meanwhile.
	DampedForced bool
}

// Step is the step of the decision that applied.
type Step string

// The steps, in the order in which they are tried.
const (
	Nothing     Step = ""          // never told anything
	OutOfWork   Step = "service"   // out of service
	Leaving     Step = "leaving"   // on its way out of the house
	Interlocked Step = "interlock" // an interlock forces it
	Protected   Step = "floor"     // a floor holds against what a preset set
	ByHand      Step = "hand"
	Demanding   Step = "demand"   // auto: a demand
	NotAllowed  Step = "permit"   // auto: a permit is missing
	Idle        Step = "idle"     // auto: no demand
	Waiting     Step = "waiting"  // auto: not everything is known yet after a start
	Settling    Step = "settling" // auto: what was unknown is back, but not for long enough
	FellBack    Step = "fallback" // auto: what it needs is unknown
)

// Limit is what kept a decision from being carried out at once.
type Limit string

// The limits.
const (
	NoLimit     Limit = ""
	LongestOn   Limit = "longest_on"
	Rest        Limit = "rest"
	ShortestOn  Limit = "shortest_on"
	ShortestOff Limit = "shortest_off"
	Shared      Limit = "group"     // another control of its group
	Overruled   Limit = "overruled" // it is forced on, and so is another one that it excludes and that comes before it
	Starts      Limit = "starts"    // it was started too often within an hour
	Chatters    Limit = "chatter"   // the hub itself changed it too often within a minute
	NoEffect    Limit = "no_effect" // what it should bring about did not come
	Stays       Limit = "stays"     // a mover that was stopped, until something new is wanted
)

// Decision is what a control should be, and why.
type Decision struct {
	Has   bool // false: it is told nothing
	Value site.Amount
	Step  Step
	Index int         // of the interlock, permit or demand that applied
	Asked site.Amount // before the limits
	Limit Limit
	// Next is when the decision must be looked at again if nothing happens before; 0: never.
	Next time.Duration
	// Rests says that the longest on is over, and a rest begins.
	Rests bool
	// Blind says that a floor cannot protect, because Unseen, one of the demands, is unknown.
	Blind  bool
	Unseen int
}

// Decide takes a decision. The steps and limits are those of the house: out of service, interlock, by hand, auto,
// fallback; then the run limits, by where the value came from.
func Decide(f *Facts) (d Decision) {
	choose(f, &d)
	switch {
	case d.Step == Nothing || d.Step == OutOfWork || d.Step == Leaving:
		return d
	case f.Now < f.DampedUntil && (d.Step != Interlocked || f.DampedForced):
		d.Keep(f.DampedTo, Chatters)
		sooner(&d, f.DampedUntil)
		return d
	case f.Auto != nil:
		limit(f, &d)
		blind(f, &d)
	}
	return d
}

// blind notes that a floor is to hold and cannot.
func blind(f *Facts, d *Decision) {
	if d.Step == Interlocked || d.Step == ByHand && !f.ByPreset {
		return
	}
	for i, x := range f.Demands {
		if f.Auto.Demands[i].Floor && x.Is == Unknown && d.Value == 0 {
			d.Blind, d.Unseen = true, i
			return
		}
	}
}

func (d *Decision) take(step Step, index int, a site.Amount) {
	d.Step, d.Index, d.Asked, d.Value, d.Has = step, index, a, a, true
}

// Keep changes what is wanted because of a limit.
func (d *Decision) Keep(a site.Amount, l Limit) { d.Value, d.Limit = a, l }

func choose(f *Facts, d *Decision) {
	if f.Service != InService {
		d.take(OutOfWork, 0, f.Config.Safe)
		if f.Service == OutSilent {
			d.Has = false
		}
		return
	}
	i, to, locked := Forced(f)
	switch {
	case f.Leaving && locked && f.Stays:
		d.take(Leaving, i, to)
		return
	case f.Leaving:
		d.take(Leaving, 0, f.Config.Safe)
		return
	case locked:
		d.take(Interlocked, i, to)
		return
	}
	if f.Hand != nil {
		if i, to, ok := floor(f); ok && f.ByPreset && to > *f.Hand {
			d.take(Protected, i, to)
			return
		}
		d.take(ByHand, 0, *f.Hand)
		return
	}
	switch {
	case f.Auto.HasAuto():
		auto(f, d)
	case f.Last != nil: // an interlock let go of it, and nobody wants anything
		d.take(Idle, 0, f.Config.Safe)
	}
}

// Forced is what the first interlock that holds forces; ok is false where none does.
func Forced(f *Facts) (index int, to site.Amount, ok bool) {
	for i, is := range f.Interlocks {
		if is != False {
			to = f.Config.Safe
			if x := f.Auto.Interlocks[i].To; x != nil {
				to = *x
			}
			return i, to, true
		}
	}
	return 0, 0, false
}

// floor returns the highest demand that protects.
func floor(f *Facts) (index int, to site.Amount, ok bool) {
	for i, x := range f.Demands {
		if f.Auto.Demands[i].Floor && x.Is == True && (!ok || x.To > to) {
			index, to, ok = i, x.To, true
		}
	}
	return index, to, ok
}

// Long, because it is one decision in its order, and each case names the next.
func auto(f *Facts, d *Decision) {
	permit, missing := True, 0
	for i, is := range f.Permits {
		if is == False {
			permit, missing = False, i
			break
		}
		if is == Unknown && permit == True {
			permit, missing = Unknown, i
		}
	}
	words := f.Config.Words() != nil
	best, to, unknown := -1, site.Amount(0), -1
	for i, x := range f.Demands {
		if !f.Auto.Demands[i].Floor && permit == False {
			continue
		}
		allowed := permit == True || f.Auto.Demands[i].Floor
		switch {
		case x.Is == True && allowed:
			if best < 0 || !words && x.To > to {
				best, to = i, x.To
			}
		case x.Is != False && unknown < 0:
			unknown = i
		}
	}
	known := best >= 0 || unknown < 0
	if known && f.Now < f.SettledAt {
		d.take(Settling, 0, fallback(f))
		d.Next = f.SettledAt
		if best >= 0 && f.Auto.Demands[best].Floor && to > d.Value { // protection does not wait
			d.take(Demanding, best, to)
		}
		return
	}
	switch {
	case best >= 0:
		d.take(Demanding, best, to)
	case unknown >= 0 && f.Grace && f.Last != nil:
		d.take(Waiting, unknown, *f.Last)
	case unknown >= 0:
		d.take(FellBack, unknown, fallback(f))
	case permit == False:
		d.take(NotAllowed, missing, f.Auto.Idle)
	default:
		d.take(Idle, 0, f.Auto.Idle)
	}
}

func fallback(f *Facts) site.Amount {
	if f.Auto.Fallback != nil {
		return *f.Auto.Fallback
	}
	return f.Config.Safe
}

// limit applies the run limits. Which of them bind depends on where the value came from:
//
//	limit          auto    by hand, preset, followed   interlock
//	longest on     binds   binds, until told anew      does not bind one that forces on
//	shortest on    binds   never delays an off         never delays
//	shortest off,  binds   binds                       only where a restart hurts
//	rest
//	starts an hour binds   does not                    does not
//
// The longest on is a budget: what was on counts until it was off for a whole rest.
// A fall to the fallback delays no off either: it is there because nobody knows. Long, because it is one decision in
// its order, and each case names the next.
func limit(f *Facts, d *Decision) {
	l := &f.Auto.Limits
	if *l == (site.RunLimits{}) && f.Spent == NoLimit {
		return
	}
	running := f.Last != nil && *f.Last > 0
	binds := d.Step != Interlocked
	if d.Value > 0 && binds && f.Spent != NoLimit {
		d.Keep(f.Config.Safe, f.Spent)
		return
	}
	if d.Value > 0 && running {
		if longest := site.Millis(l.LongestOnMS); longest > 0 && binds {
			end := f.OnSince + longest - f.Used
			if f.Now >= end {
				d.Keep(f.Config.Safe, LongestOn)
				d.Rests = true
				d.Next = f.Now + l.Rest()
				return
			}
			sooner(d, end)
		}
		return
	}
	if d.Value > 0 && (binds || l.RestartHurts) {
		rest := f.RestUntil
		if l.LongestOnMS > 0 && f.Used >= site.Millis(l.LongestOnMS) && f.Last != nil { // it was forced on for so long
			rest = max(rest, f.OffSince+l.Rest())
		}
		if f.Now < rest {
			d.Keep(0, Rest)
			sooner(d, rest)
			return
		}
		if end := f.OffSince + site.Millis(l.ShortestOffMS); l.ShortestOffMS > 0 && f.Last != nil && f.Now < end {
			d.Keep(0, ShortestOff)
			sooner(d, end)
			return
		}
		if n := l.StartsAnHour; n > 0 && binds && d.Step != ByHand && len(f.Starts) >= n {
			if end := f.Starts[len(f.Starts)-n] + time.Hour; f.Now < end {
				d.Keep(0, Starts)
				sooner(d, end)
			}
		}
		return
	}
	if d.Value == 0 && running && (d.Step == NotAllowed || d.Step == Idle || d.Step == Demanding) {
		if end := f.OnSince + site.Millis(l.ShortestOnMS); l.ShortestOnMS > 0 && f.Now < end {
			long := f.OnSince + site.Millis(l.LongestOnMS) - f.Used
			if l.LongestOnMS == 0 {
				long = end
			}
			if f.Now < long {
				d.Keep(*f.Last, ShortestOn)
				sooner(d, min(end, long))
			}
		}
	}
}

func sooner(d *Decision, at time.Duration) {
	if d.Next == 0 || at < d.Next {
		d.Next = at
	}
}
