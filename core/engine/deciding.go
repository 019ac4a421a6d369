package engine

import (
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/core/words"
)

// Mode says whether the hub or a person decides of a control that has automation.
type Mode string

// The modes; a control without automation has none.
const (
	NoMode Mode = ""
	Auto   Mode = "auto"
	Manual Mode = "manual"
)

// How says where a value by hand came from.
type How string

// The ways of a value by hand.
const (
	HowPerson How = ""
	HowPreset How = "preset"
	HowRule   How = "rule"
	HowDevice How = "device" // switched at the device and followed
	HowAway   How = "away"   // the safe value after an absence
)

// shortGrace is how long after a start auto leaves things as they are where it does not know everything yet.
const shortGrace = time.Minute

// controlled is what the engine needs to decide of one control.
type controlled struct {
	ControlState
	session   string        // that its last report came through; a change counts as made by hand only within one session
	confirm   uint64        // the wake that ends its confirm time or sends again
	unsure    time.Duration // until then what the device says may answer an older want
	onSince   time.Duration
	offSince  time.Duration
	restUntil time.Duration
	starts    []time.Duration // when it was last switched on
	again     bool            // what is wanted is sent once more, though it is the same
	reported  bool            // the device itself brought about what is decided next
	shown     bool            // what was decided was told
	unkept    bool            // its state changed, and was not kept yet
	ran       bool            // it was on before
	unseen    bool            // formulas do not know yet what is wanted of it
	returns   bool            // its device is back, and has not said yet what it is
	leaving   bool            // it is being taken away
	gone      bool            // it was: nothing is decided of it before it is there again
	stays     bool            // and what an interlock forces stays
	grace     time.Duration   // until then what is not known after a start leaves it as it is
	told      words.Fact      // the reason that the decision gave
	sent      sent
	pulseWake uint64
	proofWake uint64
	offWake   uint64
	doing     doing
	mover     *mover // it is a mover
	deciding
}

// deciding is what is made anew with every site.
type deciding struct {
	auto       *site.Automation
	cfg        *site.Control
	facts      control.Facts
	interlocks []*lock
	permits    []*cond
	demands    []*demand
	proof      *cond
	groups     []*group
	moves      *controlled // the mover that drives it
	driven     site.Amount // as its mover wants it
	dec        control.Decision
	desires    bool // it would be on, were it not for its groups
	rank       int
	blocked    string // the control of its group that keeps it off
	marked     bool
	wake       uint64
	wakeAt     time.Duration
}

func (e *Engine) mark(x *controlled) {
	if x != nil && !x.marked {
		x.marked = true
		e.marked.push(x)
	}
}

// decide takes the decision on one control and carries it out.
func (e *Engine) decide(x *controlled) {
	if x.gone || !e.site.Devices[x.cfg.Device].Active() { // what people do with it is kept all the same
		if x.unkept {
			e.show(x)
		}
		return
	}
	if e.enough(x) {
		return
	}
	e.endHand(x)
	if e.stray(x) {
		e.follow(x, *x.Is, is(x), words.Of("want.stray"))
	}
	dec, next := e.consider(x)
	e.share(x, &dec)
	if x.mover != nil {
		e.stay(x, &dec)
	}
	e.pace(x, &dec)
	if x.Hand != nil && !x.HandUntil.IsZero() {
		next = sooner(next, e.mono(x.HandUntil))
	}
	next = sooner(next, dec.Next)
	if dec.Step == control.Waiting {
		next = sooner(next, x.grace)
	}
	if next > 0 && x.wakeAt != next {
		x.wakeAt = next
		x.wake = e.wakeAt(next, wakeDecide, x.ID)
	}
	x.unkept = e.remind(x, dec) || x.unkept
	e.carryOut(x, dec)
	if x.unseen {
		e.controlPoints(x)
	}
	if x.unkept {
		e.show(x)
	}
}

// show has the state of a control kept and shown as it is now.
func (e *Engine) show(x *controlled) {
	x.unkept = false
	e.emit(ControlChanged{x.snapshot()})
	e.mark(x.moves) // how far a mover came depends on its outputs
}

// snapshot is the state of a control as it leaves the engine: nothing in it changes any more.
func (x *controlled) snapshot() ControlState {
	s := x.ControlState
	if s.Mover != nil {
		m := *s.Mover
		s.Mover = &m
	}
	return s
}

