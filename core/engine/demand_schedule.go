package engine

import (
	"fmt"
	"time"

	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// Scheduled demands at times of day.
const Scheduled site.DemandKind = "schedule"

type scheduled struct{}

// timetable is how it stands with a schedule.
type timetable struct {
	on     bool
	next   time.Time // when that changes; zero: not within a week
	again  time.Time // when it is looked at anew
	looked bool
}

func (scheduled) name() site.DemandKind { return Scheduled }

func (scheduled) validate(d site.Demand, _ site.Control) error {
	if d.Schedule == nil {
		return fmt.Errorf("the schedule is missing")
	}
	return d.Schedule.Validate()
}

func (scheduled) build(*binder, *demand) {}
func (scheduled) timed()                 {}

func (scheduled) demanded(e *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	out, s := control.Demanded{To: d.to(x)}, &d.schedule
	if !e.now.Trusted {
		s.looked, s.next = false, time.Time{}
		return out, 0 // unknown, until the clock is right
	}
	if !s.looked || !e.now.Wall.Before(s.again) || s.again.Sub(e.now.Wall) > 9*24*time.Hour {
		s.on, s.next = d.cfg.Schedule.At(e.now.Wall.In(e.zone), e.spot())
		if s.looked, s.again = true, s.next; s.next.IsZero() { // nothing within a week
			s.again = e.now.Wall.Add(24 * time.Hour)
		}
	}
	out.Is = tri(s.on)
	return out, e.mono(s.again)
}

func (scheduled) aloud(s *site.Site, d site.Demand) words.Fact {
	if d.Schedule == nil {
		return words.Of("schedule.never")
	}
	return d.Schedule.Says(s.Hub.Location())
}

func (scheduled) says(e *Engine, _ *controlled, d *demand) words.Fact {
	switch {
	case !e.now.Trusted:
		return words.Of("demand.clock")
	case d.schedule.on:
		return words.Of("demand.until", "At", e.local(d.schedule.next))
	case d.schedule.next.IsZero():
		return words.Of("demand.never")
	}
	return words.Of("demand.next", "At", e.local(d.schedule.next))
}

func (scheduled) turns(d *demand) (at time.Time, on bool) { return d.schedule.next, !d.schedule.on }

func (scheduled) upcoming(e *Engine, x *controlled, d *demand, from, to time.Time) (list []Upcoming) {
	what := x.cfg.Told(d.to(x))
	if d.cfg.Name != "" {
		what = words.Of("next.named", "What", what, "Name", d.cfg.Name)
	}
	if x.Mode == Manual {
		what = words.Of("next.while_hand", "What", what)
	}
	for _, r := range d.cfg.Schedule.Runs(from.In(e.zone), to.In(e.zone), e.spot()) {
		list = append(list, Upcoming{At: r.From, ID: x.ID, What: what, Ends: r.To})
	}
	return list
}
