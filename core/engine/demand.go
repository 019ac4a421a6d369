package engine

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
)

// demand is one demand of a control's auto.
type demand struct {
	cfg      *site.Demand
	cond     *cond  // hold, formula, and of a day length the daylight
	of       *bound // curve, regulate
	target   *bound // regulate; of a day length the hours
	schedule calendar.Schedule
	on       bool      // the schedule runs
	next     time.Time // when that changes; zero: not within a week
	again    time.Time // when it is looked at anew
	looked   bool
	DemandState
}

// DemandState is what a demand remembers.
type DemandState struct {
	Key      string      `json:"key"`
	First    time.Time   `json:"first,omitzero"`    // day length: the day's first daylight
	Began    time.Time   `json:"began,omitzero"`    // exercise: when the present run began
	Integral float64     `json:"integral,omitzero"` // regulate
	Diff     float64     `json:"diff,omitzero"`     // regulate: the difference since then
	Level    site.Amount `json:"level,omitzero"`    // curve, regulate: what it demanded last
	At       time.Time   `json:"at,omitzero"`       // regulate: when the integral was last put on
	moves    bool        // regulate: it is looked at when it is time to put it on again
}

// DemandsState is what the demands of a control remember. It is kept apart from the control's own state, because a regulator
// remembers something new every few seconds.
type DemandsState struct {
	Control string        `json:"control"`
	Demands []DemandState `json:"demands"`
}

// recall takes back what a demand remembers, where it is among that of its control.
func (d *demand) recall(list []DemandState) {
	if i := slices.IndexFunc(list, func(s DemandState) bool { return s.Key == d.Key }); i >= 0 {
		d.DemandState = list[i]
	}
}

// startAbove is how far above its lowest running level a level must be asked for before it starts, in per cent.
const startAbove = 2

// regulateEvery is how often a regulator looks at its difference, besides when a reading comes.
const regulateEvery = 5 * time.Second

func (d *demand) key() string { return asKey(*d.cfg) }

func asKey(d site.Demand) string {
	return fmt.Sprintf("%s|%s|%s|%s|%s|%g|%d", d.Kind, d.Of, d.Target, d.Daylight, d.When, d.Gain, d.EveryMS)
}

func (e *Engine) buildDemand(x *controlled, cfg *site.Demand) *demand {
	d := &demand{cfg: cfg}
	d.Key = d.key()
	uses := func(text string) *bound {
		b := e.bind(text)
		b.controls = append(b.controls, x)
		return b
	}
	switch cfg.Kind {
	case site.HoldAbove, site.HoldBelow:
		d.cond = e.condition(Hold(*cfg))
	case site.Whenever:
		d.cond = e.condition(cfg.Condition)
	case site.DayLength:
		d.cond = e.condition(site.Condition{When: cfg.Daylight})
		d.target = uses(cfg.Hours)
	case site.Scheduled:
		d.schedule = *cfg.Schedule
	case site.Curve:
		d.of = uses(cfg.Of)
	case site.Regulate:
		d.of, d.target = uses(cfg.Of), uses(cfg.Target)
	}
	if d.cond != nil {
		d.cond.controls = append(d.cond.controls, x)
	}
	return d
}

// Hold is the condition of holding a quantity: it becomes true a dead band away from the setpoint, and false at it.
func Hold(d site.Demand) site.Condition {
	below, at, sign := "<", ">=", "-"
	if d.Kind == site.HoldBelow {
		below, at, sign = ">", "<=", "+"
	}
	c := site.Condition{When: fmt.Sprintf("(%s) %s (%s)", d.Of, below, d.Target), AfterMS: d.AfterMS, SettleMS: d.SettleMS}
	if d.Band > 0 {
		c.When += " " + sign + " " + strconv.FormatFloat(d.Band, 'f', -1, 64)
		c.Until = fmt.Sprintf("(%s) %s (%s)", d.Of, at, d.Target)
	}
	return c
}

func tri(on bool) control.Tri {
	if on {
		return control.True
	}
	return control.False
}

