package site

import (
	"cmp"
	"fmt"
	"time"

	"idleember/core/words"
)

// Alerts of how something changes.
const (
	AlertFaster    AlertKind = "faster"    // it rises or falls by more than a limit in a time
	AlertTrend     AlertKind = "trend"     // as it went in the last while, it reaches a limit within a time
	AlertUnchanged AlertKind = "unchanged" // the same value for a time
)

type (
	faster    struct{}
	trend     struct{}
	unchanged struct{}
)

func goes(a *Alert) string {
	if a.Falls {
		return "falls"
	}
	return "rises"
}

func (faster) name() AlertKind { return AlertFaster }
func (faster) tells() Telling  { return TellsValue }

func (faster) validate(a *Alert, of alertThing) error {
	if a.Limit <= 0 {
		return fmt.Errorf("it must change by more than 0; tell by how much")
	}
	return cmp.Or(needs(of.quantity, a, "number signal"), lasts(a, 7*24*time.Hour))
}

func (faster) condition(a *Alert) Condition {
	rise := "rise(" + a.Of + ", " + spanInFormula(Millis(a.SpanMS)) + ")"
	if a.Falls {
		return Condition{When: rise + " < " + inFormula(-a.Limit), Until: rise + " >= " + inFormula(min(0, a.Band-a.Limit))}
	}
	return Condition{When: rise + " > " + inFormula(a.Limit), Until: rise + " <= " + inFormula(max(0, a.Limit-a.Band))}
}

func (faster) limit(a *Alert, num func(float64) words.Quantity) words.Fact {
	return words.Of("bound.faster_"+goes(a), "Limit", num(a.Limit), "In", Millis(a.SpanMS))
}

func (trend) name() AlertKind { return AlertTrend }
func (trend) tells() Telling  { return TellsValue }

func (trend) validate(a *Alert, of alertThing) error {
	return cmp.Or(needs(of.quantity, a, "number signal"), lasts(a, 30*24*time.Hour))
}

// condition goes straight on as it went in as long a time before, but in no more than a day and no less than ten
// minutes of it.
func (trend) condition(a *Alert) Condition {
	over := Millis(a.SpanMS)
	back := min(max(over, 10*time.Minute), 24*time.Hour)
	then := a.Of + " + rise(" + a.Of + ", " + spanInFormula(back) + ") * " + inFormula(float64(over)/float64(back))
	if a.Falls {
		return Condition{When: then + " < " + inFormula(a.Limit), Until: then + " >= " + inFormula(a.Limit+a.Band)}
	}
	return Condition{When: then + " > " + inFormula(a.Limit), Until: then + " <= " + inFormula(a.Limit-a.Band)}
}

func (trend) limit(a *Alert, num func(float64) words.Quantity) words.Fact {
	return words.Of("bound.trend_"+goes(a), "Limit", num(a.Limit), "In", Millis(a.SpanMS))
}

func (unchanged) name() AlertKind { return AlertUnchanged }
func (unchanged) tells() Telling  { return TellsValue }

func (unchanged) validate(a *Alert, of alertThing) error {
	return cmp.Or(needs(of.signal && of.kind != Text, a, "number or on/off signal"), lasts(a, 7*24*time.Hour))
}

func (unchanged) condition(a *Alert) Condition {
	return Condition{When: "changes(" + a.Of + ", " + spanInFormula(Millis(a.SpanMS)) + ") == 0"}
}

func (unchanged) limit(a *Alert, _ func(float64) words.Quantity) words.Fact {
	return words.Of("bound.unchanged", "For", Millis(a.SpanMS))
}
