package engine

import (
	"cmp"
	"slices"
	"time"

	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
)

// restore takes the state that the store kept. Nobody is connected yet: what was live when the hub went away still
// counts as long as it would have, and for a while everybody may come back before they are taken for lost. Long,
// because it is one list of all that is kept.
func (e *Engine) restore(in Restored) {
	trusted := e.now.Trusted
	e.now.Trusted = trusted && !in.Doubted // by what was stamped then nobody can tell how long anything is ago
	defer func() { e.now.Trusted = trusted }()
	if !in.Alive.IsZero() {
		e.grace = e.now.Mono + e.graceFor(in.Signals)
		e.wakeAt(e.grace, wakeGrace, "")
	}
	for _, s := range in.Signals {
		if have := e.signals[s.ID]; have != nil {
			e.restoreSignal(have, s)
		}
	}
	for _, d := range in.Devices {
		have := e.devices[d.ID]
		if have == nil {
			continue
		}
		if d.Online || d.Since.IsZero() {
			d.Since = in.Alive
		}
		d.Online = false
		have.DeviceState = d
	}
	for _, g := range in.Settings {
		if have := e.settings[g.ID]; have != nil {
			have.SettingState = g
		}
	}
	for key, c := range in.Conditions {
		if have := e.conds[key]; have != nil {
			e.restoreCond(have, c)
		}
	}
	for _, r := range in.Rules {
		if have := e.rules[r.ID]; have != nil {
			e.restoreRule(have, r)
		}
	}
	for _, a := range in.Alerts {
		if have := e.liveAlerts[a.ID]; have != nil {
			have.State = a
		}
	}
	for _, id := range sorted(e.controls) {
		x := e.controls[id]
		if x.grace = 0; !in.Alive.IsZero() {
			x.grace = e.now.Mono + e.graceOf(x)
		}
	}
	e.restoreDemands(in)
	kept := slices.Clone(in.Controls)
	slices.SortFunc(kept, func(a, b ControlState) int { return cmp.Compare(a.ID, b.ID) })
	for _, c := range kept {
		if have := e.controls[c.ID]; have != nil {
			e.restoreControl(have, c, in)
		}
	}
	e.now.Trusted = trusted
	e.refresh(e.points)
}

func (e *Engine) restoreDemands(in Restored) {
	take := func(control string, list []DemandState) {
		if x := e.controls[control]; x != nil {
			for _, d := range x.demands {
				d.recall(list)
			}
		}
	}
	own := map[string]bool{}
	for _, d := range in.Demands {
		own[d.Control] = true
		take(d.Control, d.Demands)
	}
	for _, c := range in.Controls { // as versions before kept it
		if x := e.controls[c.ID]; x != nil && !own[c.ID] && c.Demands != nil {
			take(c.ID, c.Demands)
			e.keepDemands(x)
		}
	}
}

// graceFor is how long after a start what is not known leaves things as they are: three intervals of the slowest signal
// that a formula names.
func (e *Engine) graceFor(signals []SignalState) time.Duration {
	grace := shortGrace
	for _, s := range signals {
		if p := e.points[s.ID]; p != nil {
			if cfg := e.site.Signals[s.ID]; cfg.IntervalMS > 0 {
				s.Interval = cfg.Interval()
			}
			grace = max(grace, min(3*s.Interval, longestGrace))
		}
	}
	return grace
}

func (e *Engine) restoreSignal(have *signal, s SignalState) {
	have.SignalState = s
	cfg := e.site.Signals[s.ID]
	have.Fresh = Stale
	if cfg.Reports == site.OnChange || !s.Seen {
		have.Fresh = Unknown
	}
	if have.point = e.points[s.ID]; have.point == nil || !s.Seen {
		return
	}
	age := max(0, e.now.Wall.Sub(s.Heard))
	if !e.now.Trusted || !s.Seen || s.Quality != reading.Good || cfg.Reports == site.Periodic && age >= have.patience() ||
		cfg.Reports == site.OnChange && age >= site.Millis(cfg.AcceptMS) {
		return // what reports on change is unknown until its device has said it anew, or its owner accepts the kept value
	}
	have.heard, have.good = e.now.Mono-age, e.now.Mono-age
	have.point.ever, have.point.heard, have.point.value = true, have.heard, valueOf(s.Value)
	if cfg.Reports == site.Periodic {
		e.watch(have)
	}
}

