package engine

import (
	"fmt"
	"strconv"
	"time"

	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
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

func (k hold) aloud(s *site.Site, d site.Demand) words.Fact {
	f := words.Of("when.below", "Of", called(s, d.Of), "Target", called(s, d.Target))
	if k.kind == HoldBelow {
		f.Code = "when.above"
	}
	if d.Band > 0 {
		f = words.Of("when.by", "When", f, "Band", words.Quantity{Num: d.Band, Decimals: -1})
	}
	return f
}

// says how a quantity stands to its setpoint, and only what is so.
func (k hold) says(e *Engine, _ *controlled, d *demand) words.Fact {
	c := d.cfg
	of, target := e.bind(c.Of), e.bind(c.Target)
	e.eval(of)
	e.eval(target)
	name, unit := e.nameOf(c.Of), of.f.Unit
	switch {
	case !of.value.Known:
		return words.Of("demand.unknown", "Name", name)
	case !target.value.Known:
		return words.Of("demand.setpoint_unknown", "Name", name)
	}
	a, b := apart(of.value.Num, target.value.Num, unit)
	beyond, other, far := of.value.Num < target.value.Num, "demand.above", "demand.below"
	if k.kind == HoldBelow {
		beyond, other, far = of.value.Num > target.value.Num, "demand.below", "demand.above"
	}
	band := words.Quantity{Num: c.Band, Unit: unit, Decimals: -1, Apart: true}
	stands := func(code string, more ...any) words.Fact {
		f := words.Of(code, append([]any{"Name", name, "Is", a, "To", b}, more...)...)
		if c.Band > 0 {
			f = words.Of("demand.band", "What", f, "Band", band)
		}
		return f
	}
	switch on := d.cond.when.value.True(); {
	case of.value.Num == target.value.Num:
		return stands("demand.at")
	case !beyond:
		return stands(other)
	case d.cond.Is == control.True && !on:
		return stands("demand.not_yet")
	case d.cond.Is != control.True && d.cond.due > 0:
		return stands(far+"_soon", "Left", max(d.cond.due-e.now.Mono, 0))
	case d.cond.Is != control.True && !on:
		return words.Of("demand.within", "Name", name, "Is", a, "To", b, "Band", band)
	}
	return stands(far)
}
