package engine

import (
	"maps"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// place decides the time of a reading of the device.
func (d *device) place(now Now, stamp time.Time, interval time.Duration) (reading.Placed, error) {
	if !now.Trusted {
		return d.clock.PlaceUnset(now.Wall, stamp, interval)
	}
	return d.clock.Place(now.Wall, stamp, interval)
}

// lookAgain has everything looked at that depends on the time of day, because the clock began or ceased to be trusted.
func (e *Engine) lookAgain() {
	for _, b := range e.order {
		if b.f.Every > 0 {
			e.queue(b)
		}
	}
	for _, id := range sorted(e.controls) {
		e.mark(e.controls[id])
	}
	for _, id := range sorted(e.liveAlerts) {
		e.markAlert(e.liveAlerts[id])
	}
}

// clockSet moves what the hub stamped since In.From by the wrong clock along with it, so that what was "five minutes
// ago" and "for two hours more" still is. Ends that were set before that stay where they are. The monotonic clock,
// which limits and delays go by, knows nothing of it. Long, because it is one list of all that bears a stamp.
func (e *Engine) clockSet(in ClockSet) {
	given := func(t time.Time) bool { return !t.IsZero() && !t.Before(in.From) }
	moved := false
	// move is for what has been; what was stamped before and would be yet to come has just been.
	move := func(times ...*time.Time) {
		for _, t := range times {
			at := *t
			if given(at) {
				at = at.Add(in.By)
			}
			if at.After(e.now.Wall) {
				at = e.now.Wall
			}
			if !at.Equal(*t) {
				*t, moved = at, true
			}
		}
	}
	// ends moves the end of what was begun at a time.
	ends := func(begun time.Time, end *time.Time) {
		if given(begun) && given(*end) {
			*end, moved = end.Add(in.By), true
		}
	}
	// rests moves the end of what lasts for a time of its own, and no longer whatever the clock shows.
	rests := func(begun time.Time, end *time.Time, span time.Duration) {
		if ends(begun, end); end.Sub(e.now.Wall) > span {
			*end, moved = e.now.Wall.Add(span), true
		}
	}
	for _, id := range sorted(e.devices) {
		d := e.devices[id]
		moved = false
		move(&d.Since, &d.LastHeard, &d.endedAt)
		d.clock.Move(in.From, in.By)
		if moved {
			e.emit(DeviceChanged{d.DeviceState})
		}
	}
	for _, id := range sorted(e.signals) {
		s := e.signals[id]
		moved = false
		if s.arrived() {
			move(&s.At)
		}
		move(&s.Heard)
		if s.At.After(e.now.Wall.Add(5 * time.Minute)) { // a board's own clock was believed that is further off than ours was
			s.At, moved = s.Heard, true
		}
		if moved {
			e.emit(SignalChanged{s.SignalState})
		}
	}
	for _, id := range sorted(e.controls) {
		x := e.controls[id]
		moved = false
		ends(x.HandAt, &x.HandUntil)
		if x.auto != nil {
			rests(x.StopAt, &x.RestUntil, x.auto.Limits.Rest())
		}
		move(&x.WantAt, &x.IsAt, &x.IsSince, &x.HandAt, &x.ServiceAt, &x.RunAt, &x.StopAt, &x.Pulse.At, &x.SettledAt)
		if on := e.now.Wall.Add(x.onSince - e.now.Mono); x.ran && running(x) && on.Sub(x.RunAt).Abs() > time.Second {
			x.RunAt, moved = on, true // for how long it runs the monotonic clock knows, and a restart goes by this
		}
		for _, d := range x.demands {
			move(&d.First, &d.Began)
			if given(d.At) {
				d.At = d.At.Add(in.By).Truncate(regulateEvery)
			}
			d.schedule.looked = false
		}
		x.Starts = slices.Clone(x.Starts) // what was told is compared by value
		for i := range x.Starts {
			move(&x.Starts[i])
		}
		if d := x.Damped; d != nil {
			next := *d
			ends(next.Until.Add(-next.For), &next.Until)
			x.Damped = &next
		}
		if moved {
			e.keepDemands(x)
			e.show(x)
		}
		for _, l := range x.interlocks {
			move(&l.At, &l.Since)
		}
		e.keepLocks(x)
		e.mark(x)
	}
	for _, id := range sorted(e.settings) {
		g := e.settings[id]
		moved = false
		ends(g.At, &g.Until)
		if move(&g.At); moved {
			e.emit(SettingChanged{g.SettingState})
		}
	}
	for _, id := range sorted(e.rules) {
		r := e.rules[id]
		moved = false
		rests(r.Fired, &r.Rests, max(site.Millis(r.cfg.RestMS), firstDamping))
		if move(&r.Fired, &r.Since); moved {
			e.keepRule(r)
		}
		e.markRule(r)
	}
	for _, key := range sorted(e.conds) {
		c := e.conds[key]
		moved = false
		if move(&c.At, &c.Since); moved {
			e.keepCond(c)
		}
	}
	for _, id := range sorted(e.liveAlerts) {
		x := e.liveAlerts[id]
		moved = false
		rests(x.Ended, &x.RestUntil, site.Millis(x.cfg.RestMS))
		move(&x.Since, &x.Ended, &x.AckedAt, &x.OutAt, &x.Late)
		told := maps.Clone(x.Told)
		for route, t := range told {
			move(&t.At)
			told[route] = t
		}
		if x.Told = told; moved {
			e.emit(AlertChanged{State: x.State, By: access.HubActor(), Value: e.alertFact(x)})
		}
		e.markAlert(x)
	}
	for _, id := range sorted(e.points) {
		for _, w := range e.points[id].windows {
			*w.w, w.filled, w.recent = *formula.NewWindow(w.need.Span), false, nil
			e.emit(NeedHistory(w.need))
		}
	}
	e.lookAgain()
}
