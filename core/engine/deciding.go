package engine

import (
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/site"
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
	again     bool   // what is wanted is sent once more, though it is the same
	reported  bool   // the device itself brought about what is decided next
	shown     bool   // what was decided was told
	ran       bool   // it was on before
	told      string // the reason that the decision gave
	pulseWake uint64
	proofWake uint64
	deciding
}

// deciding is what is made anew with every site.
type deciding struct {
	auto       *site.Automation
	cfg        *site.Control
	facts      control.Facts
	interlocks []*cond
	permits    []*cond
	demands    []*demand
	proof      *cond
	groups     []*group
	mover      *mover      // it is a mover
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

// build makes everything that decides anew for a site. States of conditions and windows are kept where they are the same.
func (e *Engine) build() {
	e.oldConds, e.oldBounds, e.oldWindows = e.conds, e.bounds, map[formula.Need]*window{}
	oldPoints := e.points
	for _, p := range oldPoints {
		for _, w := range p.windows {
			e.oldWindows[w.need] = w
		}
	}
	oldRules := e.rules
	old := map[string]deciding{}
	e.points, e.bounds, e.order, e.conds = map[string]*point{}, map[string]*bound{}, nil, map[string]*cond{}
	e.rules = map[string]*rule{}
	oldAlarms := e.alarms
	e.alarms, e.alarmed = map[string]*alarm{}, queue[*alarm]{}
	e.queued, e.judged, e.marked, e.ruled = queue[*bound]{}, queue[*cond]{}, queue[*controlled]{}, queue[*rule]{}

	for _, id := range sorted(e.site.Controls) {
		x, cfg := e.controls[id], e.site.Controls[id]
		was := x.deciding
		old[id] = was
		x.deciding = deciding{cfg: &cfg, auto: e.site.Automations[id], driven: was.driven, dec: was.dec}
		x.facts = control.Facts{Config: x.cfg, Auto: x.auto, SettledAt: was.facts.SettledAt}
		if was.auto.HasAuto() && !x.auto.HasAuto() && x.Mode == Auto {
			e.automationGone(x)
		}
		if !x.auto.HasAuto() {
			x.Mode = NoMode
		} else if x.Mode == NoMode {
			x.Mode = Auto
			if e.ready {
				x.Hand = nil
			}
		}
	}
	for _, id := range sorted(e.site.Automations) {
		if x := e.controls[id]; x != nil {
			e.buildAutomation(x, old[id].demands)
		}
	}
	for _, id := range sorted(e.site.Groups) {
		e.buildGroup(e.site.Groups[id])
	}
	for _, id := range sorted(e.site.Rules) {
		e.buildRule(id, oldRules[id])
	}
	e.buildAlerts(oldAlarms)
	for _, id := range sorted(e.site.Settings) {
		if e.settings[id] == nil {
			e.settings[id] = &setting{SettingState: SettingState{ID: id, Value: e.site.Settings[id].Default}}
		}
	}
	for id := range e.settings {
		if _, ok := e.site.Settings[id]; !ok {
			delete(e.settings, id)
		}
	}
	e.oldConds, e.oldBounds, e.oldWindows = nil, nil, nil
	e.refresh(oldPoints)
}

// refresh gives all points their values and has everything looked at.
func (e *Engine) refresh(old map[string]*point) {
	for id, s := range e.signals {
		s.point = e.points[id]
		p := s.point
		if p == nil {
			continue
		}
		if o := old[id]; o != nil {
			p.value, p.doubt, p.heard, p.ever = o.value, o.doubt, o.heard, o.ever
		} else if s.Fresh == Live && s.Quality == 0 {
			p.value, p.heard, p.ever = valueOf(s.Value), s.heard, true
		}
	}
	for _, id := range sorted(e.site.Controls) {
		e.controlPoints(e.controls[id])
	}
	for _, id := range sorted(e.site.Settings) {
		e.settingPoint(e.settings[id])
	}
	e.refreshStates()
	for _, b := range e.order {
		b.judged = false
		e.queue(b)
	}
	for _, id := range sorted(e.site.Controls) {
		e.mark(e.controls[id])
	}
}

func (e *Engine) buildAutomation(x *controlled, old []*demand) {
	a := x.auto
	for _, l := range a.Interlocks {
		c := e.condition(l.Condition, true)
		c.controls = append(c.controls, x)
		x.interlocks = append(x.interlocks, c)
	}
	for _, p := range a.Permits {
		c := e.condition(p.Condition, false)
		c.controls = append(c.controls, x)
		x.permits = append(x.permits, c)
	}
	for i := range a.Demands {
		d := e.buildDemand(x, &a.Demands[i])
		if i < len(old) && old[i].key() == d.key() {
			d.DemandState = old[i].DemandState
		}
		x.demands = append(x.demands, d)
	}
	x.facts.Interlocks, x.facts.Permits = make([]control.Tri, len(x.interlocks)), make([]control.Tri, len(x.permits))
	x.facts.Demands = make([]control.Demanded, len(x.demands))
	if a.Proof != nil {
		x.proof = e.condition(site.Condition{When: a.Proof.When}, false)
		x.proof.controls = append(x.proof.controls, x)
	}
	if a.Travel != nil {
		e.buildMover(x)
	}
}

func (e *Engine) mark(x *controlled) {
	if x != nil && !x.marked {
		x.marked = true
		e.marked.push(x)
	}
}

// decide takes the decision on one control and carries it out.
func (e *Engine) decide(x *controlled) {
	if !e.site.Devices[x.cfg.Device].Active() {
		return
	}
	e.endHand(x)
	dec, next := e.consider(x)
	e.share(x, &dec)
	if x.Hand != nil && !x.HandUntil.IsZero() {
		next = sooner(next, e.mono(x.HandUntil))
	}
	next = sooner(next, dec.Next)
	if dec.Step == control.Waiting {
		next = sooner(next, e.grace)
	}
	if next > 0 && (x.wake == 0 || x.wakeAt != next) {
		x.wakeAt = next
		x.wake = e.wakeAt(next, wakeDecide, x.ID)
	}
	e.carryOut(x, dec)
}

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
	f.Hand, f.ByPreset = x.Hand, x.How == HowPreset
	if x.moves != nil {
		f.Hand, f.ByPreset = &x.driven, false
	}
	f.Last, f.OnSince, f.OffSince, f.RestUntil = x.Want, x.onSince, x.offSince, x.restUntil
	f.Grace = e.now.Mono < e.grace
	for i, l := range x.interlocks {
		f.Interlocks[i] = l.Is
		if x.auto.Interlocks[i].Latch && l.Is != control.False {
			x.latch(x.auto.Interlocks[i].Name)
		}
		if x.latched(x.auto.Interlocks[i].Name) {
			f.Interlocks[i] = control.True
		}
	}
	for i, p := range x.permits {
		f.Permits[i] = p.Is
	}
	for i, d := range x.demands {
		var at time.Duration
		f.Demands[i], at = d.demanded(e, x)
		next = sooner(next, at)
	}
	dec = control.Decide(f)
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
		x.wake = 0
		e.mark(x)
	}
}

