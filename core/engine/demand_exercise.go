package engine

import (
	"fmt"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// Exercise demands a short run where there was none for days.
const Exercise site.DemandKind = "exercise"

type exercise struct{}

func (exercise) name() site.DemandKind { return Exercise }

func (exercise) validate(d site.Demand, _ site.Control) error {
	if d.At == nil {
		return fmt.Errorf("tell at what time of day it is exercised")
	}
	if d.EveryMS < 3600_000 || d.EveryMS > 366*24*3600_000 || d.ForMS < 1000 || d.ForMS > 3600_000 {
		return fmt.Errorf("exercise it every 1 h to a year, for 1 s to 1 h")
	}
	return d.At.Validate()
}

func (exercise) build(*binder, *demand) {}

func (k exercise) demanded(e *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	is, again := k.at(e, x, d)
	return control.Demanded{Is: is, To: d.to(x)}, e.monoOf(again)
}

// at is true for a short run at its time of day, where the last run is long enough ago.
func (k exercise) at(e *Engine, x *controlled, d *demand) (is control.Tri, again time.Time) {
	run := site.Millis(d.cfg.ForMS)
	if !d.Began.IsZero() && e.now.Wall.Before(d.Began.Add(run)) {
		return control.True, d.Began.Add(run)
	}
	if !e.now.Trusted { // it can wait
		return control.False, time.Time{}
	}
	wall := e.now.Wall.In(e.zone)
	today, ok := d.cfg.At.At(wall, e.spot())
	due := ok && !wall.Before(today) && wall.Before(today.Add(time.Hour))
	last := k.lastRun(x, d)
	idle := x.Want == nil || *x.Want == 0
	if due && idle && (last.IsZero() || wall.Sub(last) >= k.pause(d)) {
		d.Began = e.now.Wall
		e.keepDemands(x)
		return control.True, e.now.Wall.Add(run)
	}
	if !ok || !wall.Before(today) {
		today, ok = d.cfg.At.At(calendar.Midnight(calendar.Midnight(wall).Add(36*time.Hour)), e.spot())
	}
	if !ok {
		today = wall.Add(time.Hour)
	}
	return control.False, today
}

// pause is how long ago the last run must have ended: a little less than what its owner chose, so that it stays at its
// time of day where a run takes its time, and where clocks are put on; and long enough that it runs once a day.
func (exercise) pause(d *demand) time.Duration {
	return max(time.Hour, site.Millis(d.cfg.EveryMS)-time.Hour-site.Millis(d.cfg.ForMS))
}

// lastRun is when a control that is exercised ran last, as far as is known.
func (exercise) lastRun(x *controlled, d *demand) (last time.Time) {
	if !x.RunAt.IsZero() {
		last = x.StopAt
	}
	if d.Began.After(last) {
		last = d.Began
	}
	return last
}

// next is when the control is exercised next if it does not run before, from a time on.
func (k exercise) next(e *Engine, x *controlled, d *demand, from time.Time) (at time.Time, ok bool) {
	last := k.lastRun(x, d)
	if !last.IsZero() {
		from = later(from, last.Add(k.pause(d)))
	}
	for day := from.In(e.zone); day.Before(from.Add(72 * time.Hour)); day = day.AddDate(0, 0, 1) {
		if at, ok = d.cfg.At.At(day, e.spot()); ok && !at.Before(from) {
			return at, true
		}
	}
	return at, false
}

func (exercise) aloud(_ *site.Site, d site.Demand) words.Fact {
	f := words.Of("when.exercise", "For", site.Millis(d.ForMS), "Every", site.Millis(d.EveryMS), "At", words.Fact{})
	if d.At != nil {
		f.With[2].Is = d.At.Says()
	}
	return f
}

func (exercise) says(e *Engine, _ *controlled, d *demand) words.Fact {
	if !d.Began.IsZero() && e.now.Wall.Before(d.Began.Add(site.Millis(d.cfg.ForMS))) {
		return words.Of("demand.exercised", "For", site.Millis(d.cfg.ForMS))
	}
	return words.Of("demand.exercise", "At", d.cfg.At.Says(), "Every", site.Millis(d.cfg.EveryMS))
}

func (k exercise) upcoming(e *Engine, x *controlled, d *demand, from, to time.Time) []Upcoming {
	if at, ok := k.next(e, x, d, from); ok && at.Before(to) {
		return []Upcoming{{At: at, ID: x.ID, What: words.Of("next.exercised"), Ends: at.Add(site.Millis(d.cfg.ForMS))}}
	}
	return nil
}
