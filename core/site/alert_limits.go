package site

import (
	"fmt"

	"idleember/core/words"
)

// Alerts of a limit or a band.
const (
	AlertAbove   AlertKind = "above"   // a number is above a limit
	AlertBelow   AlertKind = "below"   // or below
	AlertOutside AlertKind = "outside" // or outside a band
)

type (
	above   struct{}
	below   struct{}
	outside struct{}
)

func (above) name() AlertKind { return AlertAbove }
func (above) tells() Telling  { return TellsValue }
func (above) validate(a *Alert, of alertThing) error {
	return needs(of.quantity, a, "number signal or setting")
}
func (k above) condition(a *Alert) Condition { return k.at(a, a.Limit) }
func (above) limit(a *Alert, num func(float64) words.Quantity) words.Fact {
	return words.Of("bound.above", "Limit", num(a.Limit))
}
func (above) at(a *Alert, limit float64) Condition {
	return Condition{When: a.Of + " > " + inFormula(limit), Until: a.Of + " <= " + inFormula(limit-a.Band)}
}

func (above) bounds(a *Alert) (Bounds, bool) {
	b := unbounded
	b.High, b.HighEnd = a.Limit, a.Limit-a.Band
	return b, true
}

func (below) name() AlertKind { return AlertBelow }
func (below) tells() Telling  { return TellsValue }
func (below) validate(a *Alert, of alertThing) error {
	return needs(of.quantity, a, "number signal or setting")
}
func (k below) condition(a *Alert) Condition { return k.at(a, a.Limit) }
func (below) limit(a *Alert, num func(float64) words.Quantity) words.Fact {
	return words.Of("bound.below", "Limit", num(a.Limit))
}
func (below) at(a *Alert, limit float64) Condition {
	return Condition{When: a.Of + " < " + inFormula(limit), Until: a.Of + " >= " + inFormula(limit+a.Band)}
}

func (below) bounds(a *Alert) (Bounds, bool) {
	b := unbounded
	b.Low, b.LowEnd = a.Limit, a.Limit+a.Band
	return b, true
}

func (outside) name() AlertKind { return AlertOutside }
func (outside) tells() Telling  { return TellsValue }

func (outside) validate(a *Alert, of alertThing) error {
	if a.Upper <= a.Limit || a.Band > (a.Upper-a.Limit)/2 {
		return fmt.Errorf("a band from %g to %g with a dead band of %g cannot be; its upper end is above the lower one, "+
			"and the dead band fits into it", a.Limit, a.Upper, a.Band)
	}
	return needs(of.quantity, a, "number signal or setting")
}

func (outside) condition(a *Alert) Condition {
	return Condition{When: a.Of + " < " + inFormula(a.Limit) + " or " + a.Of + " > " + inFormula(a.Upper),
		Until: a.Of + " >= " + inFormula(a.Limit+a.Band) + " and " + a.Of + " <= " + inFormula(a.Upper-a.Band)}
}

func (outside) limit(a *Alert, num func(float64) words.Quantity) words.Fact {
	return words.Of("bound.outside", "Low", num(a.Limit), "High", num(a.Upper))
}

func (outside) bounds(a *Alert) (Bounds, bool) {
	return Bounds{Low: a.Limit, LowEnd: a.Limit + a.Band, High: a.Upper, HighEnd: a.Upper - a.Band}, true
}