// remind notes what the decision leaves behind beside the want, and reports whether that changed.
func (e *Engine) remind(x *controlled, dec control.Decision) bool {
	floor := ""
	if dec.Blind {
		floor = floorBlind
	}
	changed := x.Limit != dec.Limit || x.Floor != floor
	x.Limit, x.Floor = dec.Limit, floor
	if dec.Value == 0 && dec.Asked == 0 && x.Spent == control.NoEffect && x.Mode == Auto {
		x.Spent = control.NoLimit // what asked for it is over
	}
	return changed
}

// floorBlind is what the floor of a control is called while its sensor is unknown.
const floorBlind = "blind"

// sooner is the earlier of two times, of which 0 is never.
func sooner(a, b time.Duration) time.Duration {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}

// consider takes the decision on one control by itself, and says when a demand wants to be looked at again.
func (e *Engine) consider(x *controlled) (dec control.Decision, next time.Duration) {
	f := &x.facts
	f.Now, f.Service = e.now.Mono, x.Service
	f.Leaving, f.Stays = x.leaving, x.stays
	f.Hand, f.ByPreset = x.Hand, x.How == HowPreset
	if x.moves != nil {
		f.Hand, f.ByPreset = &x.driven, false
	}
	f.Last, f.OnSince, f.OffSince, f.RestUntil = x.Want, x.onSince, x.offSince, x.restUntil
	f.Used, f.Starts, f.Spent = site.Millis(x.UsedMS), x.starts, x.Spent
	f.Grace = e.now.Mono < x.grace
	for i, l := range x.interlocks {
		f.Interlocks[i] = l.force()
	}
	next = e.eases(x)
	f.DampedUntil, f.DampedTo, f.DampedForced = x.doing.until, x.doing.to, x.doing.forced
	for i, p := range x.permits {
		f.Permits[i] = p.Is
	}
	for i, d := range x.demands {
		var at time.Duration
		f.Demands[i], at = d.kind.demanded(e, x, d)
		next = sooner(next, at)
	}
	dec = control.Decide(f)
	knew, lost := x.Knew, x.Lost
	defer func() { x.unkept = x.unkept || x.Knew != knew || x.Lost != lost }()
	switch dec.Step {
	case control.FellBack:
		x.Lost = x.Knew
	case control.Demanding, control.Idle, control.NotAllowed:
		if x.Lost { // what was unknown is back: it must stay for a while before it counts
			x.Lost, x.SettledAt = false, e.now.Wall.Add(x.auto.Settle())
			f.SettledAt = e.now.Mono + x.auto.Settle()
			dec = control.Decide(f)
		}
		x.Knew = true
	}
	return dec, next
}

func (e *Engine) decideDue(w wake) {
	if x := e.controls[w.id]; x != nil && x.wake == w.seq {
		e.mark(x)
	}
}

// mono is when a wall time comes. Because a clock can be set, nobody waits for it longer than a minute at once.
func (e *Engine) mono(wall time.Time) time.Duration {
	return e.now.Mono + min(max(wall.Sub(e.now.Wall), 0), time.Minute)
}

// endHand goes back to auto where the time by hand is over; without automation to what was before, where a preset set
// it, else to the safe value.
func (e *Engine) endHand(x *controlled) {
	if x.Hand == nil || x.HandUntil.IsZero() || e.now.Wall.Before(x.HandUntil) {
		return
	}
	was := *x.Hand
	x.unkept = true
	x.Hand, x.HandUntil, x.How, x.Held, x.Spent = nil, time.Time{}, HowPerson, nil, control.NoLimit
	if x.auto.HasAuto() {
		x.Mode, x.Before = Auto, nil
		if x.Mover != nil {
			x.Mover.Stayed = nil // what auto comes to is new
		}
		e.emit(Journal{Actor: access.HubActor(), Action: "auto", Object: x.ID, Before: x.cfg.Say(was), After: "auto",
			Reason: words.Of("want.over")})
		return
	}
	back := x.afterHand()
	x.Hand, x.HandBy, x.Before = &back, access.HubActor(), nil
	e.emit(Journal{Actor: access.HubActor(), Action: "switch", Object: x.ID, Before: x.cfg.Say(was),
		After: x.cfg.Say(back), Reason: words.Of("want.over")})
}

