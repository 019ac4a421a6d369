package site

import (
	"fmt"
	"strconv"
	"strings"

	"idleember/core/words"
)

// Alerts of what is, of what is due, and of anything else.
const (
	AlertEvent   AlertKind = "event"   // something is on, or a word: motion, a door
	AlertService AlertKind = "service" // a control ran for so many hours since its last service
	AlertFormula AlertKind = "formula" // anything else
)

type (
	event        struct{}
	service      struct{}
	formulaAlert struct{}
)

func (event) name() AlertKind { return AlertEvent }
func (event) tells() Telling  { return TellsValue }

func (event) validate(a *Alert, of alertThing) error {
	if of.signal && of.kind == Number {
		return fmt.Errorf("%s is a number; an event is something that is on, or a word", a.Of)
	}
	return needs(of.signal || of.control, a, "signal or control")
}

func (event) condition(a *Alert) Condition {
	if a.Word != "" {
		return Condition{When: a.Of + " == " + strconv.Quote(a.Word)}
	}
	return Condition{When: a.Of}
}

func (event) bounds(a *Alert) (Bounds, bool) {
	b := unbounded
	b.High, b.HighEnd = 0.5, 0.5
	return b, a.Word == ""
}

func (service) name() AlertKind { return AlertService }
func (service) tells() Telling  { return TellsHours }

func (service) validate(a *Alert, of alertThing) error {
	if a.Limit <= 0 {
		return fmt.Errorf("tell after how many hours the service is due")
	}
	return needs(of.control, a, "control")
}

func (service) condition(a *Alert) Condition {
	return Condition{When: a.Of + ".hours >= " + inFormula(a.Limit)}
}

func (service) limit(a *Alert, _ func(float64) words.Quantity) words.Fact {
	return words.Of("bound.service", "Hours", words.Quantity{Num: a.Limit, Unit: "h", Decimals: -1})
}

func (formulaAlert) name() AlertKind              { return AlertFormula }
func (formulaAlert) tells() Telling               { return TellsFormula }
func (formulaAlert) condition(a *Alert) Condition { return Condition{When: a.When, Until: a.Until} }

func (formulaAlert) validate(a *Alert, _ alertThing) error {
	if strings.TrimSpace(a.When) == "" {
		return fmt.Errorf("the formula is empty; write one such as drying_room.humidity > 60")
	}
	return nil
}