func (e *Engine) restoreCond(have *cond, c CondState) {
	have.CondState = c
	if c.Pending != control.Unknown {
		wait := site.Millis(have.cfg.AfterMS)
		if c.Pending == control.False {
			wait = site.Millis(have.cfg.SettleMS)
		}
		if e.now.Trusted {
			wait -= max(0, min(wait, e.now.Wall.Sub(c.Since)))
		}
		have.due = e.now.Mono + wait
		have.wake = e.wakeAt(have.due, wakeCond, have.key)
	}
}

func (e *Engine) restoreControl(x *controlled, c ControlState, in Restored) {
	x.ControlState, x.Demands = c, nil
	if c.Locks == nil {
		e.carryOver(x, c, in.Conditions)
	} else {
		for _, l := range x.interlocks {
			l.restore(e, c.Locks)
		}
		e.keepLocks(x)
	}
	e.restoreTimes(x, c, in.Alive)
	x.restoreMode(c)
	if settle := c.SettledAt.Sub(e.now.Wall); settle > 0 && x.auto != nil {
		x.facts.SettledAt = e.now.Mono + min(settle, x.auto.Settle())
	}
	e.endPulse(x)
	if x.cfg.Momentary != nil && x.Pulse.ID != "" { // its last off may have been lost with what was not kept
		x.Pulse.Offs = 0
		e.watchOff(x)
	}
	e.restoreProof(x)
	if x.mover != nil {
		e.restoreMover(x)
		return
	}
	d := e.devices[x.cfg.Device]
	if x.Want == nil || d == nil {
		return
	}
	away := time.Duration(0) // with a clock that cannot be trusted the rest of the absence starts again in full
	if e.now.Trusted && !d.Since.IsZero() {
		away = max(0, e.now.Wall.Sub(d.Since))
	}
	e.giveUpAfter(d, x, away)
	x.again = true // still wanted: the links must know it before the device is back
}

// restoreTimes brings back how long a control was on and off, and what it rests and is damped for.
func (e *Engine) restoreTimes(x *controlled, c ControlState, alive time.Time) {
	ago := func(t time.Time) time.Duration {
		if t.IsZero() || !e.now.Trusted {
			return e.now.Mono
		}
		return e.now.Mono - max(0, e.now.Wall.Sub(t))
	}
	x.onSince, x.offSince, x.ran = ago(c.RunAt), ago(c.StopAt), !c.RunAt.IsZero()
	x.MayRun = c.MayRun || c.Want != nil && *c.Want > 0 || c.Is != nil && *c.Is > 0 || x.ran && c.Phase != Confirmed &&
		c.Phase != Sent && c.Phase != Idle ||
		// it ran when somebody took it out of service, and could not say that it stopped
		c.Want == nil && x.ran && !c.RunAt.Before(c.StopAt)
	for _, t := range c.Starts {
		x.starts = append(x.starts, ago(t))
	}
	x.unkept = true // what follows makes up for the time that it was away
	e.restoreRun(x, alive)
	if c.Damped != nil && c.Damped.Until.After(e.now.Wall) {
		x.doing.until = e.now.Mono + min(c.Damped.Until.Sub(e.now.Wall), c.Damped.For)
		x.doing.to, x.doing.forced, x.doing.holds = c.Damped.To, c.Damped.Forced, e.now.Mono
	}
	if !c.RestUntil.IsZero() && x.auto != nil {
		rest := x.auto.Limits.Rest()
		x.restUntil = e.now.Mono + rest
		if e.now.Trusted {
			x.restUntil = e.now.Mono + min(rest, c.RestUntil.Sub(e.now.Wall))
		}
	}
}