// stray reports whether a control is on that nobody wants to be anything, as after a lock or a start of its board, and
// that must not be on for longer than its owner allows.
func (e *Engine) stray(x *controlled) bool {
	return x.Want == nil && x.Hand == nil && x.Is != nil && *x.Is > 0 && x.Service == control.InService && !x.leaving &&
		x.mover == nil && x.moves == nil && x.cfg.Momentary == nil && !x.auto.HasAuto() && x.auto != nil &&
		x.auto.Limits.LongestOnMS > 0 &&
		e.devices[x.cfg.Device].Online
}

// carryPulse lets a decision end the pulses of a momentary control.
func (e *Engine) carryPulse(x *controlled, dec control.Decision) {
	if x.Pulse.Running && (x.Service != control.InService || dec.Step == control.Interlocked ||
		dec.Step == control.Leaving) {
		e.cutPulse(x, e.reason(x))
	}
	if x.lingers() && x.Pulse.Offs == 0 && (x.Service == control.OutAndSafe || dec.Step == control.Leaving ||
		dec.Step == control.Interlocked && dec.Value == 0) {
		e.offAgain(x)
	}
	e.checkProof(x)
}

// carryOut makes a decision the want where that is new, and tells what changed.
func (e *Engine) carryOut(x *controlled, dec control.Decision) {
	was := x.dec
	x.dec = dec
	if x.cfg.Momentary != nil {
		e.carryPulse(x, dec)
		return
	}
	if x.mover != nil {
		if e.place(x) {
			x.unkept = true
		}
		if x.Service != control.InService || dec.Step == control.Leaving {
			e.halt(x)
			if dec.Has {
				x.Step, x.Reason = dec.Step, e.reason(x)
			}
			return
		}
	}
	if !dec.Has {
		if x.Service == control.OutSilent && x.Want != nil {
			e.takeBack(x)
		}
		return
	}
	if dec.Rests {
		rest := x.auto.Limits.Rest()
		x.restUntil = e.now.Mono + rest
		x.RestUntil = e.now.Wall.Add(rest)
		if dec.Step == control.ByHand {
			x.Spent = control.LongestOn
		}
	}
	if x.mover != nil {
		e.move(x, dec.Value)
		return
	}
	e.checkProof(x)
	e.switchTo(x, dec, was)
}

// switchTo sends a decision where it is new. was is the one before. Long, because it is one decision in its order,
// and each case names the next.
func (e *Engine) switchTo(x *controlled, dec, was control.Decision) {
	if x.Want != nil && *x.Want == dec.Value && !x.again {
		if !x.shown || dec.Step != was.Step || dec.Index != was.Index || dec.Limit != was.Limit {
			x.shown = true
			x.Step, x.Reason = dec.Step, e.reason(x)
			x.told = x.Reason
			x.unkept = true
		}
		return
	}
	if x.returns && x.Want != nil && *x.Want == dec.Value {
		return // its device is back, and says what it is before anything is sent
	}
	if x.Want != nil && *x.Want != dec.Value && e.chatters(x, dec) {
		return // decided again, at once
	}
	again := x.again
	x.again, x.shown = false, true
	before := wanted(x)
	// its history tells how a level follows
	steps := x.cfg.What() == site.Level && x.Want != nil && *x.Want > 0 && dec.Value > 0 && dec.Step == was.Step
	by := access.HubActor()
	if dec.Step == control.ByHand && x.moves == nil {
		by = x.HandBy
	}
	e.want(x, dec.Value, by)
	x.Step, x.Reason = dec.Step, e.reason(x)
	x.told = x.Reason
	if by.Kind == access.TheHub && before != x.cfg.Say(dec.Value) && !steps {
		e.emit(Journal{Actor: by, Action: "switch", Object: x.ID, Before: before, After: x.cfg.Say(dec.Value),
			Reason: x.Reason})
	}
	d := e.devices[x.cfg.Device]
	if !d.Online && dec.Step == control.ByHand && e.giveUpAfter(d, x, 0) {
		return // decided again, at once
	}
	if x.reported && e.broughtAbout(x, dec.Value) {
		return
	}
	e.sendWant(x, again)
	e.startConfirm(x)
	e.startProof(x)
}