// mono is when a wall time comes. Because a clock can be set, nobody waits for it longer than a minute at once.
func (e *Engine) mono(wall time.Time) time.Duration {
	return e.now.Mono + min(max(wall.Sub(e.now.Wall), 0), time.Minute)
}

// endHand goes back to auto where the time by hand is over.
func (e *Engine) endHand(x *controlled) {
	if x.Hand == nil || x.HandUntil.IsZero() || e.now.Wall.Before(x.HandUntil) {
		return
	}
	was := *x.Hand
	x.Hand, x.HandUntil, x.How, x.Held = nil, time.Time{}, HowPerson, nil
	if x.auto.HasAuto() {
		x.Mode = Auto
		e.emit(Journal{Actor: access.HubActor(), Action: "auto", Object: x.ID, Before: x.cfg.Say(was), After: "auto", Reason: "the time by hand is over"})
		return
	}
	safe := x.cfg.Safe
	x.Hand = &safe
	e.emit(Journal{Actor: access.HubActor(), Action: "switch", Object: x.ID, Before: x.cfg.Say(was), After: x.cfg.Say(safe), Reason: "the time by hand is over"})
}

// carryOut makes a decision the want where that is new, and tells what changed.
func (e *Engine) carryOut(x *controlled, dec control.Decision) {
	was := x.dec
	x.dec = dec
	if x.mover != nil && e.place(x) && !dec.Has {
		e.emit(ControlChanged{x.ControlState})
	}
	if !dec.Has {
		if x.Service == control.OutSilent && x.Want != nil {
			e.withdraw(Withdraw{Control: x.ID})
		}
		return
	}
	if dec.Rests {
		x.restUntil = e.now.Mono + site.Millis(x.auto.Limits.RestMS)
		x.RestUntil = e.now.Wall.Add(site.Millis(x.auto.Limits.RestMS))
	}
	if x.mover != nil {
		e.move(x, dec.Value)
		return
	}
	e.checkProof(x)
	if x.Want != nil && *x.Want == dec.Value && !x.again {
		if !x.shown || dec.Step != was.Step || dec.Index != was.Index || dec.Limit != was.Limit {
			x.shown = true
			x.Step, x.Reason = dec.Step, e.reason(x)
			x.told = x.Reason
			e.emit(ControlChanged{x.ControlState})
		}
		return
	}
	again := x.again
	x.again, x.shown = false, true
	before := wanted(x)
	by := access.HubActor()
	if dec.Step == control.ByHand && x.moves == nil {
		by = x.HandBy
	}
	e.want(x, dec.Value, by)
	x.Step, x.Reason = dec.Step, e.reason(x)
	x.told = x.Reason
	if by.Kind == access.TheHub && before != x.cfg.Say(dec.Value) {
		e.emit(Journal{Actor: by, Action: "switch", Object: x.ID, Before: before, After: x.cfg.Say(dec.Value), Reason: x.Reason})
	}
	d := e.devices[x.cfg.Device]
	if !d.Online && dec.Step == control.ByHand && e.giveUpAfter(d, x, 0) {
		return // decided again, at once
	}
	if x.reported { // the device itself brought it about
		x.reported = false
		if x.Is != nil && same(x.cfg, *x.Is, dec.Value) {
			e.sendWant(x, false)
			if x.cfg.Answers {
				x.Phase, x.confirm = Confirmed, 0
				e.emit(ControlChanged{x.ControlState})
			}
			e.startProof(x)
			return
		}
	}
	e.sendWant(x, again)
	e.startConfirm(x)
	e.startProof(x)
}

