package engine

import (
	"fmt"
	"strconv"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
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

func (dayLength) aloud(s *site.Site, d site.Demand) words.Fact {
	if n, err := strconv.ParseFloat(d.Hours, 64); err == nil {
		return words.Of("when.day_length", "Hours", words.Quantity{Num: n, Unit: "h", Decimals: -1})
	}
	return words.Of("when.day_length_by", "Name", called(s, d.Hours))
}

func (dayLength) says(e *Engine, _ *controlled, d *demand) words.Fact {
	if !e.now.Trusted {
		return words.Of("demand.day_clock")
	}
	if d.First.IsZero() {
		return words.Of("demand.day_waits")
	}
	end := d.First.Add(time.Duration(d.target.value.Num * float64(time.Hour)))
	day := words.Of("demand.day", "Hours", words.Quantity{Num: d.target.value.Num, Unit: "h", Decimals: -1}, "From",
		e.local(d.First), "Until", e.local(end))
	switch {
	case d.cond.Is == control.True:
		return words.All(day, words.Of("demand.light"))
	case e.now.Wall.Before(end):
		return words.All(day, words.Of("demand.dark"))
	}
	return day
}