// demanded is what the demand comes to, and when it must be looked at again, 0: not by the clock.
func (d *demand) demanded(e *Engine, x *controlled) (control.Demanded, time.Duration) {
	out := control.Demanded{To: x.cfg.Full()}
	if d.cfg.To != nil {
		out.To = *d.cfg.To
	}
	var again time.Time
	switch d.cfg.Kind {
	case site.HoldAbove, site.HoldBelow, site.Whenever:
		out.Is = d.cond.Is
	case site.Scheduled:
		if !e.now.Trusted {
			d.looked, d.next = false, time.Time{}
			return out, 0 // unknown, until the clock is right
		}
		if !d.looked || !e.now.Wall.Before(d.again) || d.again.Sub(e.now.Wall) > 9*24*time.Hour {
			d.on, d.next = d.schedule.At(e.now.Wall.In(e.zone), e.spot())
			if d.looked, d.again = true, d.next; d.next.IsZero() { // nothing within a week
				d.again = e.now.Wall.Add(24 * time.Hour)
			}
		}
		out.Is, again = tri(d.on), d.again
	case site.DayLength:
		out.Is, again = d.dayLength(e, x)
	case site.Exercise:
		out.Is, again = d.exercise(e, x)
	case site.Curve:
		out.Is, out.To = d.curve(x)
	case site.Regulate:
		if out.Is, out.To = d.regulate(e, x); d.moves {
			return out, e.now.Mono + e.now.Wall.Truncate(regulateEvery).Add(regulateEvery).Sub(e.now.Wall)
		}
	}
	if again.IsZero() {
		return out, 0
	}
	return out, e.mono(again)
}

