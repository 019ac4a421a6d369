package engine

import (
	"fmt"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
)

// DayLength demands hours of light, counted from the day's first daylight.
const DayLength site.DemandKind = "day_length"

type dayLength struct{}

func (dayLength) name() site.DemandKind { return DayLength }

func (dayLength) validate(d site.Demand, _ site.Control) error {
	if d.Daylight == "" || d.Hours == "" {
		return fmt.Errorf("tell what daylight is, as in yard.daylight > 40, and how many hours")
	}
	return nil
}

func (dayLength) build(b *binder, d *demand) {
	d.cond = b.condition(site.Condition{When: d.cfg.Daylight})
	d.target = b.quantity(d.cfg.Hours)
}

func (dayLength) timed() {}

func (k dayLength) demanded(e *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	is, again := k.at(e, x, d)
	return control.Demanded{Is: is, To: d.to(x)}, e.monoOf(again)
}

// at is true while it is dark and the hours since the day's first daylight are not over.
func (dayLength) at(e *Engine, x *controlled, d *demand) (is control.Tri, again time.Time) {
	if !e.now.Trusted {
		return control.Unknown, time.Time{}
	}
	wall := e.now.Wall.In(e.zone)
	if d.cond.Is == control.True && (d.First.IsZero() ||
		calendar.Midnight(d.First.In(e.zone)) != calendar.Midnight(wall)) {
		d.First = e.now.Wall
		e.keepDemands(x)
	}
	if !d.target.value.Known {
		return control.Unknown, time.Time{}
	}
	end := d.First.Add(time.Duration(d.target.value.Num * float64(time.Hour)))
	switch {
	case d.First.IsZero() || !e.now.Wall.Before(end):
		return control.False, time.Time{}
	case d.cond.Is == control.Unknown:
		return control.Unknown, end
	}
	return tri(d.cond.Is == control.False), end
}

func (dayLength) words(e *Engine, _ *controlled, d *demand) string {
	if !e.now.Trusted {
		return "the length of its day waits until the hub's clock is right"
	}
	if d.First.IsZero() {
		return "waits for the day's first daylight"
	}
	end := d.First.Add(time.Duration(d.target.value.Num * float64(time.Hour)))
	text := fmt.Sprintf("%g h of light counted from %s, until %s", d.target.value.Num, e.when(d.First), e.when(end))
	if d.cond.Is == control.True {
		text += "; it is light"
	} else if e.now.Wall.Before(end) {
		text += "; it is dark"
	}
	return text
}