// want changes what is wanted, and notes when it began to run or stopped.
func (e *Engine) want(x *controlled, a site.Amount, by access.Actor) {
	ran := x.Want != nil && *x.Want > 0
	if runs := a > 0; runs != ran || x.Want == nil {
		if runs {
			x.onSince, x.RunAt = e.now.Mono, e.now.Wall
			e.begin(x)
			x.ran = true
			e.mark(x) // its limits begin to count
		} else {
			x.offSince, x.StopAt = e.now.Mono, e.now.Wall
			if ran {
				x.RanMS += max(0, (e.now.Mono - x.onSince).Milliseconds())
			}
		}
		e.shared(x)
	}
	if x.Want != nil && *x.Want != a && (x.Phase == Pending || x.Phase == Unconfirmed || e.now.Mono < x.unsure) {
		x.unsure = e.now.Mono + e.confirmWithin(*x.cfg) // the one before was not answered yet
	}
	x.Want, x.WantBy, x.WantAt = &a, by, e.now.Wall
	x.Tries = 0
	x.Rev++
	e.controlPoints(x)
}

// controlPoints gives the points of a control their values.
func (e *Engine) controlPoints(x *controlled) {
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
	x.Hand, x.HandBy, x.HandAt, x.HandUntil, x.How = &safe, access.HubActor(), e.now.Wall, time.Time{}, HowPerson
}

func sorted[T any](m map[string]T) []string {
	ids := make([]string, 0, len(m))
	for id := range m {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

func (x *controlled) latch(name string) {
	if !x.latched(name) {
		x.Latched = append(x.Latched, name)
	}
}

func (x *controlled) latched(name string) bool { return slices.Contains(x.Latched, name) }

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
		return a-b <= 1 && b-a <= 1
	}
	return a == b
}