// dayLength is true while it is dark and the hours since the day's first daylight are not over.
func (d *demand) dayLength(e *Engine, x *controlled) (control.Tri, time.Time) {
	if !e.now.Trusted {
		return control.Unknown, time.Time{}
	}
	wall := e.now.Wall.In(e.zone)
	if d.cond.Is == control.True && (d.First.IsZero() || calendar.Midnight(d.First.In(e.zone)) != calendar.Midnight(wall)) {
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

// exercise is true for a short run at its time of day, where the last run is long enough ago.
func (d *demand) exercise(e *Engine, x *controlled) (control.Tri, time.Time) {
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
	last := d.lastRun(x)
	idle := x.Want == nil || *x.Want == 0
	if due && idle && (last.IsZero() || wall.Sub(last) >= d.pause()) {
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

// pause is how long ago the last run must have ended: a little less than what its owner chose, so that it stays at its time of
// day where a run takes its time, and where clocks are put on; and long enough that it runs once a day.
func (d *demand) pause() time.Duration {
	return max(time.Hour, site.Millis(d.cfg.EveryMS)-time.Hour-site.Millis(d.cfg.ForMS))
}

// lastRun is when a control that is exercised ran last, as far as is known.
func (d *demand) lastRun(x *controlled) (last time.Time) {
	if !x.RunAt.IsZero() {
		last = x.StopAt
	}
	if d.Began.After(last) {
		last = d.Began
	}
	return last
}

// nextExercise is when the control is exercised next if it does not run before, from a time on.
func (d *demand) nextExercise(e *Engine, x *controlled, from time.Time) (at time.Time, ok bool) {
	last := d.lastRun(x)
	if !last.IsZero() {
		from = later(from, last.Add(d.pause()))
	}
	for day := from.In(e.zone); day.Before(from.Add(72 * time.Hour)); day = day.AddDate(0, 0, 1) {
		if at, ok = d.cfg.At.At(day, e.spot()); ok && !at.Before(from) {
			return at, true
		}
	}
	return at, false
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// keepDemands has the store remember what the demands of a control remember.
func (e *Engine) keepDemands(x *controlled) {
	var list []DemandState
	for _, d := range x.demands {
		if s := d.DemandState; !s.First.IsZero() || !s.Began.IsZero() || !s.At.IsZero() {
			list = append(list, s)
		}
	}
	e.emit(Keep{keptDemands, x.ID, DemandsState{x.ID, list}})
}

// level bounds an output, rounds it to whole per cent, and leaves it where the difference is not worth telling.
func (d *demand) level(x *controlled, out float64) site.Amount {
	most := d.cfg.Most
	if most == 0 {
		most = 100
	}
	out = min(max(out, d.cfg.Least), most)
	if lowest := float64(x.cfg.Lowest); lowest > 0 && (out < lowest || d.Level == 0 && out < lowest+startAbove) {
		out = 0 // it starts a little above the level at which it stops
	}
	if math.Abs(out-float64(d.Level)) >= 1 || out == 0 || out == most {
		d.Level = site.Amount(math.Round(out))
	}
	return d.Level
}

func (d *demand) curve(x *controlled) (control.Tri, site.Amount) {
	v := d.of.value
	if !v.Known {
		return control.Unknown, 0
	}
	p := d.cfg.Points
	i := slices.IndexFunc(p, func(q [2]float64) bool { return q[0] >= v.Num })
	var out float64
	switch {
	case i < 0:
		out = p[len(p)-1][1]
	case i == 0:
		out = p[0][1]
	default:
		a, b := p[i-1], p[i]
		out = a[1] + (v.Num-a[0])*(b[1]-a[1])/(b[0]-a[0])
	}
	to := d.level(x, out)
	return tri(to > 0), to
}

// regulate is a PI regulator in its parallel form, output = gain · (e + 1/T ∫ e dt), with the integral held where the output
// is at its bound and would go further (conditional integration: K. J. Åström and T. Hägglund, Advanced PID Control, 2006,
// section 3.5). While something else decides, the integral follows what is really sent (tracking, ibid.), so that it takes
// over without a jump; but not where the output would be at the same bound anyway. At a bound, or without a difference, nothing
// changes by itself, and it is not looked at before something else does.
func (d *demand) regulate(e *Engine, x *controlled) (is control.Tri, to site.Amount) {
	of, target := d.of.value, d.target.value
	if !of.Known || !target.Known {
		d.At, d.moves = time.Time{}, false
		return control.Unknown, 0
	}
	was := d.DemandState
	step, limit := x.dec.Step, x.dec.Limit
	if step == control.Nothing { // after a restart it counts what decided before
		step, limit = x.Step, x.Limit
	}
	own := step == control.Demanding || step == control.Idle
	diff := target.Num - of.Num
	if d.cfg.Cools {
		diff = -diff
	}
	most := d.cfg.Most
	if most == 0 {
		most = 100
	}
	// The integral is put on at whole multiples of regulateEvery only, so that it does not depend on when else somebody looks.
	grid := e.now.Wall.Truncate(regulateEvery)
	if steps := int(grid.Sub(d.At) / regulateEvery); d.At.IsZero() || steps != 0 {
		switch {
		case d.At.IsZero() || d.cfg.IntegralMS == 0:
		case own && limit == control.NoLimit:
			for range min(max(steps, 0), 720) {
				d.Integral += d.step(most)
			}
		case x.Want != nil:
			bounded := func(out float64) float64 { return min(max(out, d.cfg.Least), most) }
			if sent := bounded(float64(*x.Want)); math.Abs(sent-bounded(d.cfg.Gain*diff+d.Integral)) >= 1 {
				d.Integral = sent - d.cfg.Gain*diff
			}
		}
		if d.At = grid; was.At.IsZero() || was.moves { // else what is different now counts from the next whole multiple on
			d.Diff = diff
		}
		if !own || limit != control.NoLimit { // nothing is put on for a time in which something else decided, also not after a restart
			d.Diff = 0
		}
	}
	to = d.level(x, d.cfg.Gain*diff+d.Integral)
	if was.At.IsZero() || d.Integral != was.Integral || d.Diff != was.Diff || d.Level != was.Level {
		e.keepDemands(x)
	}
	d.moves = !own || x.dec.Limit != control.NoLimit || d.Diff != diff || d.cfg.IntegralMS > 0 && d.step(most) != 0
	return tri(to > 0), to
}

// step is what is put on the integral next: nothing where the output is at a bound that it would go further beyond.
func (d *demand) step(most float64) float64 {
	out := d.cfg.Gain*d.Diff + d.Integral
	step := d.cfg.Gain * d.Diff * float64(regulateEvery) / float64(site.Millis(d.cfg.IntegralMS))
	middle := (most + d.cfg.Least) / 2
	if out+step <= most && out+step >= d.cfg.Least || math.Abs(out+step-middle) < math.Abs(out-middle) {
		return step
	}
	return 0
}
