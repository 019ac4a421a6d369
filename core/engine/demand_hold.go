package engine

import (
	"fmt"
	"strconv"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
)

// Demands that hold a quantity at a setpoint, with a dead band.
const (
	HoldAbove site.DemandKind = "hold_above" // heat or humidify: on below the setpoint
	HoldBelow site.DemandKind = "hold_below" // cool, dry or extract: on above the setpoint
)

type hold struct{ kind site.DemandKind }

var holdAbove, holdBelow = hold{HoldAbove}, hold{HoldBelow}

func (k hold) name() site.DemandKind { return k.kind }

func (hold) validate(d site.Demand, _ site.Control) error {
	switch {
	case d.Of == "" || d.Target == "":
		return fmt.Errorf("tell what is held and at which setpoint")
	case !(d.Band >= 0):
		return fmt.Errorf("the dead band is negative; choose 0 or more")
	}
	return nil
}

// condition becomes true a dead band away from the setpoint, and false at it.
func (k hold) condition(d site.Demand) site.Condition {
	below, at, sign := "<", ">=", "-"
	if k.kind == HoldBelow {
		below, at, sign = ">", "<=", "+"
	}
	c := site.Condition{When: fmt.Sprintf("(%s) %s (%s)", d.Of, below, d.Target), AfterMS: d.AfterMS, SettleMS: d.SettleMS}
	if d.Band > 0 {
		c.When += " " + sign + " " + strconv.FormatFloat(d.Band, 'f', -1, 64)
		c.Until = fmt.Sprintf("(%s) %s (%s)", d.Of, at, d.Target)
	}
	return c
}

func (k hold) build(b *binder, d *demand) { d.cond = b.condition(k.condition(*d.cfg)) }

func (hold) demanded(_ *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	return control.Demanded{Is: d.cond.Is, To: d.to(x)}, 0
}

// words say how a quantity stands to its setpoint. They state only what is so.
func (k hold) words(e *Engine, _ *controlled, d *demand) string {
	c := d.cfg
	of, target := e.bind(c.Of), e.bind(c.Target)
	e.eval(of)
	e.eval(target)
	name, unit := e.nameOf(c.Of), of.f.Unit
	switch {
	case !of.value.Known:
		return name + " is unknown"
	case !target.value.Known:
		return "the setpoint of " + name + " is unknown"
	}
	a, b := apart(of.value.Num, target.value.Num, unit)
	beyond, other, far := of.value.Num < target.value.Num, "above", "below"
	if k.kind == HoldBelow {
		beyond, other, far = of.value.Num > target.value.Num, "below", "above"
	}
	band := ""
	if c.Band > 0 {
		band = fmt.Sprintf(" (dead band %g)", c.Band)
	}
	switch {
	case of.value.Num == target.value.Num:
		return fmt.Sprintf("%s %s is at the setpoint%s", name, a, band)
	case !beyond:
		return fmt.Sprintf("%s %s is %s the setpoint %s%s", name, a, other, b, band)
	case d.cond.Is == control.True && !d.cond.when.value.True():
		return fmt.Sprintf("%s %s has not reached the setpoint %s yet%s", name, a, b, band)
	case d.cond.Is != control.True && d.cond.due > 0:
		return fmt.Sprintf("%s %s is %s the setpoint %s, and counts in %s%s", name, a, far, b,
			calendar.Words(d.cond.due-e.now.Mono), band)
	case d.cond.Is != control.True && !d.cond.when.value.True():
		return fmt.Sprintf("%s %s is within the dead band of %g at the setpoint %s", name, a, c.Band, b)
	}
	return fmt.Sprintf("%s %s is %s the setpoint %s%s", name, a, far, b, band)
}