// restoreMode brings back whether a control is by hand.
func (x *controlled) restoreMode(c ControlState) {
	switch {
	case x.auto.HasAuto() && c.Mode == NoMode && c.Hand != nil:
		x.Mode = Manual
	case x.auto.HasAuto() && c.Mode == NoMode:
		x.Mode = Auto
	case !x.auto.HasAuto():
		x.Mode = NoMode
		// as versions before automation kept it
		if c.Hand == nil && c.Want != nil && c.Step == control.Nothing && c.RunAt.IsZero() && c.StopAt.IsZero() &&
			x.cfg.Momentary == nil {
			hand := *c.Want
			x.Hand, x.HandBy, x.HandAt = &hand, c.WantBy, c.WantAt
			if c.Held != nil {
				x.How = HowAway
			}
		}
	}
}

// restoreProof goes on waiting for the effect of a control.
func (e *Engine) restoreProof(x *controlled) {
	x.unproved()
	if x.Proof == ProofWaiting {
		if x.cfg.Momentary != nil { // after a restart no pulse is sent again
			x.ProofTries = x.auto.Proof.Retries
		}
		x.proofWake = e.wakeAt(e.now.Mono+site.Millis(x.auto.Proof.WithinMS), wakeProof, x.ID)
	}
}

// restoreRun ends the run of an output that fell back by itself when the hub was gone: its board has a lease. One whose
// board has none goes on counting as on.
func (e *Engine) restoreRun(x *controlled, alive time.Time) {
	lease := e.site.Devices[x.cfg.Device].Lease()
	if x.Want == nil || *x.Want == 0 || alive.IsZero() || lease == 0 && e.now.Trusted {
		return
	}
	if !e.now.Trusted { // how long it is ago nobody knows; for so long at least it was on
		run := alive.Sub(x.RunAt)
		x.RanMS += max(0, run).Milliseconds()
		if run < 0 && x.auto != nil { // not even that is known
			run = site.Millis(x.auto.Limits.LongestOnMS)
		}
		x.UsedMS += max(0, run).Milliseconds()
		x.RunAt, x.onSince = e.now.Wall, e.now.Mono
		return
	}
	fell := alive.Add(lease)
	if !fell.Before(e.now.Wall) || x.auto == nil || !fell.After(x.RunAt) {
		return
	}
	run := fell.Sub(x.RunAt)
	if e.now.Wall.Sub(fell) >= x.auto.Limits.Rest() {
		x.UsedMS = 0
	} else {
		x.UsedMS += run.Milliseconds()
	}
	x.RanMS += run.Milliseconds()
	x.RunAt, x.StopAt = e.now.Wall, fell
	x.onSince, x.offSince = e.now.Mono, e.now.Mono-e.now.Wall.Sub(fell)
}

// restoreMover takes a mover back: nobody saw what it did meanwhile, and nothing moves before something is decided
// afresh.
func (e *Engine) restoreMover(x *controlled) {
	if x.Mover == nil {
		x.Mover = &MoverState{Goal: site.Stop}
	}
	if x.Mover.Moving {
		x.Phase = Pending
	}
	s := *x.Mover
	s.Moving = false
	x.Mover, x.mover.quiet = &s, true
}

// graceOf is how long after a start what is not known leaves a control as it is: three intervals of the slowest of its
// own inputs, and not for long where it is dangerous.
func (e *Engine) graceOf(x *controlled) time.Duration {
	grace := shortGrace
	if x.auto == nil || x.cfg.Dangerous {
		return grace
	}
	named := func(points []*point) {
		for _, p := range points {
			grace = max(grace, min(3*e.Relied(p.id), longestGrace))
		}
	}
	x.auto.Formulas(func(_, text string, _ bool) {
		if b := e.bounds[text]; b != nil {
			named(b.points)
		}
	})
	for _, d := range x.demands {
		if d.cond != nil {
			named(d.cond.when.points)
		}
	}
	return grace
}

// longestGrace is the longest time after a start in which what is not known leaves things as they are.
const longestGrace = 5 * time.Minute

// graceDue ends the time after a start in which devices may come back.
func (e *Engine) graceDue() {
	for _, id := range sorted(e.site.Signals) {
		s, cfg := e.signals[id], e.site.Signals[id]
		if !e.devices[cfg.Device].Online && s.Fresh != Live {
			e.lose(s)
		}
	}
	for _, id := range sorted(e.controls) {
		e.mark(e.controls[id])
	}
	for _, id := range sorted(e.liveAlerts) {
		e.markAlert(e.liveAlerts[id])
	}
}
