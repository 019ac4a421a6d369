package site

import (
	"cmp"
	"time"

	"idleember/core/words"
)

// Alerts of what does not come or does not answer.
const (
	AlertSilent      AlertKind = "silent"      // no reading for a time
	AlertStale       AlertKind = "stale"       // late by three intervals
	AlertOffline     AlertKind = "offline"     // a device is away
	AlertUnconfirmed AlertKind = "unconfirmed" // a control's device does not say that it switched
	AlertNoEffect    AlertKind = "no_effect"   // a control's proof is missing
)

type (
	silent      struct{}
	stale       struct{}
	offline     struct{}
	unconfirmed struct{}
	noEffect    struct{}
)

func (silent) name() AlertKind { return AlertSilent }
func (silent) tells() Telling  { return TellsReading }
func (silent) elsewhere() bool { return false }
func (silent) validate(a *Alert, of alertThing) error {
	return cmp.Or(needs(of.signal, a, "signal"), lasts(a, 30*24*time.Hour))
}

func (silent) condition(a *Alert) Condition {
	return Condition{When: "age(" + a.Of + ") > " + inFormula(Millis(a.SpanMS).Minutes())}
}

func (silent) limit(a *Alert, _ func(float64) words.Quantity) words.Fact {
	return words.Of("bound.silent", "For", Millis(a.SpanMS))
}

func (silent) bounds(a *Alert) (Bounds, bool) {
	b := unbounded
	b.Silent = Millis(a.SpanMS)
	return b, true
}

func (stale) name() AlertKind                        { return AlertStale }
func (stale) tells() Telling                         { return TellsReading }
func (stale) elsewhere() bool                        { return true }
func (stale) validate(a *Alert, of alertThing) error { return needs(of.signal, a, "signal") }
func (stale) condition(a *Alert) Condition           { return Condition{When: a.Of + `.state == "stale"`} }

func (offline) name() AlertKind                        { return AlertOffline }
func (offline) tells() Telling                         { return TellsPresence }
func (offline) elsewhere() bool                        { return false }
func (offline) validate(a *Alert, of alertThing) error { return needs(of.device, a, "device") }
func (offline) condition(a *Alert) Condition           { return Condition{When: a.Of + ".online == off"} }

func (unconfirmed) name() AlertKind                        { return AlertUnconfirmed }
func (unconfirmed) tells() Telling                         { return TellsWant }
func (unconfirmed) elsewhere() bool                        { return true }
func (unconfirmed) validate(a *Alert, of alertThing) error { return needs(of.control, a, "control") }
func (unconfirmed) condition(a *Alert) Condition {
	return Condition{When: a.Of + `.phase == "unconfirmed"`}
}

func (noEffect) name() AlertKind                        { return AlertNoEffect }
func (noEffect) tells() Telling                         { return TellsWant }
func (noEffect) elsewhere() bool                        { return true }
func (noEffect) validate(a *Alert, of alertThing) error { return needs(of.control, a, "control") }
func (noEffect) condition(a *Alert) Condition           { return Condition{When: a.Of + `.proof == "missing"`} }