// broughtAbout confirms what the device itself did, where that is what is wanted.
func (e *Engine) broughtAbout(x *controlled, want site.Amount) bool {
	x.reported = false
	if x.Is == nil || !same(x.cfg, *x.Is, want) {
		return false
	}
	e.sendWant(x, false)
	if x.cfg.Answers {
		x.Phase, x.confirm = Confirmed, 0
		x.unkept = true
	}
	e.startProof(x)
	return true
}

// startsKept is how many starts of a control are remembered.
const startsKept = 61

// Started is how often a control was switched on within the last hour.
func (e *Engine) Started(id string) (n int) {
	x := e.controls[id]
	if x == nil {
		return 0
	}
	for _, at := range x.starts {
		if e.now.Mono-at < time.Hour {
			n++
		}
	}
	return n
}

// want changes what is wanted, and notes when it began to run or stopped. Formulas see it once the control is decided.
func (e *Engine) want(x *controlled, a site.Amount, by access.Actor) {
	ran := x.Want != nil && *x.Want > 0
	if runs := a > 0; runs != ran || x.Want == nil {
		if runs {
			if x.ran && x.auto != nil && e.now.Mono-x.offSince >= x.auto.Limits.Rest() || !x.ran {
				x.UsedMS = 0
			}
			x.onSince, x.RunAt = e.now.Mono, e.now.Wall
			e.begin(x)
			x.ran = true
			x.starts = append(x.starts, x.onSince)
			x.starts = x.starts[max(0, len(x.starts)-startsKept):]
			if x.auto != nil && x.auto.Limits.StartsAnHour > 0 {
				x.Starts = append(slices.Clone(x.Starts), e.now.Wall)
				x.Starts = x.Starts[max(0, len(x.Starts)-x.auto.Limits.StartsAnHour-1):]
			}
			e.mark(x) // its limits begin to count
		} else {
			x.offSince, x.StopAt = e.now.Mono, e.now.Wall
			if ran {
				run := max(0, (e.now.Mono - x.onSince).Milliseconds())
				x.RanMS += run
				x.UsedMS += run
			}
		}
		e.shared(x)
	}
	if x.Want != nil && *x.Want != a && (x.Phase == Pending || x.Phase == Unconfirmed || e.now.Mono < x.unsure) {
		x.unsure = e.now.Mono + e.confirmWithin(*x.cfg) // the one before was not answered yet
	}
	x.MayRun, x.offWake = x.MayRun || a > 0, 0
	x.returns = false
	x.Want, x.WantBy, x.WantAt = &a, by, e.now.Wall
	x.Tries = 0
	x.Rev++
	x.unseen = true
}

// controlPoints gives the points of a control their values.
func (e *Engine) controlPoints(x *controlled) {
	x.unseen = false
	cfg := e.site.Controls[x.ID]
	give := func(what string, a *site.Amount) {
		p := e.points[x.ID+"."+what]
		if p == nil {
			return
		}
		if a == nil {
			e.set(p, formula.Unknown)
			return
		}
		if v := amountValue(cfg, *a); v != p.value {
			p.ever, p.heard = true, e.now.Mono
			e.set(p, v)
			if v.Kind != site.Text {
				e.sample(p, e.now.Wall, v.Num)
			}
		}
	}
	give("is", x.Is)
	give("want", x.Want)
	if p := e.points[x.ID+".mode"]; p != nil {
		e.set(p, formula.Text(string(x.Mode)))
	}
}

// automationGone ends auto for good: the safe value, until somebody wants something else.
func (e *Engine) automationGone(x *controlled) {
	safe := x.cfg.Safe
	x.Hand, x.HandBy, x.HandAt, x.HandUntil, x.How, x.unkept = &safe, access.HubActor(), e.now.Wall, time.Time{},
		HowPerson, true
}

func sorted[T any](m map[string]T) []string {
	ids := make([]string, 0, len(m))
	for id := range m {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// amountValue is what a formula sees of a control.
func amountValue(cfg site.Control, a site.Amount) formula.Value {
	switch cfg.What() {
	case site.Switch:
		return formula.Bool(a != 0)
	case site.Level:
		return formula.Number(float64(a))
	}
	return formula.Text(cfg.Say(a))
}

// same reports whether what a device says is what was wanted: a level may be off by its rounding.
func same(cfg *site.Control, a, b site.Amount) bool {
	if cfg.What() == site.Level {
		return a-b <= 1 && b-a <= 1 && (a > 0) == (b > 0)
	}
	return a == b
}
