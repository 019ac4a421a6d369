package engine

import (
	"slices"

	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/core/words"
)

// build makes everything that decides anew for a site. What remembers, as conditions, interlocks, windows, movers,
// demands, rules and alerts, goes on where it is still there. Long, because it is one list of all that is built, each
// part upon those before.
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
	oldAlarms := e.liveAlerts
	e.liveAlerts, e.alerted = map[string]*liveAlert{}, queue[*liveAlert]{}
	e.queued, e.judged, e.locked, e.marked, e.ruled = queue[*bound]{}, queue[*cond]{}, queue[*lock]{},
		queue[*controlled]{}, queue[*rule]{}

	for _, id := range sorted(e.site.Controls) {
		x, cfg := e.controls[id], e.site.Controls[id]
		was := x.deciding
		old[id] = was
		x.deciding = deciding{cfg: &cfg, auto: e.site.Automations[id], driven: was.driven, dec: was.dec, desires: was.desires,
			rank: was.rank, blocked: was.blocked}
		x.facts = control.Facts{Config: x.cfg, Auto: x.auto, SettledAt: was.facts.SettledAt}
		if was.auto.HasAuto() && !x.auto.HasAuto() && x.Mode == Auto {
			e.automationGone(x)
		}
		if !x.auto.HasAuto() {
			x.unkept = x.unkept || x.Mode != NoMode
			x.Mode = NoMode
		} else if x.Mode == NoMode {
			x.Mode = Auto
			if e.ready {
				x.Hand, x.unkept = nil, true
			}
		}
	}
	for _, id := range sorted(e.site.Controls) {
		x := e.controls[id]
		x.unspent()
		if x.auto == nil {
			x.auto0(e)
			continue
		}
		e.buildAutomation(x, old[id])
	}
	for _, id := range sorted(e.site.Groups) {
		e.buildGroup(e.site.Groups[id])
	}
	for _, id := range sorted(e.site.Rules) {
		e.buildRule(id, oldRules[id])
	}
	e.rely()
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
	for _, key := range sorted(e.oldConds) {
		if c := e.oldConds[key]; e.conds[key] == nil && c.keeps() {
			e.emit(Keep{Kind: keptCondition, ID: key}) // nothing asks for it any more
		}
	}
	e.oldConds, e.oldBounds, e.oldWindows = nil, nil, nil
	e.refresh(oldPoints)
}

// auto0 ends what only a control with automation has.
func (x *controlled) auto0(e *Engine) {
	if x.mover != nil {
		x.mover, x.Mover = nil, nil
	}
	if len(x.Locks) > 0 {
		x.Locks, x.Latched, x.unkept = nil, nil, true
	}
	if x.cfg.Momentary == nil && x.Pulse.Running {
		e.cutPulse(x, words.Of("pulse.plain"))
	}
	x.unproved()
}

// unproved forgets what became of a proof where none is asked for.
func (x *controlled) unproved() {
	if x.proof == nil && x.Proof != NoProof {
		x.Proof, x.ProofTries, x.proofWake, x.unkept = NoProof, 0, 0, true
	}
}

// unspent lets a control be told again that stayed off for a reason which its automation does not know any more.
func (x *controlled) unspent() {
	limits := x.auto != nil && x.auto.Limits.LongestOnMS > 0
	proves := x.auto != nil && x.auto.Proof != nil && x.auto.Proof.SwitchOff
	if x.Spent == control.LongestOn && !limits || x.Spent == control.NoEffect && !proves {
		x.Spent, x.unkept = control.NoLimit, true
	}
}

// rely notes which signals automation uses: their interval is fixed, so that a sensor that fails slowly is missed.
func (e *Engine) rely() {
	for id, s := range e.signals {
		p := e.points[id]
		s.relied = p != nil && len(p.users) > 0
	}
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
		e.queue(b)
	}
	for _, id := range sorted(e.site.Controls) {
		e.mark(e.controls[id])
	}
}

func (e *Engine) buildAutomation(x *controlled, old deciding) {
	a := x.auto
	for i := range a.Interlocks {
		e.buildLock(x, &a.Interlocks[i], old.interlocks)
	}
	e.keepLocks(x)
	for _, p := range a.Permits {
		c := e.condition(p.Condition)
		c.controls = append(c.controls, x)
		x.permits = append(x.permits, c)
	}
	for i := range a.Demands {
		d := e.buildDemand(x, &a.Demands[i])
		if j := slices.IndexFunc(old.demands, func(o *demand) bool { return o.key() == d.key() }); j >= 0 {
			d.DemandState = old.demands[j].DemandState
		}
		x.demands = append(x.demands, d)
	}
	x.facts.Interlocks, x.facts.Permits = make([]control.Tri, len(x.interlocks)), make([]control.Tri, len(x.permits))
	x.facts.Demands = make([]control.Demanded, len(x.demands))
	if a.Proof != nil {
		x.proof = e.condition(site.Condition{When: a.Proof.When})
		x.proof.controls = append(x.proof.controls, x)
	} else {
		x.unproved()
	}
	if a.Travel != nil {
		e.buildMover(x)
	} else if x.mover != nil {
		x.mover, x.Mover = nil, nil
	}
}
