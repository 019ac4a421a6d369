// Package control decides what a control should be. It is pure: what the engine knows comes in as Facts, and the same facts
// give the same Decision. Time is that of a clock that never jumps.
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
	Interlocks []Tri        // of Auto.Interlocks; unknown forces as true does
	Hand       *site.Amount // by hand; nil: auto, or never told anything
	ByPreset   bool         // a preset set it
	Permits    []Tri
	Demands    []Demanded

	Grace     bool          // shortly after a start: what is not known yet leaves things as they are
	SettledAt time.Duration // auto counts on its readings from then on

	Last      *site.Amount  // what is wanted now
	OnSince   time.Duration // since when Last has not been 0
	OffSince  time.Duration // since when it has
	RestUntil time.Duration
}

// Step is the step of the decision that applied.
type Step string

// The steps, in the order in which they are tried.
const (
	Nothing     Step = ""          // never told anything
	OutOfWork   Step = "service"   // out of service
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
	Shared      Limit = "group" // another control of its group
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
}

// Decide takes a decision. The steps and limits are those of the house: out of service, interlock, by hand, auto, fallback;
// then the run limits, by where the value came from.
func Decide(f *Facts) (d Decision) {
	choose(f, &d)
	switch {
	case d.Step == Nothing || d.Step == OutOfWork && f.Service == OutSilent:
		return d
	case f.Auto != nil && d.Step != OutOfWork:
		limit(f, &d)
	}
	return d
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
	if f.Auto != nil {
		for i, is := range f.Interlocks {
			if is != False {
				to := f.Config.Safe
				if x := f.Auto.Interlocks[i].To; x != nil {
					to = *x
				}
				d.take(Interlocked, i, to)
				return
			}
		}
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

// floor returns the highest demand that protects.
func floor(f *Facts) (index int, to site.Amount, ok bool) {
	for i, x := range f.Demands {
		if f.Auto.Demands[i].Floor && x.Is == True && (!ok || x.To > to) {
			index, to, ok = i, x.To, true
		}
	}
	return index, to, ok
}

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
//	longest on     binds   binds                       does not bind one that forces on
//	shortest on    binds   never delays an off         never delays
//	shortest off,  binds   binds                       only where a restart hurts
//	rest
//
// A fall to the fallback delays no off either: it is there because nobody knows.
func limit(f *Facts, d *Decision) {
	l := &f.Auto.Limits
	if *l == (site.RunLimits{}) {
		return
	}
	running := f.Last != nil && *f.Last > 0
	if d.Value > 0 && running {
		if l.LongestOnMS > 0 && d.Step != Interlocked {
			end := f.OnSince + site.Millis(l.LongestOnMS)
			if f.Now >= end {
				d.Keep(f.Config.Safe, LongestOn)
				d.Rests = true
				d.Next = f.Now + site.Millis(l.RestMS)
				return
			}
			sooner(d, end)
		}
		return
	}
	if d.Value > 0 && (d.Step != Interlocked || l.RestartHurts) {
		if f.Now < f.RestUntil {
			d.Keep(0, Rest)
			sooner(d, f.RestUntil)
			return
		}
		if end := f.OffSince + site.Millis(l.ShortestOffMS); l.ShortestOffMS > 0 && f.Last != nil && f.Now < end {
			d.Keep(0, ShortestOff)
			sooner(d, end)
		}
		return
	}
	if d.Value == 0 && running && (d.Step == NotAllowed || d.Step == Idle || d.Step == Demanding) {
		if end := f.OnSince + site.Millis(l.ShortestOnMS); l.ShortestOnMS > 0 && f.Now < end {
			if long := f.OnSince + site.Millis(l.LongestOnMS); l.LongestOnMS == 0 || f.Now < long {
				d.Keep(*f.Last, ShortestOn)
				sooner(d, end)
			}
		}
	}
}

func sooner(d *Decision, at time.Duration) {
	if d.Next == 0 || at < d.Next {
		d.Next = at
	}
}
